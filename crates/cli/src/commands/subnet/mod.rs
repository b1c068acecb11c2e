//! `lastmile subnet …`

mod advice;
mod picture;
mod settings;

use clap::Subcommand;
use lastmile_api::{
    Identify, Proposal, ReservationDraft, ReservationView, SubnetDraft, SubnetView, SubnetsRemoveQuery,
};
use lastmile_client::Client;
pub(crate) use settings::{Lists, Settings, name_and_value};

use super::edited;
use crate::output::{Failure, Output, clock, or_dash, pairs, table};

/// `lastmile subnet …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Add a subnet.
    Add {
        /// What to call it.
        name: String,
        /// Network and prefix length, as in 192.0.2.0/24.
        network: String,
        #[command(flatten)]
        settings: Box<Settings>,
    },
    /// Propose a subnet from what an interface of the service's host shows, each field with its reason.
    Suggest {
        /// The interface, as `ip link` shows it.
        #[arg(value_name = "INTERFACE")]
        wire: String,
        /// What to call the subnet; the interface's name if left out.
        #[arg(long)]
        name: Option<String>,
        /// Add it as proposed, with whatever else is said here in the place of the proposal.
        #[arg(long)]
        add: bool,
        #[command(flatten)]
        settings: Box<Settings>,
    },
    /// List all subnets.
    List,
    /// Show one subnet.
    Show {
        /// Its name.
        name: String,
    },
    /// Change a subnet: what is not named stays as it is, and lists (dns, ntp, pool, exclude, relay) grow.
    Change {
        /// Its name.
        name: String,
        #[command(flatten)]
        settings: Box<Settings>,
    },
    /// Draw a subnet: what every address is, and who has it until when.
    Picture {
        /// The subnet's name.
        name: String,
    },
    /// Who has which address, until when.
    Leases {
        /// The subnet's name.
        name: String,
    },
    /// Forget who holds an address, so that it may be lent again.
    Free {
        /// The subnet's name.
        name: String,
        /// The address.
        address: String,
    },
    /// Reserve an address for one client, which gets no other.
    Reserve {
        /// The subnet's name.
        name: String,
        /// The address.
        address: String,
        /// The client: a MAC address, uuid: and the machine's UUID, or id: and a client identifier in hexadecimal.
        client: String,
    },
    /// List the reservations of a subnet.
    Reservations {
        /// The subnet's name.
        name: String,
    },
    /// End the reservation of an address.
    Unreserve {
        /// The subnet's name.
        name: String,
        /// The address.
        address: String,
    },
    /// The values to enter in somebody else's DHCP server, for each kind of client, and the firewall's ports.
    Advice {
        /// The subnet's name.
        name: String,
    },
    /// Remove a subnet, unless addresses of it are reserved.
    Remove {
        /// Its name.
        name: String,
        /// Remove its reservations with it.
        #[arg(long)]
        with_reservations: bool,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add { name, network, settings } => {
            let mut draft = SubnetDraft::new(name, network);
            settings.apply(&mut draft, Lists::Grow)?;
            out.show(&client.subnets_create(&draft).await?, show);
        }
        Command::Suggest { wire, name, add, settings } => {
            let mut proposal = client.subnets_suggest(&wire).await?;
            proposal.draft.name = name.unwrap_or(proposal.draft.name);
            settings.apply(&mut proposal.draft, Lists::Replace)?;
            if add {
                out.show(&client.subnets_create(&proposal.draft).await?, show);
            } else {
                out.show(&proposal, |proposal| proposed(proposal, &wire));
            }
        }
        Command::List => out.show(&client.subnets_list().await?, |subnets| rows(subnets)),
        Command::Show { name } => out.show(&client.subnets_read(&name).await?.value, show),
        Command::Change { name, settings } => {
            let read = async || client.subnets_read(&name).await;
            let change = async |client: &Client, now: SubnetView| {
                let mut draft = now.subnet;
                settings.clone().apply(&mut draft, Lists::Grow)?;
                Ok(client.subnets_replace(&name, &draft).await?)
            };
            out.show(&edited::change(client, read, change).await?, show);
        }
        Command::Picture { name } => out.show(&client.subnets_picture(&name).await?, picture::text),
        Command::Leases { name } => out.show(&client.subnets_leases(&name).await?, |leases| {
            let row = |lease: &lastmile_api::LeaseView| {
                [
                    lease.address.to_string(),
                    lease.client.clone(),
                    or_dash(lease.machine.as_ref()),
                    lease.state.as_str().into(),
                    clock(lease.since),
                    clock(lease.until),
                ]
            };
            table(["address", "client", "machine", "state", "since", "until"], leases.iter().map(row))
        }),
        Command::Free { name, address } => {
            client.subnets_free(&name, &address).await?;
            out.say(&format!("{address} is free"));
        }
        Command::Reserve { name, address, client: whom } => {
            let reserved = client.subnets_reserve(&name, &ReservationDraft { address, client: whom }).await?;
            out.show(&reserved, |reserved| reservations(std::slice::from_ref(reserved)));
        }
        Command::Reservations { name } => {
            out.show(&client.subnets_reservations(&name).await?, |all| reservations(all));
        }
        Command::Unreserve { name, address } => {
            client.subnets_unreserve(&name, &address).await?;
            out.say(&format!("{address} is reserved for nobody"));
        }
        Command::Advice { name } => out.show(&client.subnets_advice(&name).await?, advice::text),
        Command::Remove { name, with_reservations } => {
            let removal = SubnetsRemoveQuery { with_reservations: with_reservations.then_some(true) };
            client.subnets_remove(&name, &removal).await?;
            out.say(&format!("subnet {name} removed"));
        }
    }
    Ok(())
}

fn rows(subnets: &[SubnetView]) -> String {
    let row = |view: &SubnetView| {
        let subnet = &view.subnet;
        [
            subnet.name.clone(),
            subnet.network.clone(),
            subnet.mode.as_str().into(),
            or_dash(subnet.interface.clone().or_else(|| {
                (!subnet.relays.is_empty()).then(|| format!("relay {}", subnet.relays.join(", ")))
            })),
            or_dash(subnet.vlan),
            or_dash((!subnet.pools.is_empty()).then(|| subnet.pools.join(" "))),
            format!("{} of {}", view.leased, view.pool_size),
            subnet.newcomers.as_str().into(),
        ]
    };
    let head = ["name", "network", "mode", "reached by", "vlan", "pools", "leased", "newcomers get"];
    table(head, subnets.iter().map(row))
}

fn reservations(all: &[ReservationView]) -> String {
    let row = |reserved: &ReservationView| {
        [reserved.address.to_string(), reserved.client.clone(), or_dash(reserved.machine.as_ref())]
    };
    table(["address", "client", "machine"], all.iter().map(row))
}

/// The fields of a subnet, named as the API names them.
fn fields(subnet: &SubnetDraft) -> Vec<(&'static str, String)> {
    let list = |values: &[String]| or_dash((!values.is_empty()).then(|| values.join(", ")));
    let yes = |value: bool| if value { "yes" } else { "no" }.to_owned();
    let options: Vec<String> =
        subnet.options.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    vec![
        ("name", subnet.name.clone()),
        ("network", subnet.network.clone()),
        ("mode", subnet.mode.as_str().into()),
        ("router", or_dash(subnet.router.as_ref())),
        ("dns", list(&subnet.dns)),
        ("domain", or_dash(subnet.domain.as_ref())),
        ("ntp", list(&subnet.ntp)),
        ("lease", format!("{} s", subnet.lease_secs)),
        ("pools", list(&subnet.pools)),
        ("exclusions", list(&subnet.exclusions)),
        ("interface", or_dash(subnet.interface.as_ref())),
        ("vlan", or_dash(subnet.vlan)),
        ("relays", list(&subnet.relays)),
        ("newcomers", subnet.newcomers.as_str().into()),
        ("menu", or_dash(subnet.menu.as_ref())),
        ("probe", yes(subnet.probe)),
        ("authoritative", yes(subnet.authoritative)),
        ("response delay", format!("{} ms", subnet.response_delay_ms)),
        ("identified by", subnet.identify.unwrap_or_else(|| Identify::of_mode(subnet.mode)).as_str().into()),
        ("http boot", subnet.http_boot.as_str().into()),
        ("options", or_dash((!options.is_empty()).then(|| options.join("\n")))),
    ]
}

fn show(view: &SubnetView) -> String {
    let mut fields = fields(&view.subnet);
    fields.push(("leased", format!("{} of {}", view.leased, view.pool_size)));
    fields.push(("quarantined", view.quarantined.to_string()));
    fields.push(("reserved", view.reserved.to_string()));
    fields.push(("machines reach", view.service.to_string()));
    pairs(fields)
}

fn proposed(proposal: &Proposal, interface: &str) -> String {
    let reason = |place: &str| proposal.reasons.iter().find(|reason| reason.place == place);
    let rows = fields(&proposal.draft).into_iter().filter_map(|(field, value)| {
        let why = reason(field).map(|reason| reason.why.clone());
        // Fields without a reason have their defaults, which `subnet show` tells.
        (why.is_some() || field == "name").then(|| [field.to_owned(), value, or_dash(why)])
    });
    let mut text = table(["field", "proposed", "because"], rows);
    let name = &proposal.draft.name;
    text.push_str(&format!(
        "\nNothing is saved. Add it so with `lastmile subnet suggest {interface} --name {name} --add`,\nand say what \
         should be otherwise beside it, as in `--router 192.0.2.1`.\n"
    ));
    text
}
