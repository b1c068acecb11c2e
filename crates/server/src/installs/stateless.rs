//! Hosts that run from memory: each start of one that is given answers is on record like an install.

use std::{collections::BTreeMap, sync::Arc};

use lastmile_core::{
    decide::install::ArmRequest,
    model::{install::Install, machine::DefaultBoot},
};
use lastmile_formats::mac::Mac;

use super::ArmError;
use crate::records::Records;

/// Who arms the starts of hosts whose default boot it is.
const DEFAULT_BOOT: &str = "default boot";

impl Records {
    /// Begins the record of a start, when a machine asks for its menu that runs a live image and is given answers. One
    /// that goes on is gone on with, unless it began too often: then that is on record, and a new one begins, as a
    /// stateless host gets its image every time.
    pub(crate) async fn begin_start(self: &Arc<Self>, mac: Mac) {
        let site = self.site();
        let Some(machine) = site.machine_by_mac(mac) else { return };
        let (DefaultBoot::Live(image), Some(answers)) = (&machine.default_boot, &machine.live_answers) else {
            return;
        };
        let Some(image) = site.image_by_id(*image) else { return };
        match site.open_install(machine.id) {
            None => {}
            Some(open) if open.is_stateless && open.is_looping() => {
                let stall = |open: &Install, now| open.is_looping().then(|| open.stall(now)).flatten();
                if let Err(error) = self.move_install(machine.id, stall).await {
                    return tracing::error!(machine = machine.name, "a start was not ended: {error}");
                }
            }
            Some(_) => return,
        }
        let request = ArmRequest {
            machine: machine.name.clone(),
            image: image.name.clone(),
            answers: answers.clone(),
            asked: BTreeMap::new(),
        };
        match self.arm(request, DEFAULT_BOOT).await {
            Ok(_) => {}
            Err(ArmError::Store(error)) => {
                tracing::error!(machine = machine.name, "a start was not recorded: {error}");
            }
            Err(ArmError::Faults(faults)) => {
                // Another question of the same boot may have begun it meanwhile.
                if self.site().open_install(machine.id).is_none() {
                    let faults = faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
                    tracing::warn!(machine = machine.name, "it starts without its answers: {faults}");
                }
            }
        }
    }
}
