//! What is done to several machines at once.

use lastmile_core::decide::machine::DefaultBootDraft;
use serde::{Deserialize, Serialize};

use crate::{Edit, FieldChange};

/// Several machines, and what is changed of each.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachinesChange {
    /// Their names or MAC addresses.
    #[serde(default)]
    pub machines: Vec<String>,
    /// And every machine that has all of these labels.
    #[serde(default)]
    pub labels: Vec<String>,
    /// The changes, in their order.
    pub edits: Vec<Edit>,
}

/// What changed of one thing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Changed {
    /// Its name.
    pub name: String,
    /// The values that changed; none if it was so before.
    pub changes: Vec<FieldChange>,
}

/// Several machines to remove.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachinesRemove {
    /// Their names or MAC addresses.
    pub machines: Vec<String>,
}

/// Machines as CSV.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachinesImport {
    /// The text: a head that names the columns, and a row for each machine.
    #[schema(example = "name,mac,labels,detail.rack\nkiosk-1,00:00:5e:00:53:01,kiosk,r12\n")]
    pub csv: String,
}

/// What a row of an import is.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema, strum::IntoStaticStr,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RowKind {
    /// The machine is registered by it.
    New,
    /// The machine is changed by it.
    Changed,
    /// The machine is as it says.
    Unchanged,
}

impl RowKind {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// What became of one row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ImportedRow {
    /// Its line in the text.
    pub line: u64,
    /// The machine's name.
    pub machine: String,
    /// What it is.
    pub kind: RowKind,
    /// The values that changed, or that a new machine has.
    pub changes: Vec<FieldChange>,
}

/// What became of all rows.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ImportReport {
    /// Machines that were registered.
    pub new: usize,
    /// Machines that were changed.
    pub changed: usize,
    /// Machines that were so before.
    pub unchanged: usize,
    /// The rows, in their order.
    pub rows: Vec<ImportedRow>,
}

/// Newcomers that become machines.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdoptRequest {
    /// Their MAC addresses: a machine each.
    pub macs: Vec<String>,
    /// What they are called, as in `kiosk-{{ counter | pad(2) }}`; `machine-` and the MAC address if left out.
    #[serde(default)]
    pub name: Option<String>,
    /// The counter at the first of them; 1 if left out.
    #[serde(default)]
    pub first: Option<i64>,
    /// Their labels.
    #[serde(default)]
    pub labels: Vec<String>,
    /// What is noted of them, by name.
    #[serde(default)]
    pub details: std::collections::BTreeMap<String, String>,
    /// What they boot while no install is armed.
    #[serde(default)]
    pub default_boot: DefaultBootDraft,
}

/// Another name for a thing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RenameRequest {
    /// The new name.
    pub to: String,
}

/// What became of a rename.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Renamed {
    /// The name now.
    pub name: String,
    /// What names it by the new name now: `menu kiosk`, `12 machines`.
    pub followed: Vec<String>,
    /// Where the old name stands in a text, which somebody has to change.
    pub mentions: Vec<String>,
}
