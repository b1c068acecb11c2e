//! The names that clients ask for, made safe.

use std::fmt;

use thiserror::Error;

/// Longest path that is looked at, in bytes: a request fits one datagram of 512.
const MAX_PATH: usize = 512;

/// A relative path without `.`, `..`, empty parts or control characters; parts joined by `/`.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ServedPath(String);

/// Why a name cannot be a path here.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PathError {
    /// Nothing but separators.
    #[error("the name is empty")]
    Empty,
    /// More than 512 bytes.
    #[error("the name has {0} bytes, more than any file here")]
    Long(usize),
    /// `..` somewhere.
    #[error("'..' leads outside what is served")]
    Parent,
    /// A control character somewhere.
    #[error("the name holds a control character")]
    Control,
}

impl ServedPath {
    /// Reads a name as firmware sends it: leading separators, doubled ones and back slashes are taken for what
    /// they mean.
    ///
    /// # Errors
    /// Why it is refused.
    pub fn parse(name: &str) -> Result<Self, PathError> {
        if name.len() > MAX_PATH {
            return Err(PathError::Long(name.len()));
        }
        if name.chars().any(char::is_control) {
            return Err(PathError::Control);
        }
        let mut parts = Vec::new();
        for part in name.split(['/', '\\']) {
            match part {
                "" | "." => {}
                ".." => return Err(PathError::Parent),
                part => parts.push(part),
            }
        }
        if parts.is_empty() {
            return Err(PathError::Empty);
        }
        Ok(Self(parts.join("/")))
    }

    /// The whole path.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Its parts in order.
    pub fn parts(&self) -> impl DoubleEndedIterator<Item = &str> {
        self.0.split('/')
    }

    /// Its last part.
    #[must_use]
    pub fn file_name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }
}

impl fmt::Display for ServedPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_firmware_sends_is_understood() {
        for (name, path) in [
            ("/loader/uefi-x64/shimx64.efi", "loader/uefi-x64/shimx64.efi"),
            ("\\Boot\\BCD", "Boot/BCD"),
            ("//debian-installer//amd64/./grub.cfg", "debian-installer/amd64/grub.cfg"),
        ] {
            assert_eq!(ServedPath::parse(name).unwrap().as_str(), path);
        }
        assert_eq!(ServedPath::parse("a/../../etc/passwd"), Err(PathError::Parent));
        assert_eq!(ServedPath::parse("..\\x"), Err(PathError::Parent));
        assert_eq!(ServedPath::parse("///"), Err(PathError::Empty));
        assert_eq!(ServedPath::parse("a\nb"), Err(PathError::Control));
    }

    proptest! {
        #[test]
        fn no_path_leads_out(name in "[a./\\\\]{0,40}") {
            if let Ok(path) = ServedPath::parse(&name) {
                prop_assert!(path.parts().all(|part| !part.is_empty() && part != "." && part != ".."));
                prop_assert!(!path.as_str().starts_with('/'));
            }
        }
    }
}
