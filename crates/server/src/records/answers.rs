//! Answer files of real machines: what is known of them, the key, and the files themselves.

use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path};

use hex::FromHex;
use lastmile_core::{
    base::Fault,
    decide::{
        answers::{Addressing, AnswerFile, Subject, Target, resolve, write},
        boot::Viewer,
    },
    model::{
        answers::{BootMode, KEY_BYTES, SealKey},
        image::Revision,
        install::{Expected, Install},
        machine::Machine,
    },
    site::Site,
};

use super::Records;
use crate::random::random;

/// Name of the file in the data folder that holds the key of sealed secrets.
const KEY_FILE: &str = "secrets.key";

/// Reads the key that secrets are sealed with, or makes one for a new data folder.
///
/// # Errors
/// What is wrong with the file.
pub(crate) fn seal_key(data: &Path) -> Result<SealKey, String> {
    let path = data.join(KEY_FILE);
    match fs::read_to_string(&path) {
        Ok(text) => {
            let bytes = <[u8; KEY_BYTES]>::from_hex(text.trim());
            bytes.map(SealKey::new).map_err(|_| {
                format!("{} holds no key of 64 hexadecimal digits. Put the right file back", path.display())
            })
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let bytes = random::<KEY_BYTES>();
            let file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path);
            file.and_then(|mut file| {
                file.write_all(hex::encode(bytes).as_bytes())?;
                file.sync_all()
            })
            .map_err(|error| format!("{} cannot be written: {error}", path.display()))?;
            Ok(SealKey::new(bytes))
        }
        Err(error) => Err(format!("{} cannot be read: {error}", path.display())),
    }
}

impl Records {
    /// What is known of a machine that is to get a revision. One that has no address yet has that which its subnet would
    /// give first: for checks and previews.
    pub(crate) fn subject(&self, site: &Site, machine: &Machine, revision: Option<&Revision>) -> Subject {
        let subnet = self.wire.subnet_of(site, &machine.macs, None);
        let service = self.wire.service_for(subnet.as_deref());
        let Some(mac) = machine.macs.first().copied() else { return Subject::example() };
        let reserved = || {
            let subnet = subnet.as_deref()?;
            let own = |reservation: &&std::sync::Arc<lastmile_core::model::reservation::Reservation>| {
                machine.macs.iter().any(|mac| {
                    reservation.client == lastmile_core::model::reservation::ReservedFor::Mac(*mac)
                })
            };
            site.reservations_of(subnet.id).find(own).map(|reservation| reservation.address)
        };
        let first = || subnet.as_deref()?.pools.first().map(|pool| pool.first());
        let address = self.wire.address_of_macs(site, &machine.macs).or_else(reserved).or_else(first);
        let architecture = self.wire.architecture_of(site, mac);
        let viewer = Viewer {
            site,
            machine: Some(machine),
            mac,
            subnet: subnet.as_deref(),
            address,
            architecture,
            service,
            agent_token: None,
        };
        let mut values = viewer.values(revision);
        if values.address.is_none() {
            values.address = Subject::example().values.address;
        }
        let mode = |is_uefi| if is_uefi { BootMode::Uefi } else { BootMode::Bios };
        Subject { values, boot_mode: architecture.map(|architecture| mode(architecture.is_uefi())), service }
    }

    /// What is expected of the host that an install makes.
    pub(crate) fn expected(&self, site: &Site, machine: &Machine, install: &Install) -> Expected {
        let revision = site.revision(install.revision);
        let subject = self.subject(site, machine, revision.map(AsRef::as_ref));
        let layers = site.layers_of(install);
        let resolved = resolve(site.named(&layers), &subject, &install.asked).ok();
        let settings = resolved.map(|resolution| resolution.settings);
        let fixed =
            settings.iter().flat_map(|settings| &settings.links).filter_map(|link| match &link.addressing {
                Addressing::Fixed(nets) => Some(nets.iter().map(ipnet::Ipv4Net::addr)),
                Addressing::None | Addressing::Dhcp => None,
            });
        let mut addresses: Vec<std::net::Ipv4Addr> = fixed.flatten().collect();
        if addresses.is_empty() {
            addresses.extend(self.wire.address_of(site, machine));
        }
        Expected {
            host_name: settings.map_or_else(|| install.machine_name.clone(), |settings| settings.host_name),
            addresses,
            os_version: revision
                .and_then(|revision| revision.recognised.version.as_ref())
                .map(|version| version.value.clone()),
        }
    }

    /// Whether an install's answer files can be written with what was answered.
    ///
    /// # Errors
    /// What is wrong.
    pub(crate) fn check_answered(&self, site: &Site, install: &Install) -> Result<(), Vec<Fault>> {
        let (machine, revision) = (site.machine_by_id(install.machine), site.revision(install.revision));
        let (Some(machine), Some(revision)) = (machine, revision) else { return Ok(()) };
        self.answer_files(site, machine, revision, install).map(drop)
    }

    /// The answer files of an install, with all its secrets: for its machine alone.
    ///
    /// # Errors
    /// Why they cannot be written; arming has looked for that before.
    pub(crate) fn answer_files(
        &self,
        site: &Site,
        machine: &Machine,
        revision: &Revision,
        install: &Install,
    ) -> Result<Vec<AnswerFile>, Vec<Fault>> {
        let layers = site.layers_of(install);
        let subject = self.subject(site, machine, Some(revision));
        let resolution = resolve(site.named(&layers), &subject, &install.asked)?;
        let title = format!("{} v{}", install.answers_name, install.answers_version);
        let target = Target {
            install: Some(install),
            key: Some(&self.seal_key),
            ..Target::preview(&subject, Some(revision), &title)
        };
        write(revision.family, &resolution, &target)
    }
}
