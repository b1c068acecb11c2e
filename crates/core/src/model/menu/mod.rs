//! Menus as people arrange them. What one machine sees of one is a [`Screen`](super::Screen).

mod guard;
pub use guard::Guard;
use serde::{Deserialize, Serialize};

use crate::{
    base::Id,
    model::{
        job::BurnIn,
        parameter::Said,
        values::{Condition, Template},
    },
};

/// What follows when a chosen entry comes back without having started anything.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum After {
    /// The menu is shown again.
    #[default]
    Menu,
    /// The machine's disk is started.
    LocalDisk,
    /// The machine restarts.
    Restart,
    /// The machine is switched off.
    PowerOff,
}

/// A menu.
#[derive(Debug, Clone, PartialEq)]
pub struct Menu {
    /// Identity.
    pub id: Id<Menu>,
    /// What people and commands call it.
    pub name: String,
    /// What stands above the entries; it may name the machine's values.
    pub title: Template,
    /// The entries, in order.
    pub entries: Vec<MenuEntry>,
    /// Key of the entry that starts by itself; the first if left out.
    pub default: Option<String>,
    /// Seconds until it starts; `None` waits for a person.
    pub timeout_secs: Option<u32>,
    /// Not shown unless somebody presses a key in that time.
    pub silent: bool,
    /// What follows when an entry comes back.
    pub after: After,
}

/// One entry of a menu.
#[derive(Debug, Clone, PartialEq)]
pub struct MenuEntry {
    /// What the loader's text calls it: unique among its neighbours.
    pub key: String,
    /// What it says; it may name the machine's values.
    pub title: Template,
    /// What choosing it does.
    pub action: MenuAction,
    /// For whom it is there.
    pub shown_if: Option<Condition>,
    /// The phrase that is asked for before.
    pub guard: Option<Guard>,
    /// Kernel parameters of its own.
    pub parameters: Vec<String>,
    /// Keys of the kernel parameters that it does without.
    pub without_parameters: Vec<String>,
}

impl MenuEntry {
    /// What it says of the kernel's parameters.
    #[must_use]
    pub fn said(&self) -> Said<'_> {
        Said { words: &self.parameters, without: &self.without_parameters }
    }
}

/// What choosing an entry does.
#[derive(Debug, Clone, PartialEq)]
pub enum MenuAction {
    /// Starts an image, by name; an installer with these answers.
    Image {
        /// The image's name.
        name: String,
        /// The answers' name.
        answers: Option<String>,
    },
    /// Starts from a disk on the network, by its root path (RFC 4173).
    NetworkDisk(String),
    /// Starts from the machine's disk.
    LocalDisk,
    /// Starts the survey, which measures the machine and shows what it is.
    Survey,
    /// Starts the survey with a burn-in to do.
    BurnIn(BurnIn),
    /// Opens the firmware's set-up.
    FirmwareSetup,
    /// Restarts.
    Restart,
    /// Switches off.
    PowerOff,
    /// Shows another menu's entries, by name.
    Menu(String),
    /// Shows further entries.
    Entries(Vec<MenuEntry>),
}

impl Menu {
    /// Every entry, those within others included.
    #[must_use]
    pub fn all_entries(&self) -> Vec<&MenuEntry> {
        fn gather<'a>(entries: &'a [MenuEntry], all: &mut Vec<&'a MenuEntry>) {
            for entry in entries {
                all.push(entry);
                if let MenuAction::Entries(inner) = &entry.action {
                    gather(inner, all);
                }
            }
        }
        let mut all = Vec::new();
        gather(&self.entries, &mut all);
        all
    }

    /// Names of the images that it starts.
    pub fn images(&self) -> impl Iterator<Item = &str> {
        self.all_entries().into_iter().filter_map(|entry| match &entry.action {
            MenuAction::Image { name, .. } => Some(name.as_str()),
            _ => None,
        })
    }

    /// Names of the answers that its entries install with.
    pub fn answers(&self) -> impl Iterator<Item = &str> {
        self.all_entries().into_iter().filter_map(|entry| match &entry.action {
            MenuAction::Image { answers, .. } => answers.as_deref(),
            _ => None,
        })
    }

    /// Names of the menus that it shows.
    pub fn menus(&self) -> impl Iterator<Item = &str> {
        self.all_entries().into_iter().filter_map(|entry| match &entry.action {
            MenuAction::Menu(name) => Some(name.as_str()),
            _ => None,
        })
    }
}

/// The path of an entry among entries: their keys, with dots between.
pub(crate) fn join(prefix: &str, key: &str) -> String {
    if prefix.is_empty() { key.into() } else { format!("{prefix}.{key}") }
}
