//! Cases of a machine on its way to an address and a loader: what is said by DHCP.

use jiff::SignedDuration;
use lastmile_formats::dhcp::{Kind, code};

use super::{
    super::{Course, Seen, Silence},
    Boot, Case, Diagnosis, Exchange,
};
use crate::decide::dhcp::NoReply;

/// Firmware chooses among offers within this time.
const CHOOSING: SignedDuration = SignedDuration::from_secs(10);

fn plural(count: usize, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

pub(super) fn not_answered(boot: &Boot<'_>) -> Option<Diagnosis> {
    let of_service = |silence: &Silence| {
        !silence.is_expected()
            && !matches!(silence, Silence::Reply(NoReply::Newcomer { .. } | NoReply::OtherServer { .. }))
    };
    let (exchange, silence) = boot
        .exchanges()
        .filter_map(|exchange| Some((exchange.dhcp.silence.clone()?, exchange)))
        .map(|(silence, exchange)| (exchange, silence))
        .find(|(_, silence)| of_service(silence))?;
    let kind = exchange.request.kind;
    let fix = match &silence {
        Silence::Subnet(crate::decide::dhcp::NoSubnet::UnknownRelay { giaddr }) => format!(
            "Add {giaddr} to the relays of the subnet it stands on (`lastmile subnet change NAME --append relays={giaddr}`), \
             or correct the relay."
        ),
        Silence::Subnet(crate::decide::dhcp::NoSubnet::UnknownLink { link, .. }) => {
            format!("Add a subnet that holds {link}, or correct the link selection of the relay.")
        }
        Silence::Subnet(crate::decide::dhcp::NoSubnet::UnknownInterface { interface }) => {
            format!("Add a subnet on {interface}: `lastmile subnet suggest {interface}` proposes one.")
        }
        Silence::Subnet(crate::decide::dhcp::NoSubnet::Off { name }) => {
            format!("Switch it on: `lastmile subnet change {name} --set mode=lease`, or `--set mode=proxy`.")
        }
        Silence::Reply(NoReply::NoAddress(_)) | Silence::AllInUse(_) => {
            "Widen the pool, shorten the lease time, or free what is quarantined: `lastmile subnet picture` shows who \
             has what."
                .into()
        }
        Silence::NotKept(_) => "Look at the service's disk: `lastmile check`.".into(),
        _ => "Look at the machine's trace for what it asked before.".into(),
    };
    Some(Diagnosis::new(
        Case::NotAnswered,
        exchange.event,
        format!("{kind} got no answer: {silence}"),
        "The machine's question reaches the service, and the service has nothing to answer it from.",
        fix,
    ))
}

pub(super) fn newcomer_ignored(boot: &Boot<'_>) -> Option<Diagnosis> {
    let exchange = boot.exchanges().find(|exchange| {
        let unanswered = matches!(exchange.dhcp.silence, Some(Silence::Reply(NoReply::Newcomer { .. })));
        unanswered
            || exchange.dhcp.decision.as_ref().is_some_and(|decision| decision.course == Course::NewcomerLeft)
    })?;
    let mac = exchange.request.mac().map_or_else(|| "its MAC address".into(), |mac| mac.to_string());
    let subnet = exchange.dhcp.subnet.as_deref().unwrap_or("its subnet");
    Some(Diagnosis::new(
        Case::NewcomerIgnored,
        exchange.event,
        format!("a machine that nobody registered asks to boot on {subnet}"),
        format!(
            "{subnet} gives newcomers nothing to boot; the machine will time out and try its next boot device."
        ),
        format!(
            "Register it (`lastmile machine add NAME --mac {mac}`), or let newcomers see the menu (`lastmile subnet \
             change {subnet} --newcomers menu`)."
        ),
    ))
}

pub(super) fn no_loader(boot: &Boot<'_>) -> Option<Diagnosis> {
    let exchange = boot.exchanges().find(|exchange| exchange.dhcp.lacks_loader.is_some())?;
    let architecture = exchange.dhcp.lacks_loader?;
    let (means, fix) = if architecture.is_registered() {
        (
            format!("No loader for {architecture} is there, so the machine is told nothing to fetch."),
            format!("Add one: `lastmile loader add NAME --architecture {architecture} --boot-file FILE`."),
        )
    } else {
        (
            "IANA's registry has no such architecture, and no loader is there for it.".to_owned(),
            format!(
                "If you know what it boots, add a loader for `{architecture}`; else look for new firmware."
            ),
        )
    };
    Some(Diagnosis::new(
        Case::NoLoader,
        exchange.event,
        format!("{architecture} firmware asks to boot"),
        means,
        fix,
    ))
}

pub(super) fn offers_never_requested(boot: &Boot<'_>) -> Option<Diagnosis> {
    let offered = |exchange: &Exchange<'_>| {
        exchange
            .reply
            .as_ref()
            .is_some_and(|reply| reply.kind == Kind::Offer && !reply.yiaddr.is_unspecified())
    };
    let offers: Vec<_> = boot.exchanges().filter(offered).collect();
    let last = offers.last()?;
    let requested = boot
        .exchanges()
        .any(|exchange| exchange.request.kind == Kind::Request && exchange.event.at >= offers[0].event.at);
    if requested || (offers.len() < 2 && boot.since(last.event) < CHOOSING) {
        return None;
    }
    let seen = format!("{} sent, no request", plural(offers.len(), "offer"));
    let relay = last.request.giaddr;
    if !relay.is_unspecified() {
        return Some(Diagnosis::new(
            Case::OffersNeverRequested,
            last.event,
            format!("{seen}; asked by relay {relay}"),
            "Questions come through, offers do not reach the machine.",
            format!(
                "Look at relay {relay}: may it send what comes from here on to the machine's VLAN? Look at DHCP \
                 snooping on the switch: the port towards this service must be trusted. Look at firewalls between for \
                 UDP from here to {relay} port 67."
            ),
        ));
    }
    Some(Diagnosis::new(
        Case::OffersNeverRequested,
        last.event,
        seen,
        "Questions come through, offers do not reach the machine, or it likes another server's better.",
        "Look at DHCP snooping on the switch: the port towards this service must be trusted. If the port of the \
         machine is still learning (spanning tree), set it to an edge port. If another DHCP server answers there, \
         choose mode `proxy`.",
    ))
}

pub(super) fn other_server_chosen(boot: &Boot<'_>) -> Option<Diagnosis> {
    let chosen = |exchange: &Exchange<'_>| match exchange.dhcp.silence {
        Some(Silence::Reply(NoReply::OtherServer { chosen })) => Some(chosen),
        _ => None,
    };
    let (exchange, server) =
        boot.exchanges().find_map(|exchange| chosen(&exchange).map(|server| (exchange, server)))?;
    let subnet = exchange.dhcp.subnet.as_deref().unwrap_or("the subnet");
    Some(Diagnosis::new(
        Case::OtherServerChosen,
        exchange.event,
        format!("the machine requests the address that server {server} offered"),
        format!(
            "DHCP server {server} answers on the same wire, and the machine took its offer: it boots what that \
                 server says, not what is planned here."
        ),
        format!(
            "If {server} is meant to be there, set {subnet} to mode `proxy`, or give {server} the values of \
             `lastmile subnet advice {subnet}`. If not, find it by its MAC address on the switch and take it off."
        ),
    ))
}

pub(super) fn second_server(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, foreign) = boot.events.iter().find_map(|event| match &event.seen {
        Seen::Foreign(foreign) if !foreign.expected => Some((event, foreign)),
        _ => None,
    })?;
    let server = foreign.server;
    Some(Diagnosis::new(
        Case::SecondServer,
        event,
        format!("DHCP server {server} answers the machine, too"),
        "Two servers hand out addresses on one wire: which of them the machine takes is chance.",
        format!(
            "Find {server} by its MAC address on the switch and take it off, or let it keep the addresses and set the \
             subnet here to mode `proxy`."
        ),
    ))
}

pub(super) fn refused(boot: &Boot<'_>) -> Option<Diagnosis> {
    let naks: Vec<_> = boot
        .exchanges()
        .filter(|exchange| exchange.reply.as_ref().is_some_and(|reply| reply.kind == Kind::Nak))
        .collect();
    let last = naks.last()?;
    // One is how a machine that was moved learns of its new network; it asks afresh then.
    let granted = boot.after(last.event).any(|event| match &event.seen {
        Seen::Dhcp(dhcp) => dhcp.reply().is_some_and(|reply| reply.kind == Kind::Ack),
        _ => false,
    });
    if granted || (naks.len() < 2 && boot.since(last.event) < CHOOSING) {
        return None;
    }
    let why = last.reply.as_ref().and_then(|reply| reply.options.text(code::MESSAGE)).unwrap_or_default();
    Some(Diagnosis::new(
        Case::Refused,
        last.event,
        format!("the machine was refused {}: {why}", plural(naks.len(), "time")),
        "It asks for an address that is not its to have, and does not ask afresh.",
        "Restart its network boot. If it asks for that address again, it is set there by hand, or reserved for another.",
    ))
}

pub(super) fn address_in_use(boot: &Boot<'_>) -> Option<Diagnosis> {
    let exchange = boot.exchanges().find(|exchange| exchange.request.kind == Kind::Decline)?;
    let address = exchange.request.options.address(code::REQUESTED_ADDRESS)?;
    let subnet = exchange.dhcp.subnet.as_deref().unwrap_or("NAME");
    Some(Diagnosis::new(
        Case::AddressInUse,
        exchange.event,
        format!("the machine declines {address}: somebody answers there already"),
        format!("{address} is in a pool, and set by hand on another machine. It is left alone for an hour."),
        format!(
            "Exclude it (`lastmile subnet change {subnet} --append exclusions={address}`), or set the other machine to DHCP. If \
             the subnet's probe is off, switch it on (`--probe yes`)."
        ),
    ))
}
