//! What was recorded, for those who watch.

use std::sync::{Arc, Weak};

use lastmile_api::{Event, LogLine};
use lastmile_core::{
    model::{
        install::{Install, Step, StepKind},
        job::Job,
        machine::Machine,
    },
    site::Site,
};
use lastmile_store::Recorded;

use super::{Records, macs_of, scope_name};

/// Has the service told of everything that is recorded from now on.
pub(crate) fn observe(records: &Arc<Records>) {
    // The store belongs to the records: it must not keep them alive.
    let watching: Weak<Records> = Arc::downgrade(records);
    records.store.observe(move |site, recorded| {
        if let Some(records) = watching.upgrade() {
            recorded.into_iter().for_each(|recorded| records.publish(site, recorded));
        }
    });
}

impl Records {
    /// Runs on the writing thread: whatever takes time is only started here.
    fn publish(&self, site: &Site, recorded: Recorded) {
        match recorded {
            Recorded::Subnet { name } => self.tell(Event::Subnet { name }),
            Recorded::Loader { name } => {
                if site.loader(&name).is_none() {
                    self.sweep_soon.notify_one();
                }
                self.tell(Event::Loader { name });
            }
            Recorded::Menu { name } => self.tell(Event::Menu { name }),
            Recorded::Label { name } => self.tell(Event::Label { name }),
            Recorded::Settings => {
                self.verify_soon.notify_one();
                self.tell(Event::Settings);
            }
            Recorded::Image { name } => {
                self.verify_soon.notify_one();
                self.sweep_soon.notify_one();
                self.tell(Event::Image { name });
            }
            Recorded::Answers { scope } => self.tell(Event::Answers { name: scope_name(site, &scope) }),
            Recorded::Machine { id } => {
                if let Some(machine) = site.machine_by_id(id) {
                    self.tell_machine(site, machine);
                }
            }
            Recorded::MachineGone { name } => self.tell(Event::Gone { name }),
            Recorded::Install { install, step } => {
                if step.kind == StepKind::Armed {
                    self.note_token(install.token.reveal());
                }
                self.tell_install(site, &install, &step);
            }
            Recorded::Log { install, lines } => {
                let lines = lines.into_iter().map(|line| LogLine { at: line.at, line: line.line });
                self.tell(Event::Log { install, lines: lines.collect() });
            }
            Recorded::Job { job, step } => {
                tracing::info!(
                    job = job.number,
                    machine = job.machine_name,
                    state = job.state.as_str(),
                    step = step.text
                );
                self.wire.agents.wake(&macs_of(site, &job));
                if !job.state.is_open() {
                    self.wire.shells.forget(job.number);
                }
                self.tell_job(site, &job);
            }
            Recorded::JobLog { job, first, lines } => {
                let lines = lines.into_iter().map(|line| LogLine { at: line.at, line: line.line });
                self.tell(Event::JobLog { job, first, lines: lines.collect() });
            }
            Recorded::Survey { mac, .. } => match site.machine_by_mac(mac) {
                Some(machine) => self.tell_machine(site, machine),
                None => self.tell(Event::Newcomer { mac: mac.to_string() }),
            },
            Recorded::Rule { name } => self.tell(Event::Rule { name }),
            Recorded::Proposals => self.tell(Event::Proposals),
            Recorded::Locations => self.tell(Event::Locations),
            Recorded::Webhook { name } => {
                self.deliver_soon.notify_one();
                self.tell(Event::Delivery { webhook: name });
            }
        }
    }

    pub(super) fn tell(&self, event: Event) {
        // Nobody may be watching.
        let _ = self.events.send(event);
    }

    /// Tells the log and whoever watches that an install moved on.
    fn tell_install(&self, site: &Site, install: &Install, step: &Step) {
        tracing::info!(
            install = install.number,
            machine = install.machine_name,
            state = install.state.as_str(),
            step = step.kind.as_str(),
            detail = step.detail
        );
        if !install.state.is_open() {
            self.paces.ended(install);
        }
        if self.events.receiver_count() > 0 {
            self.tell(Event::Install { install: Box::new(self.install_row(install)) });
        }
        if let Some(machine) = site.machine_by_id(install.machine) {
            self.tell_machine(site, machine);
        }
    }

    /// Tells whoever watches how a job is now.
    pub(crate) fn tell_job(&self, site: &Site, job: &Job) {
        if self.events.receiver_count() > 0 {
            self.tell(Event::Job { job: Box::new(self.job_row(site, job)) });
        }
    }

    /// Tells whoever watches how a machine is now.
    pub(crate) fn tell_machine(&self, site: &Site, machine: &Machine) {
        self.wire.agents.wake(&machine.macs);
        if self.events.receiver_count() > 0 {
            let machine = Box::new(self.machine_row(site, machine));
            // Nobody may be watching any more.
            let _ = self.events.send(Event::Machine { machine });
        }
    }
}
