//! `lastmile export …`

use clap::{Args, Subcommand};
use lastmile_api::{
    ExportsHostsQuery, ExportsInventoryQuery, ExportsMachinesQuery, ExportsZoneQuery, InventoryMachine,
};
use lastmile_client::Client;

use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns},
};

/// `lastmile export …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// All machines as lines of a hosts file.
    Hosts(Chosen),
    /// A zone file (RFC 1035): of a domain, or of a network for the way back from addresses to names.
    Zone {
        /// The domain, or a network of 8, 16 or 24 bits as in 192.0.2.0/24.
        of: String,
        /// The zone's name server, with its address as in ns.gannet.example=192.0.2.53 where it lies in the zone and is
        /// no machine of this service. Left out, only the records are written, for a zone that includes them.
        #[arg(long, value_name = "NAME[=ADDRESS]")]
        name_server: Option<String>,
        #[command(flatten)]
        chosen: Chosen,
    },
    /// All machines and what is installed on them, with its digests. With --json for programs.
    Inventory {
        #[command(flatten)]
        chosen: Chosen,
        /// With what surveys measured of them; in JSON.
        #[arg(long)]
        facts: bool,
    },
    /// Machines as the CSV file that `machine import` reads.
    Machines {
        /// The machines, by name or MAC address; all of them if left out.
        #[arg(value_name = "MACHINE", add = complete::machines())]
        machines: Vec<String>,
        #[command(flatten)]
        chosen: Chosen,
    },
}

/// Which machines.
#[derive(Debug, Args)]
pub(crate) struct Chosen {
    /// Only machines with this label; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
}

impl Chosen {
    fn label(&self) -> Option<String> {
        (!self.label.is_empty()).then(|| self.label.join(","))
    }

    fn query(&self) -> ExportsHostsQuery {
        ExportsHostsQuery { label: self.label() }
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Hosts(chosen) => out.show(&client.exports_hosts(&chosen.query()).await?, Clone::clone),
        Command::Zone { of, name_server, chosen } => {
            let query = ExportsZoneQuery { of, name_server, label: chosen.label() };
            out.show(&client.exports_zone(&query).await?, Clone::clone);
        }
        Command::Inventory { chosen, facts } => {
            let query = ExportsInventoryQuery { label: chosen.label(), facts: facts.then_some(true) };
            let all = client.exports_inventory(&query).await?;
            if out.is_json() {
                out.show(&all, |_| String::new());
            } else {
                out.list(&all.machines, rows);
            }
        }
        Command::Machines { machines, chosen } => {
            let machines = (!machines.is_empty()).then(|| machines.join(","));
            let query = ExportsMachinesQuery { machines, label: chosen.label() };
            out.line(client.exports_machines(&query).await?.trim_end());
        }
    }
    Ok(())
}

fn rows(machines: &[InventoryMachine]) -> Table {
    let row = |machine: &InventoryMachine| {
        let held = machine.holds.as_ref();
        [
            machine.full_name.clone().unwrap_or_else(|| machine.name.clone()).into(),
            Cell::maybe(machine.address),
            Cell::maybe(machine.macs.first()),
            Cell::list(&machine.labels),
            Cell::maybe(held.map(|held| format!("{} r{}", held.image, held.revision))),
            Cell::maybe(held.map(|held| format!("{} v{}", held.answers, held.answers_version))),
            Cell::clock(held.and_then(|held| held.at)),
            Cell::maybe(held.map(|held| held.armed_by.clone())),
        ]
    };
    let head = ["name", "address", "mac", "labels", "image", "answers", "since", "armed by"];
    columns(head, machines.iter().map(row))
}
