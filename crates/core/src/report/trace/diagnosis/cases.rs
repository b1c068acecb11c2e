//! The cases, one function each.

use jiff::SignedDuration;
use lastmile_formats::dhcp::{Kind, code};

use super::{
    super::{AgentEvent, Course, Role, Seen, Silence, TransferEnd},
    Boot, Case, Diagnosis, Exchange,
};
use crate::{
    base::size_text,
    decide::dhcp::NoReply,
    model::{agent::DHCP_CLASS, install::ReportStage},
};

/// Firmware chooses among offers within this time.
const CHOOSING: SignedDuration = SignedDuration::from_secs(10);
/// A loader that has started asks for its menu within this time, slow flash and Secure Boot checks counted in.
const LOADER_START: SignedDuration = SignedDuration::from_secs(30);
/// A kernel that has started asks for an address within this time: it unpacks its initrd and finds its NICs first
/// (65 s were measured under emulation).
const KERNEL_START: SignedDuration = SignedDuration::from_secs(150);
/// An agent that has its address connects within this time.
const AGENT_CONNECT: SignedDuration = SignedDuration::from_secs(60);
/// An installer that has its address fetches its answers within this time.
const ANSWERS_FETCH: SignedDuration = SignedDuration::from_secs(60);

/// What stands for a subnet in a command where the trace does not tell which it is.
fn subnet_of<'a>(boot: &'a Boot<'_>) -> &'a str {
    let named = boot.events.iter().rev().find_map(|event| match &event.seen {
        Seen::Dhcp(dhcp) => dhcp.subnet.as_deref(),
        _ => None,
    });
    named.unwrap_or("NAME")
}

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

pub(super) fn wrong_loader(boot: &Boot<'_>) -> Option<Diagnosis> {
    let own = boot.exchanges().find_map(|exchange| exchange.request.firmware())?.architecture;
    let (event, fetched, file) = boot.files().find_map(|(event, file)| match file.role {
        Role::Loader(architecture) if architecture != own => Some((event, architecture, file)),
        _ => None,
    })?;
    Some(Diagnosis::new(
        Case::WrongLoader,
        event,
        format!("{own} firmware asks for {}, the loader for {fetched}", file.path),
        "The firmware cannot start it: it will say so, or hang, or restart. This service tells each architecture its \
         own loader, so the name came from another DHCP server that has one name for all.",
        format!(
            "Make that server tell by option 93: `lastmile subnet advice {}` lists the name for each architecture.",
            subnet_of(boot)
        ),
    ))
}

pub(super) fn file_not_found(boot: &Boot<'_>) -> Option<Diagnosis> {
    let missing =
        |file: &super::FileRequest| matches!(file.end, TransferEnd::NotFound { optional: false, .. });
    let (event, file) = boot.files().rev().find(|(_, file)| missing(file))?;
    let nearest = match &file.end {
        TransferEnd::NotFound { nearest, .. } => nearest.as_deref(),
        _ => None,
    };
    let (means, fix) = match nearest {
        Some(nearest) => (
            format!("The nearest name that is served is {nearest}."),
            format!("Correct the name where it is written: in another DHCP server, or in the loader's own settings. \
                     Meant is probably {nearest}."),
        ),
        None => (
            "Nothing like it is served.".to_owned(),
            "Add the file to its loader or image, or correct the name where it is written: in another DHCP server, or \
             in the loader's own settings."
                .to_owned(),
        ),
    };
    Some(Diagnosis::new(
        Case::FileNotFound,
        event,
        format!("the machine asks for {}, which is not there", file.path),
        means,
        fix,
    ))
}

pub(super) fn transfer_stalled(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.files().rev().find(|(_, file)| file.end == TransferEnd::Stalled)?;
    let later = boot.after(event).any(|event| match &event.seen {
        Seen::File(again) => again.path == file.path && again.end == TransferEnd::Done,
        _ => false,
    });
    if later {
        return None;
    }
    let (delivered, size) = (file.delivered, file.size);
    let mut seen = format!("{} stopped after {} of {}", file.path, size_text(delivered), size_text(size));
    let Some(terms) = file.terms else {
        return Some(Diagnosis::new(
            Case::TransferStalled,
            event,
            seen,
            "The machine stopped reading.",
            "Look whether it was switched off, or whether its loader reports that its memory is full.",
        ));
    };
    let blocks = size / u64::from(terms.blksize.max(1)) + 1;
    seen.push_str(&format!(
        " (blksize {}, windowsize {}, {} of {blocks} blocks sent again)",
        terms.blksize, terms.windowsize, file.retransmitted
    ));
    let (means, fix) = if delivered == 0 && terms.blksize > 512 {
        (
            format!(
                "Not one block of {} bytes arrived: packets of that size are lost on the way.",
                terms.blksize
            ),
            "A tunnel or VLAN on the way carries less than the interface here: set the interface's MTU to what the \
             path carries, and blocks are cut to fit. Look for a firewall that drops fragments, or UDP from other \
             ports than 69.",
        )
    } else if delivered == 0 {
        (
            "Not one block arrived, however small.".to_owned(),
            "A firewall lets port 69 through and drops the transfer itself, which comes from a port of its own (RFC \
             1350, section 4): allow UDP from this service to the machines, from any port.",
        )
    } else if file.retransmitted * 20 > blocks {
        (
            "The path loses packets: many blocks had to be sent again before it broke.".to_owned(),
            "Look at the cable, the port's error counters and its duplex setting, and at what else fills the link.",
        )
    } else {
        (
            "It went well and then the machine fell silent.".to_owned(),
            "Look whether it was switched off or restarted in between, or whether its memory is too small for the file.",
        )
    };
    Some(Diagnosis::new(Case::TransferStalled, event, seen, means, fix))
}

pub(super) fn no_menu_asked(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.delivered(|role| matches!(role, Role::Loader(_)))?;
    // A menu that came before a module did is a menu: GRUB fetches `http.mod` only when its menu says so.
    let more = boot.after(event).any(|event| match &event.seen {
        Seen::File(file) => matches!(file.role, Role::Menu | Role::Kernel | Role::Initrd | Role::ImageFile),
        Seen::Report(_) | Seen::Agent(_) => true,
        _ => false,
    });
    // shim is followed by the loader that it starts: what counts is silence after the last of them.
    let beside =
        boot.delivered(|role| matches!(role, Role::BesideLoader)).filter(|(later, _)| later.at >= event.at);
    let (event, file) = beside.unwrap_or((event, file));
    if more || boot.since(event) < LOADER_START {
        return None;
    }
    let beside_other =
        boot.events.iter().any(|event| matches!(&event.seen, Seen::Foreign(found) if found.expected));
    if beside_other {
        return Some(Diagnosis::new(
            Case::NoMenuAsked,
            event,
            format!(
                "{} was fetched whole beside another DHCP server, and no menu was asked for since",
                file.path
            ),
            "GRUB up to 2.06 asks for its menu where the other server's acknowledgement says (next server, siaddr), not \
             where this service's offer says.",
            format!(
                "Enter this service's address as next server in the other DHCP server: `lastmile subnet advice {}` \
                 has it. It need name no boot file.",
                subnet_of(boot)
            ),
        ));
    }
    Some(Diagnosis::new(
        Case::NoMenuAsked,
        event,
        format!("{} was fetched whole, and no menu was asked for since", file.path),
        "The firmware refused to start the loader, or the loader started and does not know where to ask.",
        "Look at the machine's screen. With Secure Boot, the loader must be signed by a key that the firmware holds: \
         use the operating system's own signed loader. A loader with a menu built in, or with another protocol's \
         modules, never asks here.",
    ))
}

pub(super) fn no_second_lease(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.delivered(|role| matches!(role, Role::Kernel | Role::Initrd))?;
    let more = boot.after(event).any(|event| match &event.seen {
        Seen::Dhcp(dhcp) => !dhcp.is_from_firmware(),
        Seen::File(_) | Seen::Report(_) | Seen::Agent(_) => true,
        Seen::Foreign(_) => false,
    });
    if more || boot.since(event) < KERNEL_START {
        return None;
    }
    Some(Diagnosis::new(
        Case::NoSecondLease,
        event,
        format!("{} was fetched, and since then no second DHCP", file.path),
        "The kernel did not start, or started and found no NIC: its system never asked for an address.",
        "Look at the machine's screen, and give the kernel a serial console. The kernel may lack the driver of this \
         NIC, a kernel parameter may name a NIC or VLAN that is called otherwise there, or the machine's memory is too \
         small for the initrd.",
    ))
}

pub(super) fn agent_not_connected(boot: &Boot<'_>) -> Option<Diagnosis> {
    let agents = boot.events.iter().rev().filter_map(|event| match &event.seen {
        Seen::Agent(agent) => Some((event, agent)),
        _ => None,
    });
    if let Some((event, agent)) = agents.into_iter().next() {
        return (agent.what == AgentEvent::Refused).then(|| {
            Diagnosis::new(
                Case::AgentNotConnected,
                event,
                format!("the survey's agent was {}", agent.text),
                "The machine runs the survey, reaches this service, and is not let in: it tries again and again.",
                "A system of another version is built anew by `lastmile survey build`. Where the address is not known to \
                 be the machine's, set the subnet's identify to first-claim. Then switch the machine off and on: each \
                 start has a token of its own.",
            )
        });
    }
    let lease = boot.exchanges().find(|exchange| {
        exchange.request.class().as_deref() == Some(DHCP_CLASS)
            && exchange.reply.as_ref().is_some_and(|reply| reply.kind == Kind::Ack)
    })?;
    (boot.since(lease.event) >= AGENT_CONNECT).then(|| {
        Diagnosis::new(
            Case::AgentNotConnected,
            lease.event,
            "the survey's system has its address, and its agent never connected",
            "It cannot reach the boot listener by TCP from the address that it has.",
            "A firewall may let DHCP and TFTP through and not TCP to the boot listener's port; the subnet's router may be \
             wrong. The machine's screen says what the agent tried.",
        )
    })
}

pub(super) fn answers_never_fetched(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (kernel, _) = boot.delivered(|role| matches!(role, Role::Kernel | Role::Initrd))?;
    let installs = boot
        .files()
        .any(|(_, file)| file.decision.as_ref().is_some_and(|decision| decision.course == Course::Install));
    let lease = boot.exchanges().find(|exchange| {
        exchange.event.at >= kernel.at
            && !exchange.dhcp.is_from_firmware()
            && exchange.reply.as_ref().is_some_and(|reply| reply.kind == Kind::Ack)
    })?;
    let fetched = boot.after(lease.event).any(|event| match &event.seen {
        Seen::File(file) => file.role == Role::Answers,
        Seen::Report(_) => true,
        _ => false,
    });
    if !installs || fetched || boot.since(lease.event) < ANSWERS_FETCH {
        return None;
    }
    Some(Diagnosis::new(
        Case::AnswersNeverFetched,
        lease.event,
        "the installer has its address, and never fetched its answers",
        "It waits at a question on its screen, or cannot reach the boot listener by HTTP.",
        "Look at the machine's screen. A firewall may let DHCP and TFTP through and not TCP to the boot listener's \
         port. Kernel parameters of the image may come after the address of the answers and replace it: `lastmile plan \
         MACHINE` lists them.",
    ))
}

pub(super) fn install_repeats(boot: &Boot<'_>) -> Option<Diagnosis> {
    let mut starts = 0;
    let mut last = None;
    for event in boot.all {
        match &event.seen {
            Seen::File(file) if file.role == Role::Kernel && file.end == TransferEnd::Done => {
                starts += 1;
                last = Some((event, file));
            }
            Seen::Report(report) if report.stage == ReportStage::Done => starts = 0,
            // It was started for the survey, and reached it.
            Seen::Agent(agent) if agent.what == AgentEvent::Surveyed => starts = 0,
            _ => {}
        }
    }
    let (event, file) = last.filter(|_| starts >= 3)?;
    Some(Diagnosis::new(
        Case::InstallRepeats,
        event,
        format!("{} was fetched {starts} times without a report of the end", file.what),
        "The machine installs, or tries to, restarts, and boots the network again. After three starts the install is \
         stopped here and the machine is sent to its own disk.",
        "Look why the end is not reported: the install fails before it, or the machine cannot reach the boot listener \
         when it ends. `lastmile install show` tells what was reported.",
    ))
}
