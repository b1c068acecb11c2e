//! `lastmile subnet …`

mod advice;
mod picture;
mod settings;

use std::collections::BTreeMap;

use clap::Subcommand;
use lastmile_api::{
    Identify, Proposal, Reason, Renamed, ReservationDraft, ReservationView, SubnetDraft, SubnetView,
    SubnetsRemoveQuery,
};
use lastmile_client::{Client, ClientError, Edited};
pub(crate) use settings::{Settings, name_and_value};

use super::object::{self, CanAdd, CanRename, Change, Copy, EditOne, Object, Rename};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, columns, or_dash, pairs},
};

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
        /// Check it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Propose a subnet from what an interface of the service's host shows, each field with its reason.
    Suggest {
        /// The interface, as `ip link` shows it.
        #[arg(value_name = "INTERFACE")]
        wire: String,
        /// What to call the subnet; the interface's name if left out.
        #[arg(long)]
        name: Option<String>,
        /// Add it as proposed, with what is given here in the place of what is proposed.
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
        #[arg(add = complete::names())]
        name: String,
    },
    /// Change subnets, as in --set router=192.0.2.1 or --append pools=192.0.2.50-192.0.2.99.
    Change(Change),
    /// Change a subnet in $EDITOR.
    Edit(EditOne),
    /// Add a subnet like another: --set network=… and what else differs.
    Copy(Copy),
    /// Rename a subnet.
    Rename(Rename),
    /// Draw a subnet: what every address is, and who has it until when.
    Picture {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Who has which address, until when.
    Leases {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Forget who holds an address, so that it may be lent again.
    Free {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
        /// The address.
        address: String,
        /// Check it, and change nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
    /// Reserve an address for one client, which gets no other.
    Reserve {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
        /// The address.
        address: String,
        /// The client: a machine's name, a MAC address, uuid: and the machine's UUID, or id: and a client identifier in
        /// hexadecimal.
        #[arg(add = complete::machines())]
        client: String,
        /// Check it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// List the reservations of a subnet.
    Reservations {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// End the reservation of an address.
    Unreserve {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
        /// The address.
        address: String,
        /// Check it, and change nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
    /// The values to enter in somebody else's DHCP server, for each kind of client, and the firewall's ports.
    Advice {
        /// The subnet's name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Remove subnets of which no address is reserved.
    Remove {
        /// Their names.
        #[arg(required = true, value_name = "NAME", add = complete::names())]
        names: Vec<String>,
        /// Remove their reservations with them.
        #[arg(long)]
        with_reservations: bool,
        /// Check whether they can be removed, and remove nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
}

/// Subnets, as they are entered.
struct Subnets;

impl Object for Subnets {
    type Draft = SubnetDraft;
    const NOUN: &'static str = "subnet";
    const FIX: &'static str = "`lastmile subnet show NAME --json` has all fields.";

    async fn read(client: &Client, name: &str) -> Result<Edited<SubnetDraft>, ClientError> {
        let read = client.subnets_read(name).await?;
        Ok(Edited { value: read.value.subnet, etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &SubnetDraft) -> Result<(), ClientError> {
        client.subnets_replace(name, draft).await.map(drop)
    }
}

impl CanAdd for Subnets {
    async fn add(client: &Client, name: &str, draft: &SubnetDraft) -> Result<(), ClientError> {
        client.subnets_create(&SubnetDraft { name: name.into(), ..draft.clone() }).await.map(drop)
    }
}

impl CanRename for Subnets {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        object::rename_by_change::<Self>(client, old, new, |draft, new| new.clone_into(&mut draft.name)).await
    }
}

const LOSES: &str = "Machines on it are no longer answered.";

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add { name, network, settings, dry_run } => {
            let mut draft = SubnetDraft::new(name, network);
            settings.apply(&mut draft)?;
            let added = client.trying(dry_run).subnets_create(&draft).await?;
            out.show(&added, |added| show(added) + object::saved(dry_run));
        }
        Command::Suggest { wire, name, add, settings } => {
            let mut proposal = client.subnets_suggest(&wire).await?;
            let alone = proposal.draft.clone();
            proposal.draft.name = name.unwrap_or(proposal.draft.name);
            settings.apply(&mut proposal.draft)?;
            said_by_hand(&mut proposal, &alone);
            if add {
                out.show(&client.subnets_create(&proposal.draft).await?, show);
            } else {
                out.show(&proposal, proposed);
            }
        }
        Command::List => out.list(&client.subnets_list().await?, rows),
        Command::Show { name } => out.show(&client.subnets_read(&name).await?.value, show),
        Command::Change(args) => object::change::<Subnets>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Subnets>(&args, client, out).await?,
        Command::Copy(args) => object::copy::<Subnets>(&args, client, out, |_| {}).await?,
        Command::Rename(args) => object::rename::<Subnets>(&args, client, out).await?,
        Command::Picture { name } => out.show(&client.subnets_picture(&name).await?, picture::text),
        Command::Leases { name } => out.list(&client.subnets_leases(&name).await?, leases),
        Command::Free { name, address, dry_run, confirm } => {
            if !dry_run {
                confirm.ask(&format!(
                    "Free {address}? If the machine that has it is still running, another may get it, too."
                ))?;
            }
            client.trying(dry_run).subnets_free(&name, &address).await?;
            out.say(&format!("{address} {}", if dry_run { "could be freed" } else { "is free" }));
            out.say_tried(dry_run);
        }
        Command::Reserve { name, address, client: whom, dry_run } => {
            let draft = ReservationDraft { address, client: whom };
            let reserved = client.trying(dry_run).subnets_reserve(&name, &draft).await?;
            out.show(&reserved, |reserved| {
                reservations(std::slice::from_ref(reserved)).text() + object::saved(dry_run)
            });
        }
        Command::Reservations { name } => {
            out.list(&client.subnets_reservations(&name).await?, reservations);
        }
        Command::Unreserve { name, address, dry_run, confirm } => {
            if !dry_run {
                confirm.ask(&format!(
                    "End the reservation of {address}? Any machine may get it, if it is in a pool."
                ))?;
            }
            client.trying(dry_run).subnets_unreserve(&name, &address).await?;
            let said = if dry_run { "could be unreserved" } else { "is no longer reserved" };
            out.say(&format!("{address} {said}"));
            out.say_tried(dry_run);
        }
        Command::Advice { name } => out.show(&client.subnets_advice(&name).await?, advice::text),
        Command::Remove { names, with_reservations, dry_run, confirm } => {
            if !dry_run {
                confirm.ask(&format!("Remove subnet {}? {LOSES}", names.join(", ")))?;
            }
            let removal = SubnetsRemoveQuery { with_reservations: with_reservations.then_some(true) };
            for name in names {
                client.trying(dry_run).subnets_remove(&name, &removal).await?;
                out.say(&format!("subnet {name} {}", if dry_run { "could be removed" } else { "removed" }));
            }
            if dry_run {
                out.say("Dry run: nothing was removed.");
            }
        }
    }
    Ok(())
}

fn rows(subnets: &[SubnetView]) -> Table {
    let row = |view: &SubnetView| {
        let subnet = &view.subnet;
        let relays = (!subnet.relays.is_empty()).then(|| format!("relay {}", subnet.relays.join(", ")));
        [
            subnet.name.clone().into(),
            subnet.network.clone().into(),
            subnet.mode.as_str().into(),
            Cell::maybe(subnet.interface.clone().or(relays)),
            Cell::maybe(subnet.vlan),
            Cell::list(&subnet.pools),
            format!("{} of {}", view.leased, view.pool_size).into(),
            subnet.newcomers.as_str().into(),
        ]
    };
    let head = ["name", "network", "mode", "reached by", "vlan", "pools", "leased", "unknown machines get"];
    columns(head, subnets.iter().map(row))
}

fn leases(leases: &[lastmile_api::LeaseView]) -> Table {
    let row = |lease: &lastmile_api::LeaseView| {
        [
            lease.address.to_string().into(),
            lease.client.clone().into(),
            Cell::maybe(lease.machine.as_ref()),
            lease.state.as_str().into(),
            Cell::clock(Some(lease.since)),
            Cell::clock(Some(lease.until)),
        ]
    };
    columns(["address", "client", "machine", "state", "since", "until"], leases.iter().map(row))
}

fn reservations(all: &[ReservationView]) -> Table {
    let row = |reserved: &ReservationView| {
        [
            reserved.address.to_string().into(),
            reserved.client.clone().into(),
            Cell::maybe(reserved.machine.as_ref()),
        ]
    };
    columns(["address", "client", "machine"], all.iter().map(row))
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
        ("head start of other servers", format!("{} ms", subnet.head_start_ms)),
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

/// Gives what was said by hand that for its reason.
fn said_by_hand(proposal: &mut Proposal, alone: &SubnetDraft) {
    let before: BTreeMap<&str, String> = fields(alone).into_iter().collect();
    for (field, value) in fields(&proposal.draft) {
        if before.get(field) != Some(&value) {
            proposal.reasons.retain(|reason| reason.place != field);
            proposal.reasons.push(Reason { place: field.into(), why: "given".into() });
        }
    }
}

fn proposed(proposal: &Proposal) -> String {
    let reason = |place: &str| proposal.reasons.iter().find(|reason| reason.place == place);
    let rows = fields(&proposal.draft).into_iter().filter_map(|(field, value)| {
        let why = reason(field).map(|reason| reason.why.clone());
        // Fields without a reason have their defaults, which `subnet show` tells.
        (why.is_some() || field == "name").then(|| [Cell::from(field), value.into(), Cell::maybe(why)])
    });
    let mut text = columns(["field", "proposed", "reason"], rows).text();
    text.push_str(
        "\nNothing was saved. The same command with --add adds it; options take the place of what is proposed,\n\
         as in --router 192.0.2.1.\n",
    );
    text
}
