//! Keyboards by their names in the X Keyboard Extension's configuration (xkeyboard-config(7)).

use std::{fmt, str::FromStr};

/// A layout and its variant, written as `ch(fr)`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Keyboard {
    /// The layout: `ch`.
    pub layout: String,
    /// The variant: `fr`.
    pub variant: Option<String>,
}

/// A text that names no keyboard.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is no keyboard layout")]
pub struct NotKeyboard(String);

impl FromStr for Keyboard {
    type Err = NotKeyboard;

    fn from_str(text: &str) -> Result<Self, NotKeyboard> {
        let (layout, variant) = match text.strip_suffix(')').map(|text| text.split_once('(')) {
            Some(Some((layout, variant))) => (layout, Some(variant)),
            Some(None) => return Err(NotKeyboard(text.into())),
            None => (text, None),
        };
        let is_layout = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
        let is_variant = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
        if layout.is_empty()
            || !layout.chars().all(is_layout)
            || variant.is_some_and(|variant| variant.is_empty() || !variant.chars().all(is_variant))
        {
            return Err(NotKeyboard(text.into()));
        }
        Ok(Self { layout: layout.into(), variant: variant.map(str::to_owned) })
    }
}

impl fmt::Display for Keyboard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.variant {
            Some(variant) => write!(f, "{}({variant})", self.layout),
            None => f.write_str(&self.layout),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_keyboard_is_a_layout_and_perhaps_a_variant() {
        for text in ["gb", "ch(fr)", "de(T3)", "latam", "us(alt-intl)"] {
            let keyboard: Keyboard = text.parse().unwrap();
            assert_eq!(keyboard.to_string(), text);
        }
        for text in ["", "GB", "ch(", "ch()", "(fr)", "ch)", "ch(fr", "ch(f r)", "ch fr", "gb,us", "x'y"] {
            assert!(text.parse::<Keyboard>().is_err(), "{text}");
        }
    }
}
