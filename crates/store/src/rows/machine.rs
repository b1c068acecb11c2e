use std::collections::HashMap;

use diesel::prelude::*;
use lastmile_core::{
    base::Id,
    model::machine::{Machine, Standing},
};
use lastmile_formats::mac::Mac;

use crate::{
    StoreError, Tx,
    schema::{machine, nic},
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = machine, treat_none_as_null = true)]
struct MachineRow {
    id: String,
    name: String,
    standing: String,
    live_image_id: Option<String>,
    created: i64,
    options: String,
    labels: String,
    facts: String,
    parameters: String,
    menu: Option<String>,
    live_answers: Option<String>,
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
        let (standing, live) = match &machine.standing {
            Standing::LocalDisk => ("local-disk", None),
            Standing::Menu => ("menu", None),
            Standing::Ignored => ("ignored", None),
            Standing::Live(image) => ("live", Some(image.to_string())),
        };
        Ok(Self {
            id: machine.id.to_string(),
            name: machine.name.clone(),
            standing: standing.into(),
            live_image_id: live,
            created: machine.created.as_millisecond(),
            options: value::options(&machine.options)?,
            labels: value::json(&machine.labels)?,
            facts: value::json(&machine.facts)?,
            parameters: value::json(&machine.parameters)?,
            menu: machine.menu.clone(),
            live_answers: machine.live_answers.clone(),
        })
    }
}

impl MachineRow {
    fn into_machine(self, macs: Vec<Mac>) -> Result<Machine, StoreError> {
        let read = Row { table: "machine", key: &self.name };
        let standing = match (self.standing.as_str(), &self.live_image_id) {
            ("local-disk", _) => Standing::LocalDisk,
            ("menu", _) => Standing::Menu,
            ("ignored", _) => Standing::Ignored,
            ("live", Some(image)) => Standing::Live(read.text(image)?),
            (other, _) => {
                let what = format!("no standing '{other}'");
                return Err(StoreError::Value { table: "machine", row: self.name, what });
            }
        };
        Ok(Machine {
            id: read.text(&self.id)?,
            macs,
            standing,
            options: read.options(&self.options)?,
            labels: read.json(&self.labels)?,
            facts: read.json(&self.facts)?,
            parameters: read.json(&self.parameters)?,
            menu: self.menu,
            live_answers: self.live_answers,
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
        let row = MachineRow::try_from(entity)?;
        let insert = diesel::insert_into(machine::table).values(&row);
        insert.on_conflict(machine::id).do_update().set(&row).execute(self.connection())?;
        let former = nic::table.filter(nic::machine_id.eq(&row.id));
        diesel::delete(former).execute(self.connection())?;
        let nics: Vec<NicRow> = (0..)
            .zip(&entity.macs)
            .map(|(place, mac)| NicRow { mac: mac.to_string(), machine_id: row.id.clone(), place })
            .collect();
        diesel::insert_into(nic::table).values(&nics).execute(self.connection())?;
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
