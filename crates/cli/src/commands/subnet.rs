use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{Mode, Newcomers, SubnetDraft, SubnetView};
use lastmile_client::Client;

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
        settings: Settings,
    },
    /// List all subnets.
    List,
    /// Show one subnet.
    Show {
        /// Its name.
        name: String,
    },
    /// Change a subnet: what is not named stays as it is.
    Change {
        /// Its name.
        name: String,
        #[command(flatten)]
        settings: Settings,
    },
    /// Who has which address, until when.
    Leases {
        /// The subnet's name.
        name: String,
    },
    /// Remove a subnet.
    Remove {
        /// Its name.
        name: String,
    },
}

/// What can be said of a subnet.
#[derive(Debug, Args)]
pub(crate) struct Settings {
    /// Who hands out addresses: this service (lease), or nobody is answered (off).
    #[arg(long, value_enum)]
    mode: Option<ModeName>,
    /// Default router.
    #[arg(long, value_name = "ADDRESS")]
    router: Option<String>,
    /// Name server; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    dns: Vec<String>,
    /// Domain that machines are given.
    #[arg(long)]
    domain: Option<String>,
    /// Time server; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    ntp: Vec<String>,
    /// How long an address is lent.
    #[arg(long, value_name = "SECONDS")]
    lease_secs: Option<i64>,
    /// Run of addresses to lend, as in 192.0.2.50-192.0.2.99; may be given several times.
    #[arg(long, value_name = "FIRST-LAST")]
    pool: Vec<String>,
    /// The interface whose wire it is on.
    #[arg(long)]
    interface: Option<String>,
    /// A relay that may forward for it; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    relay: Vec<String>,
    /// What machines that nobody registered get.
    #[arg(long, value_enum)]
    newcomers: Option<NewcomersName>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ModeName {
    Lease,
    Off,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum NewcomersName {
    Nothing,
    Menu,
}

impl Settings {
    fn apply(self, draft: &mut SubnetDraft) {
        if let Some(mode) = self.mode {
            draft.mode = match mode {
                ModeName::Lease => Mode::Lease,
                ModeName::Off => Mode::Off,
            };
        }
        if let Some(newcomers) = self.newcomers {
            draft.newcomers = match newcomers {
                NewcomersName::Nothing => Newcomers::Nothing,
                NewcomersName::Menu => Newcomers::Menu,
            };
        }
        let option = |field: &mut Option<String>, value: Option<String>| {
            if value.is_some() {
                *field = value;
            }
        };
        option(&mut draft.router, self.router);
        option(&mut draft.domain, self.domain);
        option(&mut draft.interface, self.interface);
        let list = |field: &mut Vec<String>, values: Vec<String>| {
            if !values.is_empty() {
                *field = values;
            }
        };
        list(&mut draft.dns, self.dns);
        list(&mut draft.ntp, self.ntp);
        list(&mut draft.pools, self.pool);
        list(&mut draft.relays, self.relay);
        draft.lease_secs = self.lease_secs.unwrap_or(draft.lease_secs);
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add { name, network, settings } => {
            let mut draft = SubnetDraft::new(name, network);
            settings.apply(&mut draft);
            out.show(&client.create_subnet(&draft).await?, show);
        }
        Command::List => out.show(&client.subnets().await?, |subnets| {
            let row = |view: &SubnetView| {
                let subnet = &view.subnet;
                [
                    subnet.name.clone(),
                    subnet.network.clone(),
                    mode(subnet.mode).into(),
                    or_dash(subnet.interface.clone().or_else(|| {
                        (!subnet.relays.is_empty()).then(|| format!("relay {}", subnet.relays.join(", ")))
                    })),
                    subnet.pools.join(" "),
                    format!("{} of {}", view.leased, view.pool_size),
                    newcomers(subnet.newcomers).into(),
                ]
            };
            let head = ["name", "network", "mode", "reached by", "pools", "leased", "newcomers get"];
            table(head, subnets.iter().map(row))
        }),
        Command::Show { name } => out.show(&client.subnet(&name).await?, show),
        Command::Change { name, settings } => {
            let mut draft = client.subnet(&name).await?.subnet;
            settings.apply(&mut draft);
            out.show(&client.replace_subnet(&name, &draft).await?, show);
        }
        Command::Leases { name } => out.show(&client.leases(&name).await?, |leases| {
            let row = |lease: &lastmile_api::LeaseView| {
                [
                    lease.address.to_string(),
                    lease.client.clone(),
                    or_dash(lease.machine.as_ref()),
                    format!("{:?}", lease.state).to_lowercase(),
                    clock(lease.since),
                    clock(lease.until),
                ]
            };
            table(["address", "client", "machine", "state", "since", "until"], leases.iter().map(row))
        }),
        Command::Remove { name } => {
            client.remove_subnet(&name).await?;
            out.say(&format!("subnet {name} removed"));
        }
    }
    Ok(())
}

const fn mode(mode: Mode) -> &'static str {
    match mode {
        Mode::Lease => "lease",
        Mode::Off => "off",
    }
}

const fn newcomers(newcomers: Newcomers) -> &'static str {
    match newcomers {
        Newcomers::Nothing => "nothing",
        Newcomers::Menu => "menu",
    }
}

fn show(view: &SubnetView) -> String {
    let subnet = &view.subnet;
    let list = |values: &[String]| or_dash((!values.is_empty()).then(|| values.join(", ")));
    pairs([
        ("name", subnet.name.clone()),
        ("network", subnet.network.clone()),
        ("mode", mode(subnet.mode).into()),
        ("router", or_dash(subnet.router.as_ref())),
        ("DNS", list(&subnet.dns)),
        ("domain", or_dash(subnet.domain.as_ref())),
        ("NTP", list(&subnet.ntp)),
        ("lease", format!("{} s", subnet.lease_secs)),
        ("pools", list(&subnet.pools)),
        ("interface", or_dash(subnet.interface.as_ref())),
        ("relays", list(&subnet.relays)),
        ("newcomers get", newcomers(subnet.newcomers).into()),
        ("leased", format!("{} of {}", view.leased, view.pool_size)),
    ])
}
