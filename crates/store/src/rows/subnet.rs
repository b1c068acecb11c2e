use diesel::prelude::*;
use jiff::SignedDuration;
use lastmile_core::{
    base::{Id, range::AddressRange},
    model::subnet::Subnet,
};

use crate::{
    StoreError, Tx,
    schema::subnet,
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = subnet, treat_none_as_null = true)]
struct SubnetRow {
    id: String,
    name: String,
    network: String,
    mode: String,
    router: Option<String>,
    dns: String,
    domain: Option<String>,
    ntp: String,
    lease_secs: i64,
    pools: String,
    interface: Option<String>,
    relays: String,
    newcomers: String,
    exclusions: String,
    vlan: Option<i32>,
    probe: bool,
    authoritative: bool,
    head_start_ms: i64,
    identify: String,
    http_boot: String,
    options: String,
    menu: Option<String>,
}

impl TryFrom<&Subnet> for SubnetRow {
    type Error = StoreError;

    fn try_from(subnet: &Subnet) -> Result<Self, StoreError> {
        Ok(Self {
            id: subnet.id.to_string(),
            name: subnet.name.clone(),
            network: subnet.network.to_string(),
            mode: value::name(&subnet.mode)?,
            router: subnet.router.map(|router| router.to_string()),
            dns: value::json(&subnet.dns)?,
            domain: subnet.domain.clone(),
            ntp: value::json(&subnet.ntp)?,
            lease_secs: subnet.lease.as_secs(),
            pools: value::json(&subnet.pools)?,
            interface: subnet.interface.clone(),
            relays: value::json(&subnet.relays)?,
            newcomers: value::name(&subnet.newcomers)?,
            exclusions: value::json(&subnet.exclusions)?,
            vlan: subnet.vlan.map(i32::from),
            probe: subnet.probe,
            authoritative: subnet.authoritative,
            head_start_ms: subnet.head_start.as_millis().try_into().unwrap_or(i64::MAX),
            identify: value::name(&subnet.identify)?,
            http_boot: value::name(&subnet.http_boot)?,
            options: value::options(&subnet.options)?,
            menu: subnet.menu.clone(),
        })
    }
}

impl TryFrom<SubnetRow> for Subnet {
    type Error = StoreError;

    fn try_from(row: SubnetRow) -> Result<Self, StoreError> {
        let read = Row { table: "subnet", key: &row.name };
        let pools: Vec<AddressRange> = read.json(&row.pools)?;
        let exclusions: Vec<AddressRange> = read.json(&row.exclusions)?;
        Ok(Self {
            id: read.text(&row.id)?,
            network: read.text(&row.network)?,
            mode: read.name(&row.mode)?,
            router: read.maybe(row.router.as_deref())?,
            dns: read.json(&row.dns)?,
            ntp: read.json(&row.ntp)?,
            lease: SignedDuration::from_secs(row.lease_secs),
            lendable: AddressRange::without(&pools, &exclusions),
            pools,
            exclusions,
            vlan: row.vlan.and_then(|vlan| u16::try_from(vlan).ok()),
            probe: row.probe,
            authoritative: row.authoritative,
            head_start: SignedDuration::from_millis(row.head_start_ms),
            identify: read.name(&row.identify)?,
            http_boot: read.name(&row.http_boot)?,
            options: read.options(&row.options)?,
            menu: row.menu,
            relays: read.json(&row.relays)?,
            newcomers: read.name(&row.newcomers)?,
            interface: row.interface,
            domain: row.domain,
            name: row.name,
        })
    }
}

impl Tx<'_> {
    /// Adds a subnet, or puts it in the place of the one of its identity.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_subnet(&mut self, entity: &Subnet) -> Result<(), StoreError> {
        let row = SubnetRow::try_from(entity)?;
        let insert = diesel::insert_into(subnet::table).values(&row);
        insert.on_conflict(subnet::id).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// Removes a subnet.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_subnet(&mut self, id: Id<Subnet>) -> Result<(), StoreError> {
        diesel::delete(subnet::table.find(id.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn subnets(&mut self) -> Result<Vec<Subnet>, StoreError> {
        let query = subnet::table.order(subnet::name).select(SubnetRow::as_select());
        query.load(self.connection())?.into_iter().map(Subnet::try_from).collect()
    }
}
