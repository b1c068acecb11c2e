//! `lastmile export …`

use clap::{Args, Subcommand};
use lastmile_api::{ExportsHostsQuery, ExportsZoneQuery, InventoryMachine};
use lastmile_client::Client;

use crate::output::{Failure, Output, or_dash, table};

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
    /// All machines and what they hold, with the digests of what was installed. With --json for programs.
    Inventory(Chosen),
}

/// Which machines.
#[derive(Debug, Args)]
pub(crate) struct Chosen {
    /// Only machines with this label; given several times, with all of them.
    #[arg(long)]
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
        Command::Inventory(chosen) => {
            out.show(&client.exports_inventory(&chosen.query()).await?, |all| rows(&all.machines));
        }
    }
    Ok(())
}

fn rows(machines: &[InventoryMachine]) -> String {
    let row = |machine: &InventoryMachine| {
        let held = machine.holds.as_ref();
        [
            machine.full_name.clone().unwrap_or_else(|| machine.name.clone()),
            or_dash(machine.address),
            or_dash(machine.macs.first()),
            or_dash((!machine.labels.is_empty()).then(|| machine.labels.join(", "))),
            or_dash(held.map(|held| format!("{} r{}", held.image, held.revision))),
            or_dash(held.map(|held| format!("{} v{}", held.answers, held.answers_version))),
            or_dash(held.and_then(|held| held.at).map(crate::output::clock)),
            or_dash(held.map(|held| held.armed_by.clone())),
        ]
    };
    let head = ["name", "address", "mac", "labels", "holds", "answers", "since", "armed by"];
    table(head, machines.iter().map(row))
}
