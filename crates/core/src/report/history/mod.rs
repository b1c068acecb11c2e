//! What the record says when it is asked as a whole: which host has what, and how installs went.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
pub use rates::{Day, GroupBy, Rates, Tally, rates};
use serde::{Deserialize, Serialize};

use crate::{
    base::Id,
    model::{install::InstallState, machine::Machine},
    site::Site,
};

mod rates;

/// What reports need to know of one install.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recorded {
    /// Its number.
    pub number: i64,
    /// The machine.
    pub machine: Id<Machine>,
    /// Its name when the install was armed.
    pub machine_name: String,
    /// The image's name.
    pub image: String,
    /// The revision's number.
    pub image_revision: u32,
    /// The answers' name.
    pub answers: String,
    /// The version's number.
    pub answers_version: u32,
    /// How it stands.
    pub state: InstallState,
    /// Who armed it.
    pub armed_by: String,
    /// When it was armed.
    pub armed_at: Timestamp,
    /// When the machine was first seen booting.
    pub booting_at: Option<Timestamp>,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// The machine's labels when it was armed.
    pub labels: Vec<String>,
    /// The subnet that it booted on.
    pub subnet: Option<String>,
    /// Whether the image runs from memory.
    pub is_stateless: bool,
}

impl Recorded {
    /// From the first sign of the boot to the end, of one that reached `installed`.
    #[must_use]
    pub fn took(&self) -> Option<SignedDuration> {
        let ended = self.ended_at.filter(|_| self.state == InstallState::Installed)?;
        Some(ended.duration_since(self.booting_at?))
    }
}

/// A machine that was removed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    /// It.
    pub machine: Id<Machine>,
    /// Its last name.
    pub name: String,
    /// When it was removed.
    pub at: Timestamp,
}

/// Which image a host has, since when, and from whom.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HostRecord {
    /// The machine's name now; its last one where it left.
    pub machine: String,
    /// The image's name.
    pub image: String,
    /// The revision that it has.
    pub revision: u32,
    /// The image's current revision; nothing where the image is gone.
    pub current: Option<u32>,
    /// Whether the image has a newer revision that is current.
    pub is_behind: bool,
    /// Whether it runs the image from memory.
    pub is_stateless: bool,
    /// The answers' name.
    pub answers: String,
    /// The version's number.
    pub answers_version: u32,
    /// The install that it is from.
    pub install: i64,
    /// Since when.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub since: Timestamp,
    /// Who armed it.
    pub armed_by: String,
    /// When the machine was removed; nothing while it is there.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub left: Option<Timestamp>,
}

/// What every host has, in the order of names, those that left among them. `held` are the latest installs that reached
/// `installed`, one of each machine.
#[must_use]
pub fn hosts(site: &Site, held: &[Recorded], left: &[Left]) -> Vec<HostRecord> {
    let left: HashMap<Id<Machine>, &Left> = left.iter().map(|left| (left.machine, left)).collect();
    let mut hosts: Vec<HostRecord> = held
        .iter()
        .map(|install| {
            let present = site.machine_by_id(install.machine).map(|machine| machine.name.clone());
            let gone = left.get(&install.machine).filter(|_| present.is_none());
            let current = site.image(&install.image).map(|image| image.current.number);
            HostRecord {
                // A machine that was removed before removals were kept has the name it was installed under.
                machine: present
                    .clone()
                    .or_else(|| gone.map(|left| left.name.clone()))
                    .unwrap_or_else(|| install.machine_name.clone()),
                image: install.image.clone(),
                revision: install.image_revision,
                current,
                is_behind: current.is_some_and(|current| current > install.image_revision),
                is_stateless: install.is_stateless,
                answers: install.answers.clone(),
                answers_version: install.answers_version,
                install: install.number,
                since: install.ended_at.unwrap_or(install.armed_at),
                armed_by: install.armed_by.clone(),
                left: gone
                    .map(|left| left.at)
                    .or_else(|| present.is_none().then(|| install.ended_at.unwrap_or(install.armed_at))),
            }
        })
        .collect();
    hosts.sort_by(|a, b| (&a.machine, a.install).cmp(&(&b.machine, b.install)));
    hosts
}
