//! A machine, and what it does while no install is armed.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_formats::mac::Mac;
use serde::{Deserialize, Serialize};

use crate::{
    base::Id,
    model::{image::Image, option::FurtherOption},
};

/// What a machine does when no install is armed for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DefaultBoot {
    /// Starts from its own disk.
    LocalDisk,
    /// Shows the menu.
    Menu,
    /// Runs a live image at every start.
    Live(Id<Image>),
    /// Gets no boot information at all, even if an install is armed.
    Ignored,
}

/// A physical or virtual computer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Machine {
    /// Identity.
    pub id: Id<Machine>,
    /// What people call it, and its host name unless answers say otherwise.
    pub name: String,
    /// Its NICs' addresses; the first is the one it is shown by.
    pub macs: Vec<Mac>,
    /// What it does when no install is armed.
    pub default_boot: DefaultBoot,
    /// DHCP options of its own, which go before its subnet's.
    pub options: Vec<FurtherOption>,
    /// What groups it belongs to, in alphabetical order.
    pub labels: Vec<String>,
    /// What is known of it, by name.
    pub details: BTreeMap<String, String>,
    /// Kernel parameters of its own.
    pub parameters: Vec<String>,
    /// Keys of the kernel parameters that it does without.
    pub without_parameters: Vec<String>,
    /// The menu it is shown, by name, where it is to be another than its labels', its subnet's or the site's.
    pub menu: Option<String>,
    /// The answers that its live image is given at each start, by name.
    pub live_answers: Option<String>,
    /// What rules gave it, by place, as in `details.rack`: what is otherwise now, a person changed since.
    pub given: BTreeMap<String, Given>,
    /// When it was registered.
    pub created: Timestamp,
}

/// What a rule gave a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Given {
    /// The rule's name.
    pub rule: String,
    /// The value.
    pub value: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
}
