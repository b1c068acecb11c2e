//! Texts made safe for the languages they are put into.

/// One word of a POSIX shell: in single quotes (POSIX.1-2024, section 2.2.2).
pub fn shell(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}

/// Text or attribute of an XML document (XML 1.0, section 2.4). What no document can hold is left out.
pub fn xml(text: &str) -> String {
    let allowed = |c: &char| matches!(c, '\t' | '\n' | '\r') || !c.is_control();
    quick_xml::escape::escape(text.chars().filter(allowed).collect::<String>()).into_owned()
}

/// A YAML scalar in double quotes (YAML 1.2, section 7.3.1): JSON's strings are such.
pub fn yaml(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// A whole document in YAML that readers of version 1.1 and 1.2 understand alike: what one of them would take for something
/// else (`no`, `10:20:30:40:50:59`, `0x1f`) stands in quotes.
pub fn yaml_document(value: &serde_json::Value) -> Result<String, serde_saphyr::ser::Error> {
    serde_saphyr::to_string_with_options(value, serde_saphyr::ser_options! { folded_wrap_chars: usize::MAX })
}

/// One word of a kickstart command: they are divided as a shell's are.
pub fn kickstart(text: &str) -> String {
    let plain =
        |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | ':' | '@' | '+' | ',');
    if !text.is_empty() && text.chars().all(plain) { text.into() } else { shell(text) }
}

/// A value of a preseed file: one line. A backslash at its end would join it to the next.
pub fn preseed(text: &str) -> Result<String, &'static str> {
    if text.contains(['\n', '\r']) || text.ends_with('\\') {
        return Err("a preseed value is one line, and does not end in a backslash");
    }
    Ok(text.into())
}

/// Several lines as one argument of `printf '%b'` (POSIX.1-2024, printf), on one line: Debian's installer joins lines that
/// end in a backslash with a blank between, strips their beginnings, and drops those that begin with `#`.
pub fn one_line(text: &str) -> String {
    let line = |line: &str| line.replace('\\', r"\\").replace('\'', r"\0047").replace('\t', r"\t");
    let lines: String = text.lines().map(|text| format!("{}\\n", line(text))).collect();
    format!("'{lines}'")
}

/// A text as a quoted here-document for a shell, written to `path`: no line of it can end the document, or mean
/// something to what reads the file around it.
pub fn here_document(text: &str, path: &str) -> String {
    let mut written = format!("sed 's/^|//' >{path} <<'END'\n");
    for line in text.lines() {
        written.push('|');
        written.push_str(line.trim_end_matches('\r'));
        written.push('\n');
    }
    written + "END\n"
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// What a real shell makes of it.
    fn run(script: &str) -> Vec<u8> {
        let output = std::process::Command::new("sh").args(["-c", script]).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        output.stdout
    }

    const HOSTILE: [&str; 7] = [
        "it's \"quoted\" `id` $HOME $(id)",
        "%s %b %end \\n \\0101 \\",
        "END\n|END\n%end\n",
        "tab\there",
        "Skerry Point – čaj ☕ <b>&amp;</b>",
        "- yaml: [x]\n# not a comment\n",
        "{{ name }} {% raw %}",
    ];

    #[test]
    fn a_shell_gives_back_what_was_put_in() {
        for text in HOSTILE {
            assert_eq!(run(&format!("printf '%s' {}", shell(text))), text.as_bytes(), "{text}");
            let whole = if text.ends_with('\n') { text.to_owned() } else { format!("{text}\n") };
            let line = one_line(text);
            assert!(!line.contains('\n'));
            assert_eq!(run(&format!("printf '%b' {line}")), whole.as_bytes(), "{text}");
            assert_eq!(run(&here_document(text, "/dev/stdout")), whole.as_bytes(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn markup_gives_back_what_was_put_in(text in "\\PC{0,40}") {
            let xml = xml(&text);
            prop_assert_eq!(quick_xml::escape::unescape(&xml).unwrap(), text.as_str());
            let read: String = serde_saphyr::from_str(&yaml(&text)).unwrap();
            prop_assert_eq!(read, text);
        }
    }
}
