//! Machines, their installs, and what those say.

use jiff::Timestamp;
use lastmile_core::{
    model::{
        answers::Scope,
        install::{Install, Step},
        machine::Machine,
    },
    site::Entity,
};

use super::Change;
use crate::{LogLine, Recorded, StoreError};

impl Change<'_> {
    /// Adds a machine, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_machine(&mut self, machine: Machine) -> Result<(), StoreError> {
        self.tx.put_machine(&machine)?;
        self.show_machines(vec![machine])
    }

    /// Adds machines, or puts them in the places of those of their identities.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        self.tx.put_machines(&machines)?;
        self.show_machines(machines)
    }

    /// Gives machines other names, which may change hands among them. Nothing else of them is written.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        self.tx.rename_machines(&machines)?;
        self.show_machines(machines)
    }

    fn show_machines(&mut self, machines: Vec<Machine>) -> Result<(), StoreError> {
        let former = machines.iter().filter_map(|machine| self.site().machine_by_id(machine.id));
        let names: Vec<String> = former.map(|former| former.name.clone()).collect();
        for machine in &machines {
            self.stamp(Entity::Machine(machine.id))?;
            self.record(Recorded::Machine { id: machine.id });
        }
        self.with(|site| site.with_machines(machines));
        for name in names {
            if self.site().machine(&name).is_none() {
                self.record(Recorded::MachineGone { name });
            }
        }
        Ok(())
    }

    /// Removes a machine with its own settings; its installs stay on record.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_machine(&mut self, machine: &Machine, now: Timestamp) -> Result<(), StoreError> {
        self.tx.remove_machine(machine.id)?;
        self.tx.note_left(machine, now)?;
        for mac in &machine.macs {
            self.remove_proposal(*mac)?;
        }
        let own = Scope::Machine(machine.id);
        if self.site().settings_of(&own).is_some() {
            self.remove_answers(&own)?;
        }
        let recorded = Recorded::MachineGone { name: machine.name.clone() };
        self.removed(&Entity::Machine(machine.id), recorded, |site| site.without_machine(machine))
    }

    /// The number of the next install: one more than the last that was ever armed.
    ///
    /// # Errors
    /// What the database refused.
    pub fn next_install_number(&mut self) -> Result<i64, StoreError> {
        Ok(self.tx.last_install_number()? + 1)
    }

    /// Keeps an install as it is now, with the step that brought it there.
    ///
    /// # Errors
    /// What the database refused: among others a second open install of one machine.
    pub fn put_install(&mut self, install: Install, step: Step) -> Result<(), StoreError> {
        self.tx.put_install(&install, &step)?;
        let shown = install.clone();
        self.with(|site| site.with_install(shown));
        self.record(Recorded::Install { install: Box::new(install), step });
        Ok(())
    }

    /// Keeps the digest over all files of what is installed, which was not known when the install was armed.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_manifest_hash(&mut self, install: Install) -> Result<(), StoreError> {
        if let Some(hash) = install.manifest_hash {
            self.tx.set_manifest_hash(install.number, hash)?;
            self.with(|site| site.with_install(install));
        }
        Ok(())
    }

    /// Keeps lines of an install's log.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_log(&mut self, install: i64, lines: Vec<LogLine>) -> Result<(), StoreError> {
        self.tx.add_log(install, &lines)?;
        self.record(Recorded::Log { install, lines });
        Ok(())
    }
}
