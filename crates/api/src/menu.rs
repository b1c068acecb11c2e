//! Menus, labels and the site's settings as they are read.

use lastmile_core::{
    decide::menu::MenuDraft,
    model::{
        label::Label,
        loader::{HttpReach, Language},
        menu::Menu,
    },
};
use serde::{Deserialize, Serialize};

/// A menu. Phrases are never read back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MenuView {
    /// Its name.
    pub name: String,
    /// As it was entered.
    #[serde(flatten)]
    pub menu: MenuDraft,
    /// Who is shown it: `site`, `subnet …`, `label …`, `machine …`, `menu …`.
    pub shown_by: Vec<String>,
}

impl MenuView {
    /// From the record, with who is shown it.
    #[must_use]
    pub fn new(menu: &Menu, shown_by: Vec<String>) -> Self {
        Self { name: menu.name.clone(), menu: menu.into(), shown_by }
    }
}

/// Which screen is wanted.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PreviewRequest {
    /// The menu as it is being entered; the saved one if left out.
    pub draft: Option<MenuDraft>,
    /// The machine that would show it, by name or MAC address; an example if left out.
    pub machine: Option<String>,
    /// The firmware, as in `uefi-x64`; what is known of the machine if left out.
    pub architecture: Option<String>,
    /// The loader's language; that of the loader for the firmware if left out.
    pub language: Option<Language>,
}

/// What one machine would see.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MenuPreview {
    /// The machine.
    pub machine: String,
    /// The firmware.
    pub architecture: Option<String>,
    /// The loader's language.
    pub language: Language,
    /// How the loader reaches HTTP.
    pub http: HttpReach,
    /// The screen as the machine shows it, line by line, 80 columns wide; within a menu, a screen each.
    pub screens: Vec<ScreenView>,
    /// The text that the loader gets.
    pub text: String,
    /// Kernel parameters of each entry that starts a kernel, with their origins.
    pub parameters: Vec<EntryParameters>,
    /// Entries that this machine does not get, and why.
    pub left_out: Vec<LeftOutEntry>,
    /// What is wrong with the draft; the screen is of the part that is right.
    pub faults: Vec<lastmile_core::base::Fault>,
}

/// One screen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ScreenView {
    /// Key of the entry that opens it; empty for the first.
    pub key: String,
    /// Its lines.
    pub rows: Vec<String>,
    /// Which of them stands for the entry that is chosen first.
    pub chosen: Option<usize>,
}

/// The kernel parameters of one entry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct EntryParameters {
    /// The entry's key.
    pub key: String,
    /// The words, with their origins.
    pub parameters: Vec<lastmile_core::model::parameter::Parameter>,
}

/// An entry that a machine does not get.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LeftOutEntry {
    /// What it would say.
    pub title: String,
    /// Why it is left out.
    pub why: String,
}

/// A label, and how many machines have it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LabelView {
    /// Its name.
    pub name: String,
    /// Of several labels of one machine, what the one of the highest rank says is used; of equal ranks, the last by name.
    pub rank: i32,
    /// Kernel parameters of its machines.
    pub parameters: Vec<String>,
    /// Keys of kernel parameters of earlier levels that its machines do without.
    pub without_parameters: Vec<String>,
    /// The menu its machines are shown.
    pub menu: Option<String>,
    /// The image that its machines are armed with where nobody names another.
    pub image: Option<String>,
    /// The answers that they are armed with where nobody names others.
    pub answers: Option<String>,
    /// How many machines have it.
    pub machines: usize,
    /// Which saved form this is, for a change that must not be saved over somebody else's.
    pub etag: String,
}

impl LabelView {
    /// From the record, which a label need not have.
    #[must_use]
    pub fn new(name: &str, label: Option<&Label>, machines: usize, edition: u64) -> Self {
        let draft = label.map(lastmile_core::decide::machine::LabelDraft::from).unwrap_or_default();
        Self {
            name: name.into(),
            rank: draft.rank,
            parameters: draft.parameters,
            without_parameters: draft.without_parameters,
            menu: draft.menu,
            image: draft.image,
            answers: draft.answers,
            machines,
            etag: crate::etag(edition),
        }
    }
}
