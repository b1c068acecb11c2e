//! Which part of a file is wanted (RFC 9110, sections 13 and 14).

use axum::http::{HeaderMap, header};

/// What of a file is wanted.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Wanted {
    /// All of it: also where the header is not understood (RFC 9110, section 14.2).
    Everything,
    /// From the first byte up to, not including, the last.
    Part(u64, u64),
    /// Nothing that is there.
    Nothing,
    /// Nothing: whoever asks has it already.
    Unchanged,
}

impl Wanted {
    /// What the headers of a request want of a file of that size, whose entity tag is `tag` (with its quotes).
    pub(super) fn of(headers: &HeaderMap, size: u64, tag: &str) -> Self {
        let get = |name| headers.get(name).and_then(|value| value.to_str().ok());
        // Lists of tags may be weak here (RFC 9110, section 13.1.2); for a part they must be the same (13.1.5).
        let has = |list: &str| {
            list.split(',')
                .any(|known| matches!(known.trim(), "*") || known.trim().trim_start_matches("W/") == tag)
        };
        if get(header::IF_NONE_MATCH).is_some_and(has) {
            return Self::Unchanged;
        }
        match (get(header::RANGE), get(header::IF_RANGE)) {
            (None, _) => Self::Everything,
            (Some(_), Some(other)) if other.trim() != tag => Self::Everything,
            (Some(range), _) => parse(range, size),
        }
    }
}

fn parse(text: &str, size: u64) -> Wanted {
    let Some((first, last)) = text.strip_prefix("bytes=").and_then(|range| range.split_once('-')) else {
        return Wanted::Everything;
    };
    let number = |text: &str| text.trim().parse::<u64>().ok();
    match (number(first), number(last)) {
        (Some(first), _) if first >= size => Wanted::Nothing,
        (Some(first), Some(last)) if last >= first => Wanted::Part(first, size.min(last.saturating_add(1))),
        (Some(first), None) if last.trim().is_empty() => Wanted::Part(first, size),
        (None, Some(0)) if first.trim().is_empty() => Wanted::Nothing,
        (None, Some(count)) if first.trim().is_empty() => Wanted::Part(size.saturating_sub(count), size),
        _ => Wanted::Everything,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_follow_rfc_9110() {
        for (text, wanted) in [
            ("bytes=0-9", Wanted::Part(0, 10)),
            ("bytes=5-", Wanted::Part(5, 100)),
            ("bytes=90-500", Wanted::Part(90, 100)),
            ("bytes=-10", Wanted::Part(90, 100)),
            ("bytes=-500", Wanted::Part(0, 100)),
            ("bytes=100-", Wanted::Nothing),
            ("bytes=-0", Wanted::Nothing),
            ("bytes=9-2", Wanted::Everything),
            ("bytes=0-1,5-6", Wanted::Everything),
            ("lines=1-2", Wanted::Everything),
        ] {
            assert_eq!(parse(text, 100), wanted, "{text}");
        }
        assert_eq!(parse("bytes=0-", 0), Wanted::Nothing);
    }

    #[test]
    fn a_part_of_another_file_is_never_given() {
        let wanted = |headers: &[(header::HeaderName, &str)]| {
            let headers =
                headers.iter().map(|(name, value)| (name.clone(), value.parse().unwrap())).collect();
            Wanted::of(&headers, 100, "\"new\"")
        };
        let range = (header::RANGE, "bytes=5-9");
        assert_eq!(wanted(std::slice::from_ref(&range)), Wanted::Part(5, 10));
        assert_eq!(wanted(&[range.clone(), (header::IF_RANGE, "\"new\"")]), Wanted::Part(5, 10));
        assert_eq!(wanted(&[range.clone(), (header::IF_RANGE, "\"old\"")]), Wanted::Everything);
        assert_eq!(wanted(&[range, (header::IF_RANGE, "Mon, 23 Nov 2026 12:00:00 GMT")]), Wanted::Everything);
        assert_eq!(wanted(&[(header::IF_NONE_MATCH, "\"old\", W/\"new\"")]), Wanted::Unchanged);
        assert_eq!(wanted(&[(header::IF_NONE_MATCH, "\"old\"")]), Wanted::Everything);
    }
}
