//! Values as people read them.

use jiff::Timestamp;

/// Names and values below each other.
pub(crate) fn pairs<'a>(pairs: impl IntoIterator<Item = (&'a str, String)>) -> String {
    let pairs: Vec<_> = pairs.into_iter().collect();
    let width = pairs.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    pairs
        .into_iter()
        .map(|(name, value)| {
            let value = value.replace('\n', &format!("\n{:width$}  ", ""));
            format!("{name:width$}  {value}").trim_end().to_owned() + "\n"
        })
        .collect()
}

/// Names that are written out of several.
const NAMED: usize = 6;

/// The first of several names, and how many more there are.
pub(crate) fn some_names(all: &[impl AsRef<str>]) -> String {
    let shown = all.iter().take(NAMED).map(AsRef::as_ref).collect::<Vec<_>>().join(", ");
    match all.len().saturating_sub(NAMED) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

/// A dash for what is not there.
pub(crate) fn or_dash(text: Option<impl ToString>) -> String {
    text.map_or_else(|| "-".into(), |text| text.to_string())
}

/// How long ago, in the largest unit that fits.
pub(crate) fn ago(at: Option<Timestamp>) -> String {
    let Some(at) = at else { return "-".into() };
    let secs = Timestamp::now().duration_since(at).as_secs().max(0);
    match secs {
        0..=119 => format!("{secs} s ago"),
        120..=7199 => format!("{} min ago", secs / 60),
        7200..=172_799 => format!("{} h ago", secs / 3600),
        _ => format!("{} d ago", secs / 86_400),
    }
}

/// `14:02:07` today, `2026-11-23 14:02:07` on another day; in the time zone of whoever reads.
pub(crate) fn clock(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    let (at, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    let form = if at.date() == now.date() { "%H:%M:%S" } else { "%Y-%m-%d %H:%M:%S" };
    at.strftime(form).to_string()
}

/// A text of the service with its times (RFC 3339) as [`clock`] writes them.
pub(crate) fn with_clocks(text: &str) -> String {
    let word = |word: &str| {
        let bare = word.trim_matches(|mark: char| !mark.is_ascii_alphanumeric());
        match bare.parse::<Timestamp>() {
            Ok(at) => word.replace(bare, &clock(at)),
            Err(_) => word.to_owned(),
        }
    };
    text.split(' ').map(word).collect::<Vec<_>>().join(" ")
}

/// `14:02:07`, in the time zone of whoever reads.
pub(crate) fn time(at: Timestamp) -> String {
    at.to_zoned(jiff::tz::TimeZone::system()).strftime("%H:%M:%S").to_string()
}

/// A span of whole seconds as people say it: 42 s, 12 min 5 s, 2 h 10 min.
pub(crate) fn duration(secs: u64) -> String {
    match secs {
        0..60 => format!("{secs} s"),
        60..3600 if secs.is_multiple_of(60) => format!("{} min", secs / 60),
        60..3600 => format!("{} min {} s", secs / 60, secs % 60),
        _ => format!("{} h {} min", secs / 3600, secs % 3600 / 60),
    }
}

/// Bytes in the unit that a person reads at a glance: `1.50 MiB`.
pub(crate) fn size(bytes: u64) -> String {
    indicatif::BinaryBytes(bytes).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pairs_are_aligned_over_several_lines() {
        let text = pairs([("name", "auklet".into()), ("listens", "a\nb".into()), ("none", String::new())]);
        assert_eq!(text, "name     auklet\nlistens  a\n         b\nnone\n");
    }

    #[test]
    fn how_long_ago_is_said_in_the_largest_unit_that_fits() {
        let before = |secs: i64| ago(Some(Timestamp::now() - jiff::SignedDuration::from_secs(secs)));
        assert_eq!(ago(None), "-");
        assert_eq!(before(0), "0 s ago");
        assert_eq!(before(119), "119 s ago");
        assert_eq!(before(130), "2 min ago");
        assert_eq!(before(3 * 3600), "3 h ago");
        assert_eq!(before(9 * 86_400), "9 d ago");
    }

    #[test]
    fn times_in_a_text_are_shown_as_clocks() {
        let at: Timestamp = "2025-11-24T16:00:00Z".parse().unwrap();
        let text = with_clocks("it shows 2025-11-24T16:00:00Z; at 16 (or so) no `lastmile` did.");
        assert_eq!(text, format!("it shows {}; at 16 (or so) no `lastmile` did.", clock(at)));
    }

    #[test]
    fn the_date_is_shown_of_another_day_only() {
        let now = Timestamp::now();
        assert_eq!(clock(now).len(), "14:02:07".len());
        assert_eq!(clock(now - jiff::SignedDuration::from_hours(50)).len(), "2026-11-23 14:02:07".len());
    }
}
