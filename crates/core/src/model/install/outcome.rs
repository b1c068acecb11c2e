//! What an installed host says of itself at its first start, held against what was expected of it.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What a host says of itself when it starts for the first time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Actual {
    /// Its host name.
    pub host_name: Option<String>,
    /// Its address.
    pub address: Option<String>,
    /// Its operating system, as it names itself (os-release(5), `PRETTY_NAME`).
    pub os: Option<String>,
    /// Its kernel's release.
    pub kernel: Option<String>,
    /// Whether one of its first-boot scripts failed.
    pub is_first_boot_failed: bool,
}

/// What was expected of it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Expected {
    /// The host name that its answers gave it.
    pub host_name: String,
    /// The addresses that its answers gave it, or the one that was lent to it; empty if neither is known.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub addresses: Vec<Ipv4Addr>,
    /// The version of the system in the image, where it was recognised.
    pub os_version: Option<String>,
}

/// What became of an install, seen from the host it made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Outcome {
    /// When the host said so.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// What it said.
    pub actual: Actual,
    /// What was expected.
    pub expected: Expected,
}

/// Something that is not as it was expected.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Difference {
    /// What: host name, address, operating system, first boot.
    pub what: String,
    /// As it was expected.
    pub expected: String,
    /// As the host has it.
    pub actual: String,
}

impl Outcome {
    /// What is not as it was expected. What the host did not say, or nothing was expected of, is passed over.
    #[must_use]
    pub fn differences(&self) -> Vec<Difference> {
        let Self { actual, expected, .. } = self;
        let mut differences = Vec::new();
        let mut add = |what: &str, expected: String, actual: &str| {
            differences.push(Difference { what: what.into(), expected, actual: actual.into() });
        };
        if let Some(name) = &actual.host_name {
            let label = name.split('.').next().unwrap_or_default();
            if !label.eq_ignore_ascii_case(&expected.host_name) {
                add("host name", expected.host_name.clone(), name);
            }
        }
        if let Some(address) = actual.address.as_ref().filter(|_| !expected.addresses.is_empty())
            && !expected.addresses.iter().any(|known| known.to_string() == *address)
        {
            let known: Vec<String> = expected.addresses.iter().map(ToString::to_string).collect();
            add("address", known.join(" or "), address);
        }
        if let (Some(os), Some(version)) = (&actual.os, &expected.os_version)
            && !names_version(os, version)
        {
            add("operating system", version.clone(), os);
        }
        if actual.is_first_boot_failed {
            add("first boot", "every script ends well".into(), "a script failed");
        }
        differences
    }

    /// What the host said, in a line.
    #[must_use]
    pub fn summary(&self) -> String {
        let Actual { host_name, address, os, kernel, .. } = &self.actual;
        let said: Vec<&str> =
            [host_name, address, os, kernel].into_iter().flatten().map(String::as_str).collect();
        let differences: Vec<String> =
            self.differences().into_iter().map(|difference| difference.what).collect();
        let verdict = if differences.is_empty() {
            "as expected".into()
        } else {
            format!("differs: {}", differences.join(", "))
        };
        format!("{}; {verdict}", said.join(", "))
    }
}

/// Whether a system's own name holds a version, as a whole word: "Debian GNU/Linux 12 (bookworm)" has 12 and is taken
/// for 12.5 too, as names leave out what comes after the first dot.
fn names_version(os: &str, version: &str) -> bool {
    let major = version.split('.').next().unwrap_or(version);
    let mut words = os.split(|c: char| !c.is_ascii_alphanumeric() && c != '.');
    words.any(|word| word == version || word == major || word.split('.').next() == Some(major))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outcome(actual: Actual) -> Outcome {
        let expected = Expected {
            host_name: "auklet-chart".into(),
            addresses: vec![Ipv4Addr::new(192, 0, 2, 50)],
            os_version: Some("12.5".into()),
        };
        Outcome { at: Timestamp::UNIX_EPOCH, actual, expected }
    }

    #[test]
    fn what_differs_is_named_and_what_was_not_said_is_not() {
        let same = Actual {
            host_name: Some("Auklet-Chart.gannet.example".into()),
            address: Some("192.0.2.50".into()),
            os: Some("Debian GNU/Linux 12 (bookworm)".into()),
            kernel: Some("6.1.0-18-amd64".into()),
            is_first_boot_failed: false,
        };
        assert_eq!(outcome(same.clone()).differences(), []);
        assert!(outcome(same).summary().ends_with("6.1.0-18-amd64; as expected"));
        assert_eq!(outcome(Actual::default()).differences(), []);
        let other = Actual {
            host_name: Some("localhost".into()),
            address: Some("192.0.2.51".into()),
            os: Some("Debian GNU/Linux 11 (bullseye)".into()),
            is_first_boot_failed: true,
            ..Actual::default()
        };
        let what: Vec<String> = outcome(other).differences().into_iter().map(|one| one.what).collect();
        assert_eq!(what, ["host name", "address", "operating system", "first boot"]);
    }

    #[test]
    fn versions_are_whole_words() {
        assert!(
            names_version("Halyard 24.04.1 LTS", "24.04")
                && names_version("Bollard Linux 9.4 (Plough)", "9.4")
        );
        assert!(!names_version("Debian GNU/Linux 112", "12") && !names_version("Debian GNU/Linux", "12"));
    }
}
