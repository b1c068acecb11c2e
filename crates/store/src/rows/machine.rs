use std::collections::HashMap;

use diesel::prelude::*;
use lastmile_core::{
    base::Id,
    model::machine::{DefaultBoot, Machine},
};
use lastmile_formats::mac::Mac;

use crate::{
    StoreError, Tx,
    schema::{machine, nic},
    value::{self, Row},
};

/// NICs that are inserted by one statement: SQLite binds 32,766 values at most.
const AT_ONCE: usize = 5000;

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = machine, treat_none_as_null = true)]
struct MachineRow {
    id: String,
    name: String,
    default_boot: String,
    live_image_id: Option<String>,
    created: i64,
    options: String,
    labels: String,
    details: String,
    parameters: String,
    without_parameters: String,
    menu: Option<String>,
    live_answers: Option<String>,
    given: String,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = nic)]
struct NicRow {
    mac: String,
    machine_id: String,
    place: i32,
}

impl TryFrom<&Machine> for MachineRow {
    type Error = StoreError;

    fn try_from(machine: &Machine) -> Result<Self, StoreError> {
        let (default_boot, live) = match &machine.default_boot {
            DefaultBoot::LocalDisk => ("local-disk", None),
            DefaultBoot::Menu => ("menu", None),
            DefaultBoot::Ignored => ("ignored", None),
            DefaultBoot::Live(image) => ("live", Some(image.to_string())),
        };
        Ok(Self {
            id: machine.id.to_string(),
            name: machine.name.clone(),
            default_boot: default_boot.into(),
            live_image_id: live,
            created: machine.created.as_millisecond(),
            options: value::options(&machine.options)?,
            labels: value::json(&machine.labels)?,
            details: value::json(&machine.details)?,
            parameters: value::json(&machine.parameters)?,
            without_parameters: value::json(&machine.without_parameters)?,
            menu: machine.menu.clone(),
            live_answers: machine.live_answers.clone(),
            given: value::json(&machine.given)?,
        })
    }
}

impl MachineRow {
    fn into_machine(self, macs: Vec<Mac>) -> Result<Machine, StoreError> {
        let read = Row { table: "machine", key: &self.name };
        let default_boot = match (self.default_boot.as_str(), &self.live_image_id) {
            ("local-disk", _) => DefaultBoot::LocalDisk,
            ("menu", _) => DefaultBoot::Menu,
            ("ignored", _) => DefaultBoot::Ignored,
            ("live", Some(image)) => DefaultBoot::Live(read.text(image)?),
            (other, _) => {
                let what = format!("no default boot '{other}'");
                return Err(StoreError::Value { table: "machine", row: self.name, what });
            }
        };
        Ok(Machine {
            id: read.text(&self.id)?,
            macs,
            default_boot,
            options: read.options(&self.options)?,
            labels: read.json(&self.labels)?,
            details: read.json(&self.details)?,
            parameters: read.json(&self.parameters)?,
            without_parameters: read.json(&self.without_parameters)?,
            menu: self.menu,
            live_answers: self.live_answers,
            given: read.json(&self.given)?,
            created: read.time(self.created)?,
            name: self.name,
        })
    }
}

impl Tx<'_> {
    /// Adds a machine, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_machine(&mut self, entity: &Machine) -> Result<(), StoreError> {
        self.put_machines(std::slice::from_ref(entity))
    }

    /// Adds machines, or puts them in the places of those of their identities. NICs may change hands among them.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_machines(&mut self, machines: &[Machine]) -> Result<(), StoreError> {
        for entity in machines {
            let row = MachineRow::try_from(entity)?;
            let insert = diesel::insert_into(machine::table).values(&row);
            insert.on_conflict(machine::id).do_update().set(&row).execute(self.connection())?;
            let former = nic::table.filter(nic::machine_id.eq(&row.id));
            diesel::delete(former).execute(self.connection())?;
        }
        let nics = machines.iter().flat_map(|machine| {
            let nic = |(place, mac): (i32, &Mac)| NicRow {
                mac: mac.to_string(),
                machine_id: machine.id.to_string(),
                place,
            };
            (0..).zip(&machine.macs).map(nic)
        });
        for some in nics.collect::<Vec<_>>().chunks(AT_ONCE) {
            diesel::insert_into(nic::table).values(some).execute(self.connection())?;
        }
        Ok(())
    }

    /// Gives machines other names, which may change hands among them.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn rename_machines(&mut self, machines: &[Machine]) -> Result<(), StoreError> {
        // Out of each other's way first: no two may have one name at any moment.
        for machine in machines {
            self.rename(machine, &machine.id.to_string())?;
        }
        machines.iter().try_for_each(|machine| self.rename(machine, &machine.name))
    }

    fn rename(&mut self, machine: &Machine, name: &str) -> Result<(), StoreError> {
        let row = machine::table.find(machine.id.to_string());
        diesel::update(row).set(machine::name.eq(name)).execute(self.connection())?;
        Ok(())
    }

    /// Removes a machine; its installs stay on record.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_machine(&mut self, id: Id<Machine>) -> Result<(), StoreError> {
        diesel::delete(machine::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn machines(&mut self) -> Result<Vec<Machine>, StoreError> {
        let query = nic::table.order((nic::machine_id, nic::place));
        let mut macs: HashMap<String, Vec<Mac>> = HashMap::new();
        for row in query.select(NicRow::as_select()).load(self.connection())? {
            let mac = Row { table: "nic", key: &row.mac }.text(&row.mac)?;
            macs.entry(row.machine_id).or_default().push(mac);
        }
        let rows = machine::table.select(MachineRow::as_select()).load(self.connection())?;
        rows.into_iter()
            .map(|row| {
                let macs = macs.remove(&row.id).unwrap_or_default();
                row.into_machine(macs)
            })
            .collect()
    }
}
