//! What the event stream tells.

use serde::{Deserialize, Serialize};

use crate::{InstallRow, MachineRow};

/// Something changed. Sent as a server-sent event (WHATWG HTML, section 9.2) with one of these as its data.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Event {
    /// A machine changed, or was seen on the wire.
    Machine {
        /// The machine as it is now.
        machine: Box<MachineRow>,
    },
    /// A machine was removed.
    Gone {
        /// Its name.
        name: String,
    },
    /// An install moved on.
    Install {
        /// The install as it is now.
        install: Box<InstallRow>,
    },
    /// Events were lost because the reader was too slow: everything must be read again.
    Lagged,
}
