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
    /// Address or run of addresses within the pools to leave alone; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    exclude: Vec<String>,
    /// The interface whose wire it is on.
    #[arg(long)]
    interface: Option<String>,
    /// The VLAN it is on.
    #[arg(long, value_name = "NUMBER")]
    vlan: Option<u16>,
    /// A relay that may forward for it; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    relay: Vec<String>,
    /// What machines that nobody registered get: no answer at all (only machines you know are served), an address
    /// alone, or the menu.
    #[arg(long, value_enum)]
    newcomers: Option<NewcomersName>,
    /// The menu of its machines that nothing closer gives one; an empty name for the site's.
    #[arg(long)]
    menu: Option<String>,
    /// Whether an address is tried for (by ARP, or by ICMP through a relay) before it is offered anew.
    #[arg(long, value_name = "yes|no", value_parser = yes_or_no)]
    probe: Option<bool>,
    /// Whether clients that ask for addresses of other networks are refused: right where this is the only DHCP server.
    #[arg(long, value_name = "yes|no", value_parser = yes_or_no)]
    authoritative: Option<bool>,
    /// How long a first answer is held back, so that another server may come first.
    #[arg(long, value_name = "MILLISECONDS")]
    response_delay_ms: Option<i64>,
    /// By what its machines are known when they ask for something: by their address, or, where addresses cannot be known here,
    /// by the first that claims a machine during a boot. Mode off: first-claim, else address.
    #[arg(long, value_enum)]
    identify: Option<IdentifyName>,
    /// How firmware that boots by HTTP is told to fetch.
    #[arg(long, value_enum)]
    http_boot: Option<HttpBootName>,
    /// A further DHCP option, by its standard name or number, as in interface-mtu=1400 or 224=text:berth-4; may be
    /// given several times.
    #[arg(long, value_name = "NAME=VALUE")]
    option: Vec<String>,
    /// Take a setting out: router, dns, domain, ntp, pool, exclude, interface, vlan, relay, or a further option's
    /// name; may be given several times. It goes first, so a list is written anew by both, as in `--without dns --dns
    /// 192.0.2.5`.
    #[arg(long, value_name = "SETTING")]
    without: Vec<String>,
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

/// What becomes of the values that a list (name servers, pools, exclusions, relays …) has already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lists {
    /// They stay, and what is said comes beside them: a setting that somebody relies on is not lost by adding one.
    Grow,
    /// What is said stands in their place.
    Replace,
}

impl Settings {
    /// Puts what was said into `draft`; what was not said stays as it is. What `--without` names goes first, so a list
    /// can be written anew in one command.
    pub(crate) fn apply(self, draft: &mut SubnetDraft, lists: Lists) -> Result<(), Failure> {
        for setting in &self.without {
            take_out(draft, setting)?;
        }
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
            if lists == Lists::Replace && !values.is_empty() {
                field.clear();
            }
            for value in values {
                if !field.contains(&value) {
                    field.push(value);
                }
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
        draft.response_delay_ms = self.response_delay_ms.unwrap_or(draft.response_delay_ms);
        for text in &self.option {
            let (name, value) = name_and_value("--option", text)?;
            draft.options.insert(name, value);
        }
        Ok(())
    }
}

fn take_out(draft: &mut SubnetDraft, setting: &str) -> Result<(), Failure> {
    match setting {
        "router" => draft.router = None,
        "dns" => draft.dns.clear(),
        "domain" => draft.domain = None,
        "ntp" => draft.ntp.clear(),
        "pool" => draft.pools.clear(),
        "exclude" => draft.exclusions.clear(),
        "interface" => draft.interface = None,
        "vlan" => draft.vlan = None,
        "relay" => draft.relays.clear(),
        name => {
            if draft.options.remove(name).is_none() {
                return Err(Failure::Input {
                    place: format!("--without {name}"),
                    what: "the subnet has no such setting that can be taken out".into(),
                    fix: "Name router, dns, domain, ntp, pool, exclude, interface, vlan, relay, or a further option.",
                });
            }
        }
    }
    Ok(())
}
