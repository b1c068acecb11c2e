//! Parts in an installer's own format: where they may stand, and what they may name.

use std::sync::LazyLock;

use lastmile_formats::quote;
use minijinja::{Environment, Error, ErrorKind, Value};

use crate::{
    base::{Fault, template, template::Statements},
    model::{
        image::Family,
        values::{Bound, Values},
    },
};

/// Steps that a template may take: a loop in one of them ends here.
const FUEL: u64 = 200_000;

/// The places in the file of a family where a text may be put in.
#[must_use]
pub const fn places(family: Family) -> &'static [&'static str] {
    match family {
        Family::Preseed => &["top", "disks", "end"],
        Family::Kickstart => &["commands", "packages", "pre", "post", "end"],
        Family::Autoinstall => &["autoinstall", "user_data"],
        Family::CloudConfig => &["user_data"],
        Family::UnattendedXml => &["windows_pe", "offline_servicing", "specialize", "oobe_system"],
        Family::None => &[],
    }
}

/// What is wrong with a template, with line and column where they are known.
fn fault(text: &str, error: &Error) -> Fault {
    let detail = error
        .detail()
        .map_or_else(|| error.kind().to_string(), |detail| format!("{} ({detail})", error.kind()));
    let what = match (error.range(), error.line()) {
        (Some(range), _) => {
            let (line, column) = position(text, range.start);
            let part = text.get(range).unwrap_or_default().lines().next().unwrap_or_default();
            format!("line {line}, column {column}, at '{part}': {detail}")
        }
        (None, Some(line)) => format!("line {line}: {detail}"),
        (None, None) => detail,
    };
    let fix = "Values are those of texts, `settings`, `reports` and, in a template, `generated`; filters are shell, xml, yaml, preseed and kickstart, and those of docs/answers.md.";
    Fault { place: String::new(), what, fix: fix.into() }
}

/// Line and column, from 1, of the byte at `offset`.
pub(crate) fn position(text: &str, offset: usize) -> (usize, usize) {
    let before = text.get(..offset).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
    (line, column)
}

/// Largest file that a template may give, in bytes.
const MOST_FILE: usize = 1 << 20;

static FORMS: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut environment = template::environment(FUEL);
    environment.set_keep_trailing_newline(true);
    environment.add_filter("shell", |text: String| quote::shell(&text));
    environment.add_filter("xml", |text: String| quote::xml(&text));
    environment.add_filter("yaml", |text: String| quote::yaml(&text));
    environment.add_filter("kickstart", |text: String| quote::kickstart(&text));
    environment.add_filter("preseed", |text: String| {
        quote::preseed(&text).map_err(|what| Error::new(ErrorKind::InvalidOperation, what))
    });
    environment
});

/// Checks that a template can be read at all.
///
/// # Errors
/// What is wrong with it; the place is left to the caller.
pub(crate) fn check_text(text: &str) -> Result<(), Fault> {
    template::check(&FORMS, text, Statements::Loops).map_err(|error| fault(text, &error))
}

/// Puts a machine's values into a template. `own` is what only templates have: the settings as a person may read them,
/// where to report, and what would be written without the template.
///
/// # Errors
/// What is wrong with it; the place is left to the caller.
pub(crate) fn fill(text: &str, values: &Values, own: &Value) -> Result<String, Fault> {
    let bound = Bound::from(values.clone());
    let all = minijinja::value::merge_maps([own.clone(), bound.value()]);
    template::render(&FORMS, text, &all, Statements::Loops, MOST_FILE).map_err(|error| fault(text, &error))
}

#[cfg(test)]
mod tests {
    use minijinja::context;

    use super::*;

    #[test]
    fn mistakes_carry_line_and_column_and_helpers_escape() {
        let values = Values::example();
        let settings = context! { locale => "en_GB.UTF-8", motd => "it's <5 & \"more\"" };
        let own = context! { settings, generated => "whole" };
        let fill = |text: &str| fill(text, &values, &own);
        assert_eq!(fill("a {{ name }}\n{{ settings.locale }}\n").unwrap(), "a auklet-chart\nen_GB.UTF-8\n");
        assert_eq!(fill("{{ settings.motd|shell }}").unwrap(), r#"'it'\''s <5 & "more"'"#);
        assert_eq!(fill("{{ settings.motd|xml }}").unwrap(), "it&apos;s &lt;5 &amp; &quot;more&quot;");
        assert_eq!(fill("{{ generated }}").unwrap(), "whole");
        let wrong = fill("first\n  {{ nmae }}\n").unwrap_err();
        assert!(wrong.what.starts_with("line 2, column 6, at 'nmae'"), "{}", wrong.what);
        let unclosed = check_text("first\nsecond {{ name \n").unwrap_err();
        assert!(unclosed.what.starts_with("line "), "{}", unclosed.what);
        assert!(fill("{{ 'a\nb'|preseed }}").unwrap_err().what.contains("one line"));
    }
}
