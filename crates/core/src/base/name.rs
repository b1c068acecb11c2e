//! The names people give: of hosts, and of the things this service keeps.

use thiserror::Error;

/// Longest label of a host name in bytes (RFC 1035, section 2.3.4).
pub const MAX_LABEL: usize = 63;
/// Longest domain name in its textual form (RFC 1035, section 2.3.4, less the root's length byte and the first).
pub const MAX_DOMAIN: usize = 253;

/// Why a name is not usable.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NameError {
    /// Nothing, or an empty label between two dots.
    #[error("'{0}' has an empty part")]
    Empty(String),
    /// A label of more than [`MAX_LABEL`] bytes.
    #[error("'{0}' has a part of more than 63 characters")]
    LongLabel(String),
    /// More than [`MAX_DOMAIN`] bytes in all.
    #[error("'{0}' is longer than 253 characters")]
    TooLong(String),
    /// A character outside letters, digits and hyphen.
    #[error("'{name}' holds '{character}'")]
    Character {
        /// The name as given.
        name: String,
        /// The first character that does not belong.
        character: char,
    },
    /// A label that begins or ends with a hyphen.
    #[error("'{0}' has a part that begins or ends with a hyphen")]
    Hyphen(String),
    /// A machine's name that stands for something else.
    #[error("'{0}' is no machine's name: it stands for {1}")]
    Taken(String, &'static str),
}

/// How to fix any [`NameError`] of a host name.
pub const HOST_NAME_FIX: &str =
    "Use letters, digits and inner hyphens, at most 63 characters (RFC 1123, section 2.1).";

/// How to fix any [`NameError`] of a domain.
pub const DOMAIN_FIX: &str = "Use host name parts joined by single dots, as in gannet.example.";
/// How to fix any [`NameError`] of a thing's name.
pub const THING_NAME_FIX: &str =
    "Use letters, digits, '-', '_' and '.', beginning with a letter or digit, at most 63 characters.";

/// Checks a single-label host name (RFC 1123, section 2.1).
///
/// # Errors
/// The first thing that is wrong with it.
pub fn check_host_name(name: &str) -> Result<(), NameError> {
    if name.is_empty() {
        return Err(NameError::Empty(name.into()));
    }
    if name.len() > MAX_LABEL {
        return Err(NameError::LongLabel(name.into()));
    }
    if let Some(character) = name.chars().find(|c| !c.is_ascii_alphanumeric() && *c != '-') {
        return Err(NameError::Character { name: name.into(), character });
    }
    if name.starts_with('-') || name.ends_with('-') {
        return Err(NameError::Hyphen(name.into()));
    }
    Ok(())
}

/// Checks a machine's name: a host name that stands for nothing else. A number is an install in commands and an address in
/// resolvers (RFC 1123, section 2.1); `localhost` is every host itself (RFC 6761, section 6.3).
///
/// # Errors
/// The first thing that is wrong with it.
pub fn check_machine_name(name: &str) -> Result<(), NameError> {
    check_host_name(name)?;
    if name.bytes().all(|byte| byte.is_ascii_digit()) {
        return Err(NameError::Taken(name.into(), "a number"));
    }
    if name.eq_ignore_ascii_case("localhost") {
        return Err(NameError::Taken(name.into(), "every host itself"));
    }
    Ok(())
}

/// Checks a domain name: host name labels joined by dots.
///
/// # Errors
/// The first thing that is wrong with it.
pub fn check_domain(name: &str) -> Result<(), NameError> {
    if name.len() > MAX_DOMAIN {
        return Err(NameError::TooLong(name.into()));
    }
    for label in name.split('.') {
        check_host_name(label).map_err(|error| match error {
            NameError::Empty(_) => NameError::Empty(name.into()),
            NameError::LongLabel(_) => NameError::LongLabel(name.into()),
            NameError::Hyphen(_) => NameError::Hyphen(name.into()),
            NameError::Character { character, .. } => NameError::Character { name: name.into(), character },
            other @ (NameError::TooLong(_) | NameError::Taken(..)) => other,
        })?;
    }
    Ok(())
}

/// Checks the name of a subnet, image, loader or set of answers: it stands in URLs, TFTP paths and commands.
///
/// # Errors
/// The first thing that is wrong with it.
pub fn check_thing_name(name: &str) -> Result<(), NameError> {
    if name.is_empty() {
        return Err(NameError::Empty(name.into()));
    }
    if name.len() > MAX_LABEL {
        return Err(NameError::LongLabel(name.into()));
    }
    let ordinary = |c: &char| !(c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'));
    if let Some(character) = name.chars().find(ordinary) {
        return Err(NameError::Character { name: name.into(), character });
    }
    match name.chars().next() {
        Some(first) if first.is_ascii_alphanumeric() => Ok(()),
        Some(character) => Err(NameError::Character { name: name.into(), character }),
        None => Err(NameError::Empty(name.into())),
    }
}

/// A text that no detail may be called.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("'{0}' is no name for a detail")]
pub struct NoDetailName(String);

/// How to fix a [`NoDetailName`].
pub const DETAIL_NAME_FIX: &str = "Use letters, digits and '_', beginning with a letter: conditions name it.";

/// Checks the name of a detail.
///
/// # Errors
/// That conditions could not name it.
pub fn check_detail_name(name: &str) -> Result<(), NoDetailName> {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if name.is_empty() || !name.chars().all(plain) || name.starts_with(|c: char| c.is_ascii_digit()) {
        return Err(NoDetailName(name.into()));
    }
    Ok(())
}

/// Bytes of a detail's value.
const MOST_DETAIL: usize = 1000;

/// A text that is no value of a detail.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the value has control characters or is too long")]
pub struct NoDetail;

/// How to fix a [`NoDetail`].
pub const DETAIL_FIX: &str = "Give one line of at most 1000 characters.";

/// Checks the value of a detail.
///
/// # Errors
/// That it is more than one line.
pub fn check_detail(value: &str) -> Result<(), NoDetail> {
    if value.chars().any(char::is_control) || value.len() > MOST_DETAIL { Err(NoDetail) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn host_names_follow_rfc_1123() {
        for good in ["auklet", "3com", "a", "gate-07", &"x".repeat(63)] {
            assert_eq!(check_host_name(good), Ok(()), "{good}");
        }
        assert_eq!(check_host_name(""), Err(NameError::Empty(String::new())));
        assert!(matches!(check_host_name("-a"), Err(NameError::Hyphen(_))));
        assert!(matches!(check_host_name(&"x".repeat(64)), Err(NameError::LongLabel(_))));
        assert!(matches!(check_host_name("quay server"), Err(NameError::Character { character: ' ', .. })));
    }

    #[test]
    fn machines_have_names_that_stand_for_nothing_else() {
        assert!(check_machine_name("3com").is_ok() && check_machine_name("r2").is_ok());
        for bad in ["5", "0012", "localhost", "LocalHost", "a.b"] {
            assert!(check_machine_name(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn domains_name_the_whole_in_their_errors() {
        assert_eq!(check_domain("gannet.example"), Ok(()));
        assert_eq!(check_domain("gannet..example"), Err(NameError::Empty("gannet..example".into())));
    }

    #[test]
    fn thing_names_cannot_leave_their_folder() {
        assert_eq!(check_thing_name("tidewrack-12.4"), Ok(()));
        for bad in ["", "..", ".hidden", "a/b", "a b", "ä"] {
            assert!(check_thing_name(bad).is_err(), "{bad}");
        }
    }
}
