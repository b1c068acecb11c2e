//! Addresses of machines that no lease of ours says.

use std::net::Ipv4Addr;

use diesel::prelude::*;
use jiff::Timestamp;
use lastmile_formats::mac::Mac;

use crate::{StoreError, Tx, schema::address_note, value::Row};

/// How it is known which address a machine has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum NoteKind {
    /// It was overheard of another DHCP server.
    Heard,
    /// It was the first address that claimed the machine during a boot.
    Claim,
}

impl NoteKind {
    const fn as_str(self) -> &'static str {
        match self {
            Self::Heard => "heard",
            Self::Claim => "claim",
        }
    }
}

/// Which address a machine has, as far as that is known without a lease.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AddressNote {
    /// How it is known.
    pub kind: NoteKind,
    /// The machine's MAC address.
    pub mac: Mac,
    /// The address.
    pub address: Ipv4Addr,
    /// When it was seen last.
    pub at: Timestamp,
}

impl Tx<'_> {
    pub(crate) fn put_address_note(&mut self, note: &AddressNote) -> Result<(), StoreError> {
        let row = (
            address_note::kind.eq(note.kind.as_str()),
            address_note::mac.eq(note.mac.to_string()),
            address_note::address.eq(note.address.to_string()),
            address_note::at.eq(note.at.as_millisecond()),
        );
        diesel::replace_into(address_note::table).values(row).execute(self.connection())?;
        Ok(())
    }

    /// Forgets all notes that were last seen before `before`.
    pub(crate) fn forget_address_notes(&mut self, before: Timestamp) -> Result<(), StoreError> {
        let old = address_note::table.filter(address_note::at.lt(before.as_millisecond()));
        diesel::delete(old).execute(self.connection())?;
        Ok(())
    }

    /// All notes, the one seen last last.
    pub(crate) fn address_notes(&mut self) -> Result<Vec<AddressNote>, StoreError> {
        let rows: Vec<(String, String, String, i64)> =
            address_note::table.order(address_note::at).load(self.connection())?;
        let note = |(kind, mac, address, at): (String, String, String, i64)| {
            let read = Row { table: "address_note", key: &mac };
            let kind = if kind == "claim" { NoteKind::Claim } else { NoteKind::Heard };
            Ok(AddressNote { kind, mac: read.text(&mac)?, address: read.text(&address)?, at: read.time(at)? })
        };
        rows.into_iter().map(note).collect()
    }
}
