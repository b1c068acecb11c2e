//! What a machine boots while no install is armed, as people write it.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::{
    base::Faults,
    model::image::ImageKind,
    model::machine::{DefaultBoot, Machine},
    site::Site,
};

/// What a machine boots while no install is armed: `local-disk`, `menu`, `ignored`, or `live:IMAGE`.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum DefaultBootDraft {
    /// Starts from its own disk.
    #[default]
    LocalDisk,
    /// Shows the menu.
    Menu,
    /// Runs the live image of this name at every start.
    Live(String),
    /// Gets no boot information at all.
    Ignored,
}

/// A text that names none of them.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("'{0}' is not a default boot: write local-disk, menu, ignored, or live:IMAGE")]
pub struct NotDefaultBoot(String);

impl DefaultBootDraft {
    /// That of a machine.
    #[must_use]
    pub fn of(site: &Site, machine: &Machine) -> Self {
        Self::from_boot(site, &machine.default_boot)
    }

    /// In the form in which it is entered.
    #[must_use]
    pub fn from_boot(site: &Site, boot: &DefaultBoot) -> Self {
        match boot {
            DefaultBoot::LocalDisk => Self::LocalDisk,
            DefaultBoot::Menu => Self::Menu,
            DefaultBoot::Ignored => Self::Ignored,
            DefaultBoot::Live(id) => {
                let name = site.image_by_id(*id).map(|image| image.name.clone());
                Self::Live(name.unwrap_or_else(|| id.to_string()))
            }
        }
    }
}

impl DefaultBootDraft {
    /// Checks it, in the field `default_boot`.
    pub(crate) fn check(&self, faults: &mut Faults, site: &Site) -> Option<DefaultBoot> {
        let image = match self {
            Self::LocalDisk => return Some(DefaultBoot::LocalDisk),
            Self::Menu => return Some(DefaultBoot::Menu),
            Self::Ignored => return Some(DefaultBoot::Ignored),
            Self::Live(image) => image,
        };
        match site.image(image) {
            Some(image) if image.kind == ImageKind::Live => Some(DefaultBoot::Live(image.id)),
            Some(image) => {
                let fix = "Name a live image; an installer is armed by an install.";
                faults.add("default_boot", format!("image '{}' is not a live image", image.name), fix);
                None
            }
            None => {
                faults.add("default_boot", format!("no image is named '{image}'"), "Import it first.");
                None
            }
        }
    }
}

impl FromStr for DefaultBootDraft {
    type Err = NotDefaultBoot;

    fn from_str(text: &str) -> Result<Self, NotDefaultBoot> {
        match text {
            "local-disk" => Ok(Self::LocalDisk),
            "menu" => Ok(Self::Menu),
            "ignored" => Ok(Self::Ignored),
            other => match other.strip_prefix("live:") {
                Some(image) if !image.is_empty() => Ok(Self::Live(image.into())),
                _ => Err(NotDefaultBoot(text.into())),
            },
        }
    }
}

impl TryFrom<String> for DefaultBootDraft {
    type Error = NotDefaultBoot;

    fn try_from(text: String) -> Result<Self, NotDefaultBoot> {
        text.parse()
    }
}

impl fmt::Display for DefaultBootDraft {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::LocalDisk => f.write_str("local-disk"),
            Self::Menu => f.write_str("menu"),
            Self::Ignored => f.write_str("ignored"),
            Self::Live(image) => write!(f, "live:{image}"),
        }
    }
}

impl From<DefaultBootDraft> for String {
    fn from(draft: DefaultBootDraft) -> Self {
        draft.to_string()
    }
}

#[cfg(feature = "schema")]
impl utoipa::PartialSchema for DefaultBootDraft {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::Schema> {
        utoipa::openapi::ObjectBuilder::new()
            .schema_type(utoipa::openapi::Type::String)
            .pattern(Some("^(local-disk|menu|ignored|live:.+)$"))
            .description(Some(
                "What a machine boots while no install is armed: `local-disk`, `menu`, `ignored`, or `live:IMAGE`.",
            ))
            .examples(["local-disk"])
            .into()
    }
}

#[cfg(feature = "schema")]
impl utoipa::ToSchema for DefaultBootDraft {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_written_as_it_is_read() {
        for text in ["local-disk", "menu", "ignored", "live:lantern-3"] {
            assert_eq!(text.parse::<DefaultBootDraft>().unwrap().to_string(), text);
        }
        for wrong in ["", "live:", "disk", "Menu"] {
            assert!(wrong.parse::<DefaultBootDraft>().unwrap_err().to_string().contains("live:IMAGE"));
        }
    }
}
