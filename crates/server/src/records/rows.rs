//! Records as lists show them.

use std::{net::Ipv4Addr, sync::Arc};

use jiff::Timestamp;
use lastmile_api::{InstallRow, Installed, JobRow, MachineRow, Stage};
use lastmile_core::{
    decide::machine::DefaultBootDraft,
    model::{
        answers::Scope,
        install::Install,
        job::{Job, JobProgress},
        machine::Machine,
        subnet::Subnet,
    },
    site::Site,
};
use lastmile_formats::mac::Mac;

use super::{Records, macs_of};
use crate::clock;

impl Records {
    /// The address that a machine has now.
    pub(crate) fn address_of(&self, site: &Site, machine: &Machine) -> Option<Ipv4Addr> {
        self.wire.address_of(site, machine)
    }

    /// The subnet that one of these NICs boots on, as far as it is known.
    pub(crate) fn subnet_of(&self, site: &Site, macs: &[Mac], from: Option<Ipv4Addr>) -> Option<Arc<Subnet>> {
        self.wire.subnet_of(site, macs, from)
    }

    /// The service's own addresses.
    pub(crate) fn own_addresses(&self) -> Vec<Ipv4Addr> {
        self.wire.services.addresses().collect()
    }

    /// An install as lists show it.
    pub(crate) fn install_row(&self, install: &Install) -> InstallRow {
        InstallRow::new(install, self.paces.progress(install, clock::now()))
    }

    /// A job as lists show it.
    pub(crate) fn job_row(&self, site: &Site, job: &Job) -> JobRow {
        let agents = &self.wire.agents;
        let is_connected = job.state.is_open() && agents.on(&macs_of(site, job)).is_some();
        JobRow::new(job, agents.progress(job.number), is_connected)
    }

    /// Notes how far a job is, as its agent says; nothing once it has ended.
    pub(crate) fn note_progress(&self, job: i64, progress: Option<JobProgress>) {
        match progress {
            Some(progress) => self.wire.agents.set_progress(job, progress),
            None => self.wire.agents.forget_progress(job),
        }
    }

    /// A machine as lists show it.
    pub(crate) fn machine_row(&self, site: &Site, machine: &Machine) -> MachineRow {
        let latest = site.latest_install(machine.id);
        let last_installed = site.last_installed(machine.id);
        let installed = last_installed.map(|install| Installed {
            image: install.image.clone(),
            revision: install.image_revision,
            install: install.number,
            at: install.ended_at.unwrap_or(install.armed_at),
            behind: site
                .image(&install.image)
                .is_some_and(|image| image.current.number > install.image_revision),
            differs: install.outcome.as_ref().map(|outcome| outcome.differences().len()),
        });
        MachineRow {
            name: machine.name.clone(),
            macs: machine.macs.iter().map(ToString::to_string).collect(),
            stage: Stage::of(latest.map(|install| install.state), last_installed.is_some()),
            last_step: latest.and_then(|install| install.last_step),
            install: latest.map(|install| install.number),
            target: latest.map(|install| install.image.clone()),
            installed,
            address: self.wire.address_of(site, machine),
            default_boot: DefaultBootDraft::of(site, machine),
            labels: machine.labels.clone(),
            last_seen: self.last_seen(site, machine),
            columns: Vec::new(),
        }
    }

    /// When something was last heard of a machine.
    pub(crate) fn last_seen(&self, site: &Site, machine: &Machine) -> Option<Timestamp> {
        let latest = site.latest_install(machine.id).filter(|install| install.last_step.is_some());
        self.wire.traces().last_seen(&machine.macs).max(latest.map(|install| install.last_step_at))
    }
}

/// How a layer is called in paths: the answers' name, `site:`, `label:NAME` or `machine:NAME`.
pub(crate) fn scope_name(site: &Site, scope: &Scope) -> String {
    match scope {
        Scope::Site => "site:".into(),
        Scope::Answers(name) => name.clone(),
        Scope::Label(name) => format!("label:{name}"),
        Scope::Machine(id) => {
            let machine = site.machine_by_id(*id);
            format!("machine:{}", machine.map_or_else(|| id.to_string(), |machine| machine.name.clone()))
        }
    }
}
