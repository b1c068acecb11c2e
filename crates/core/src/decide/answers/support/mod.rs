//! What each installer's format can say. The writers' faults and the table in the documentation come from here.

use crate::{
    base::Fault,
    decide::answers::{LinkKind, Resolved},
    model::image::Family,
};

mod accounts;
mod feature;
mod network;
mod software;
mod storage;

pub use feature::Feature;

/// What the settings ask for and the format of `family` cannot say.
#[must_use]
pub(super) fn faults(family: Family, settings: &Resolved) -> Vec<Fault> {
    let mut faults = Vec::new();
    for feature in Feature::all() {
        let Some(fix) = feature.lacks(family) else { continue };
        faults.extend((feature.asked)(settings).into_iter().map(|place| Fault {
            place,
            what: format!("{} cannot say {}", name_of(family), feature.name),
            fix: fix.into(),
        }));
    }
    faults
}

/// What lacks of settings that are to be installed by, whatever the format.
#[must_use]
pub(super) fn incomplete(settings: &Resolved) -> Vec<Fault> {
    let is_open = |password: bool, keys: &[String]| password || !keys.is_empty();
    let root = is_open(settings.root_password.is_some(), &settings.root_keys);
    if root || settings.users.iter().any(|user| is_open(user.password.is_some(), &user.keys)) {
        return Vec::new();
    }
    vec![Fault {
        place: "users".into(),
        what: "nobody could log in".into(),
        fix: "Give a user or root a password or an SSH key, in this layer or another.".into(),
    }]
}

/// What will hardly be what was meant, though the format can say it.
#[must_use]
pub fn warnings(family: Family, settings: &Resolved) -> Vec<Fault> {
    let plain_names = settings.kernel_parameters.iter().any(|word| word == "net.ifnames=0");
    let is_linux =
        matches!(family, Family::Preseed | Family::Kickstart | Family::Autoinstall | Family::CloudConfig);
    let mut warnings = Vec::new();
    for link in &settings.links {
        let LinkKind::Device(device) = &link.kind else { continue };
        let is_plain = device.strip_prefix("eth").is_some_and(|number| number.parse::<u32>().is_ok());
        let (what, fix) = if is_linux && is_plain && !plain_names {
            (
                format!(
                    "the installed system will not call a NIC {device}: it names them by their place, as in eno1 or enp3s0"
                ),
                "Name the NIC by its address (`mac`), or add net.ifnames=0 to kernel_parameters.",
            )
        } else if is_linux && !is_plain && plain_names {
            (
                format!(
                    "with net.ifnames=0 the installed system will not call a NIC {device}, but eth0 and so on"
                ),
                "Name the NIC by its address (`mac`), or leave net.ifnames=0 out.",
            )
        } else {
            continue;
        };
        warnings.push(Fault {
            place: format!("network.interfaces.{}.device", link.name),
            what,
            fix: fix.into(),
        });
    }
    warnings
}

/// What a family's files are called in a sentence.
#[must_use]
const fn name_of(family: Family) -> &'static str {
    match family {
        Family::Preseed => "a preseed file",
        Family::Kickstart => "a kickstart file",
        Family::Autoinstall => "an autoinstall file",
        Family::CloudConfig => "cloud-config for a live image",
        Family::UnattendedXml => "an unattended-set-up file",
        Family::None => "this image",
    }
}

/// The table of all features and formats, in Markdown.
#[must_use]
pub fn support_table() -> String {
    let families =
        [Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig, Family::UnattendedXml];
    let mut text = String::from(
        "| | preseed | kickstart | autoinstall | cloud-config (live) | unattended XML |\n|---|---|---|---|---|---|\n",
    );
    let mut notes: Vec<&str> = Vec::new();
    for feature in Feature::all() {
        text.push_str(&format!("| {} |", feature.name));
        for family in families {
            match feature.lacks(family) {
                None => text.push_str(" yes |"),
                Some(why) => {
                    let number = notes.iter().position(|note| *note == why).unwrap_or_else(|| {
                        notes.push(why);
                        notes.len() - 1
                    });
                    text.push_str(&format!(" no ({}) |", number + 1));
                }
            }
        }
        text.push('\n');
    }
    text.push('\n');
    for (index, note) in notes.iter().enumerate() {
        text.push_str(&format!("{}. {note}\n", index + 1));
    }
    text
}
