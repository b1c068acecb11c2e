//! What can be said of a subnet on the command line.

use clap::{Args, ValueEnum};
use lastmile_api::{HttpBoot, Identify, Mode, Newcomers, SubnetDraft};

use crate::output::Failure;

/// What can be said of a subnet.
#[derive(Debug, Clone, Args)]
pub(crate) struct Settings {
    /// Who hands out addresses: this service, somebody else (this service adds the boot information), or nobody is
    /// answered.
    #[arg(long, value_enum)]
    mode: Option<ModeName>,
    /// Default router.
    #[arg(long, value_name = "ADDRESS")]
    router: Option<String>,
    /// Name server; may be repeated.
    #[arg(long, value_name = "ADDRESS")]
    dns: Vec<String>,
    /// Domain that machines are given.
    #[arg(long)]
    domain: Option<String>,
    /// Time server; may be repeated.
    #[arg(long, value_name = "ADDRESS")]
    ntp: Vec<String>,
    /// How long an address is lent.
    #[arg(long, value_name = "SECONDS")]
    lease_secs: Option<i64>,
    /// Run of addresses to lend, as in 192.0.2.50-192.0.2.99; may be repeated.
    #[arg(long, value_name = "FIRST-LAST")]
    pool: Vec<String>,
    /// Address or run of addresses within the pools to leave alone; may be repeated.
    #[arg(long, value_name = "ADDRESS")]
    exclude: Vec<String>,
    /// The interface whose wire it is on.
    #[arg(long)]
    interface: Option<String>,
    /// The VLAN it is on.
    #[arg(long, value_name = "NUMBER")]
    vlan: Option<u16>,
    /// A relay that may forward for it; may be repeated.
    #[arg(long, value_name = "ADDRESS")]
    relay: Vec<String>,
    /// What unknown machines get: no answer at all (only registered machines are served), an address
    /// alone, or the menu.
    #[arg(long, value_enum)]
    newcomers: Option<NewcomersName>,
    /// The menu of its machines that nothing closer gives one; an empty name for the site's.
    #[arg(long)]
    menu: Option<String>,
    /// Whether an address is probed (by ARP, or by ICMP through a relay) before it is offered.
    #[arg(long, value_name = "yes|no", value_parser = yes_or_no)]
    probe: Option<bool>,
    /// Whether clients that ask for addresses of other networks are refused: right where this is the only DHCP server.
    #[arg(long, value_name = "yes|no", value_parser = yes_or_no)]
    authoritative: Option<bool>,
    /// How long a first reply is held back, so that another DHCP server can reply first.
    #[arg(long, value_name = "MILLISECONDS")]
    head_start_ms: Option<i64>,
    /// How requests are matched to machines: by the address they come from, or, where this service does not know addresses, by
    /// the first address that claims a machine during a boot. In mode off first-claim, otherwise address.
    #[arg(long, value_enum)]
    identify: Option<IdentifyName>,
    /// How firmware that boots by HTTP is told to fetch.
    #[arg(long, value_enum)]
    http_boot: Option<HttpBootName>,
    /// A further DHCP option, by its standard name or number, as in interface-mtu=1400 or 224=text:berth-4; may be repeated.
    #[arg(long, value_name = "NAME=VALUE")]
    option: Vec<String>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ModeName {
    Lease,
    Proxy,
    Off,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum NewcomersName {
    Unanswered,
    Nothing,
    Menu,
    Survey,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum IdentifyName {
    Address,
    FirstClaim,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum HttpBootName {
    Http,
    Https,
}

fn yes_or_no(text: &str) -> Result<bool, String> {
    match text {
        "yes" => Ok(true),
        "no" => Ok(false),
        _ => Err("give yes or no".into()),
    }
}

/// `NAME=VALUE`, as options are given.
pub(crate) fn name_and_value(option: &str, text: &str) -> Result<(String, String), Failure> {
    let parted = text.split_once('=').map(|(name, value)| (name.trim().to_owned(), value.to_owned()));
    parted.ok_or_else(|| Failure::Input {
        place: format!("{option} {text}"),
        what: "no '=' between name and value".into(),
        fix: "Write NAME=VALUE, as in interface-mtu=1400 or rack=7.",
    })
}

impl Settings {
    /// Puts what was given into `draft`; what was not given stays.
    pub(crate) fn apply(self, draft: &mut SubnetDraft) -> Result<(), Failure> {
        if let Some(mode) = self.mode {
            draft.mode = match mode {
                ModeName::Lease => Mode::Lease,
                ModeName::Proxy => Mode::Proxy,
                ModeName::Off => Mode::Off,
            };
        }
        if let Some(menu) = self.menu {
            draft.menu = Some(menu).filter(|menu| !menu.is_empty());
        }
        if let Some(newcomers) = self.newcomers {
            draft.newcomers = match newcomers {
                NewcomersName::Unanswered => Newcomers::Unanswered,
                NewcomersName::Nothing => Newcomers::Nothing,
                NewcomersName::Menu => Newcomers::Menu,
                NewcomersName::Survey => Newcomers::Survey,
            };
        }
        if let Some(identify) = self.identify {
            draft.identify = Some(match identify {
                IdentifyName::Address => Identify::Address,
                IdentifyName::FirstClaim => Identify::FirstClaim,
            });
        }
        if let Some(http_boot) = self.http_boot {
            draft.http_boot = match http_boot {
                HttpBootName::Http => HttpBoot::Http,
                HttpBootName::Https => HttpBoot::Https,
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
        list(&mut draft.exclusions, self.exclude);
        list(&mut draft.relays, self.relay);
        draft.vlan = self.vlan.or(draft.vlan);
        draft.lease_secs = self.lease_secs.unwrap_or(draft.lease_secs);
        draft.probe = self.probe.unwrap_or(draft.probe);
        draft.authoritative = self.authoritative.unwrap_or(draft.authoritative);
        draft.head_start_ms = self.head_start_ms.unwrap_or(draft.head_start_ms);
        for text in &self.option {
            let (name, value) = name_and_value("--option", text)?;
            draft.options.insert(name, value);
        }
        Ok(())
    }
}
