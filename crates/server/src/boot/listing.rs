//! What a folder holds, as a page: installers that mirror a tree read it by its links.

use std::{collections::BTreeMap, fmt::Write};

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// What need not be encoded in a relative reference (RFC 3986, section 2.3).
const SAFE: &AsciiSet =
    &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b'/').remove(b'+');

/// The page of a folder: names, folders with a closing `/`, and sizes in bytes.
pub(super) fn page(title: &str, entries: &BTreeMap<String, Option<u64>>) -> String {
    let title = text(title);
    let mut page = format!("<!doctype html>\n<title>{title}</title>\n<h1>{title}</h1>\n<pre>\n");
    for (name, size) in entries {
        // `./` keeps a name with a colon from being taken for a scheme (RFC 3986, section 4.2).
        let href = utf8_percent_encode(name, SAFE);
        let size = size.map_or_else(String::new, |size| size.to_string());
        let _ = writeln!(page, "<a href=\"./{href}\">{}</a> {size}", text(name));
    }
    page.push_str("</pre>\n");
    page
}

fn text(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_links_and_nothing_else() {
        let entries = [("a<b> \"c\".udeb".to_owned(), Some(7)), ("dists/".to_owned(), None)].into();
        let page = page("x & y", &entries);
        assert!(
            page.contains("<a href=\"./a%3Cb%3E%20%22c%22.udeb\">a&lt;b&gt; &quot;c&quot;.udeb</a> 7\n"),
            "{page}"
        );
        assert!(
            page.contains("<a href=\"./dists/\">dists/</a>") && page.contains("<title>x &amp; y</title>"),
            "{page}"
        );
    }
}
