//! Other DHCP servers: asked for, and as they were heard.

use std::net::Ipv4Addr;

use jiff::SignedDuration;
use lastmile_api::Severity;
use lastmile_core::model::subnet::Mode;
use lastmile_formats::{
    architecture::{Architecture, Fetches, Firmware},
    dhcp::{Message, code},
};

use super::{Findings, Topic};
use crate::{
    app::App,
    clock,
    link::{Interface, own_addresses},
    start::Listening,
};

/// How long ago a server may have been heard to be told.
const RECENT: SignedDuration = SignedDuration::from_hours(24);

/// What firmware of the commonest kind asks.
const COMMON: Firmware = Firmware { architecture: Architecture::UefiX64, fetches: Fetches::Tftp };

/// Other DHCP servers that answer on a wire now.
pub(crate) async fn other_servers(app: &App, interface: &Interface) -> Vec<Ipv4Addr> {
    let Some(playing) = app.wire.trial.play() else { return Vec::new() };
    let offers = playing.ask_wire(interface, COMMON).await.unwrap_or_default();
    let mut servers: Vec<Ipv4Addr> = offers.iter().filter_map(foreign).collect();
    servers.sort_unstable();
    servers.dedup();
    servers
}

/// The server that made an offer, if it is not this one.
fn foreign(offer: &Message) -> Option<Ipv4Addr> {
    let server = offer.options.address(code::SERVER_IDENTIFIER)?;
    (!own_addresses().contains(&server)).then_some(server)
}

/// Asks on every wire; says who else answers. Gives this service's own offers, by the interface.
pub(super) async fn ask(findings: &mut Findings, app: &App, listening: &Listening) -> Vec<(String, Message)> {
    let mut own = Vec::new();
    for (name, address) in &listening.dhcp {
        if address.port() != 67 {
            continue;
        }
        let Ok(Some(interface)) = Interface::find(name) else { continue };
        let Some(playing) = app.wire.trial.play() else {
            let fix = "Ask again in a few seconds.";
            findings.add(Severity::Note, Topic::OtherServers, name, "another check is under way", fix);
            continue;
        };
        let offers = match playing.ask_wire(&interface, COMMON).await {
            Ok(offers) => offers,
            Err(error) => {
                findings.add(
                    Severity::Note,
                    Topic::OtherServers,
                    name,
                    format!("cannot be asked for: {error}"),
                    "A DHCP client of this host may have port 68; give the interface a fixed address.",
                );
                continue;
            }
        };
        let mut others: Vec<(Ipv4Addr, Ipv4Addr)> =
            offers.iter().filter_map(|offer| Some((foreign(offer)?, offer.yiaddr))).collect();
        others.sort_unstable();
        others.dedup();
        let mode = app
            .records
            .site()
            .subnets()
            .find(|subnet| subnet.interface.as_ref() == Some(name))
            .map(|subnet| subnet.mode);
        tell(findings, name, mode, &others);
        own.extend(
            offers.into_iter().filter(|offer| foreign(offer).is_none()).map(|offer| (name.clone(), offer)),
        );
    }
    heard(findings, app);
    own
}

fn tell(findings: &mut Findings, name: &str, mode: Option<Mode>, others: &[(Ipv4Addr, Ipv4Addr)]) {
    for (server, offered) in others {
        let what = format!("DHCP server {server} answers on this wire; it offered {offered}");
        match mode {
            Some(Mode::Proxy) => findings.good(Topic::OtherServers, name, what),
            Some(Mode::Lease) => findings.add(
                Severity::Fault,
                Topic::OtherServers,
                name,
                format!("{what}. Which of the two a machine takes is chance"),
                format!("Find {server} by its MAC address on the switch and take it off, or set the subnet to mode `proxy`."),
            ),
            Some(Mode::Off) | None => findings.add(
                Severity::Note,
                Topic::OtherServers,
                name,
                what,
                "Nothing, if it is meant to be there.",
            ),
        }
    }
    if others.is_empty() {
        match mode {
            Some(Mode::Proxy) => findings.add(
                Severity::Fault,
                Topic::OtherServers,
                name,
                "nobody hands out addresses: the subnet's mode is `proxy`, and no other DHCP server answered",
                "Look at the other DHCP server, or set the subnet to mode `lease` and give it a pool.",
            ),
            _ => findings.good(Topic::OtherServers, name, "no other DHCP server answered"),
        }
    }
}

/// What was heard in passing.
fn heard(findings: &mut Findings, app: &App) {
    let (site, now) = (app.records.site(), clock::now());
    for (server, seen) in app.wire.foreign_servers().iter() {
        let on_wire = site.subnets().find(|subnet| subnet.interface.as_ref() == Some(&seen.interface));
        let mode = on_wire.map(|subnet| subnet.mode);
        if mode == Some(Mode::Proxy) || now.duration_since(seen.at) > RECENT {
            continue;
        }
        let told = findings.0.iter().any(|finding| {
            finding.topic == Topic::OtherServers.as_str()
                && finding.what.contains(&format!("server {server} "))
        });
        if told {
            continue;
        }
        findings.add(
            Severity::Warning,
            Topic::OtherServers,
            &seen.interface,
            format!("DHCP server {server} was heard at {:.0}: {} of {}", seen.at, seen.kind, seen.gave),
            "It does not answer now. Find it by its MAC address on the switch before it comes back.",
        );
    }
}
