//! What one message leads to: decided at once, carried out by `reply`.

use std::{net::SocketAddrV4, sync::Arc, time::Instant};

use lastmile_core::{
    base::Id,
    decide::{
        boot::{BootPlan, SCRIPT_USER_CLASS, Why, iso_path, loader_path, plan, script_path},
        dhcp::{Answer, Arrival, BootInfo, BootTarget, NoReply, Responder, boot_server, select_subnet},
        install::Evidence,
    },
    model::{
        lease::{ClientKey, LeaseRecord},
        machine::Machine,
        subnet::{Mode, Subnet},
    },
    report::trace::{Datagram, Decision, DhcpExchange, Silence},
    site::Site,
};
use lastmile_formats::{
    architecture::{Fetches, Firmware},
    dhcp::{Kind, Message, code},
    mac::Mac,
};

use super::{Wiring, reply::Reply};
use crate::{clock, dhcp::Parts, wire::count};

/// Decides about one datagram. `None` if it is no DHCP message, or one of the service's own.
pub(super) fn decide(parts: &Parts, wiring: &Wiring, bytes: &[u8], from: SocketAddrV4) -> Option<Reply> {
    let request = match Message::parse(bytes) {
        Ok(request) => request,
        Err(error) => {
            count(&parts.wire.counts.dhcp_malformed);
            tracing::debug!(%from, "no DHCP message: {error}");
            return None;
        }
    };
    if !within_budget(parts, &request, from) {
        count(&parts.wire.counts.dhcp_ignored);
        return None;
    }
    let datagram = Datagram {
        at: clock::now(),
        from,
        to: SocketAddrV4::new(wiring.local, wiring.port),
        payload: bytes.into(),
        length: bytes.len(),
    };
    let arrival = Arrival {
        interface: wiring.interface.as_ref().map(|interface| interface.name.as_str()),
        from,
        local: wiring.local,
    };
    let mut reply = Reply::new(request.mac(), datagram);
    reply.own_trial = request.mac().is_some_and(|mac| parts.wire.trial.is(mac));
    match answer(parts, wiring, &request, &arrival, &mut reply) {
        Ok(()) => {}
        // Echoes of this host's own questions, and other servers' answers to relays: no machine speaks.
        Err(Silence::Reply(NoReply::NotARequest)) => return None,
        Err(silence) => {
            count(&parts.wire.counts.dhcp_ignored);
            reply.exchange.silence = Some(silence);
        }
    }
    Some(reply)
}

/// Whether the client, and the relay that forwards for it, may be answered once more just now. What comes from this host is
/// simulated. A relay is known by the address that it sends from: `giaddr` is only a claim, and whoever made it up would spend what
/// the real one has.
fn within_budget(parts: &Parts, request: &Message, from: SocketAddrV4) -> bool {
    if from.ip().is_loopback() {
        return true;
    }
    let now = Instant::now();
    let relay = (!request.giaddr.is_unspecified()).then(|| *from.ip());
    let of_client = ClientKey::of(request).is_none_or(|client| parts.wire.clients.take(client, now));
    of_client && relay.is_none_or(|relay| parts.wire.relays.take(relay, now))
}

fn answer(
    parts: &Parts,
    wiring: &Wiring,
    request: &Message,
    arrival: &Arrival<'_>,
    reply: &mut Reply,
) -> Result<(), Silence> {
    let site = parts.records.site();
    let subnet = select_subnet(site.subnets(), request, arrival).map_err(Silence::Subnet)?;
    reply.exchange.subnet = Some(subnet.name.clone());
    let mac = request.mac();
    let is_own_trial = reply.own_trial;
    let plan = match mac {
        Some(_) if is_own_trial => None,
        Some(mac) => Some(plan(&site, mac, Some(subnet))),
        None => None,
    };
    let firmware = request.firmware();
    let mut boot = None;
    if let (Some(firmware), Some(mac)) = (firmware, mac) {
        let boots = is_own_trial || plan.as_ref().is_some_and(BootPlan::boots);
        reply.exchange.decision = plan.as_ref().map(Decision::from);
        if boots {
            boot = disc_by_http(parts, subnet, plan.as_ref(), mac, firmware)
                .or_else(|| boot_info(parts, &site, subnet, request, mac, firmware, reply));
        }
    }
    let machine = mac.and_then(|mac| site.machine_by_mac(mac));
    note_address(parts, subnet, request, mac);
    let answered = if wiring.answers_boot_server_only() {
        boot_server(request, arrival, boot.as_ref(), &subnet.name)
    } else {
        Responder {
            subnet,
            book: &mut parts.wire.book(),
            boot: boot.as_ref(),
            reserved: site.reserved_for(
                subnet.id,
                request.mac(),
                request.options.get(code::CLIENT_IDENTIFIER),
                request.machine_uuid(),
            ),
            known: machine.is_some() || is_own_trial,
            host_name: machine.map(|machine| machine.name.as_str()),
            options: machine.map_or(&[], |machine| machine.options.as_slice()),
            now: clock::now(),
        }
        .answer(request, arrival)
    };
    reply.stalled = plan.as_ref().and_then(|plan| match plan.why {
        Why::Looping(install) if firmware.is_some() => Some(install.machine),
        _ => None,
    });
    let open = machine.filter(|machine| site.open_install(machine.id).is_some());
    if let Some(machine) = open {
        reply.evidence = evidence(subnet, request, &answered, machine, firmware);
    }
    match answered.map_err(Silence::Reply)? {
        Answer::Record(record) => reply.record = Some(record),
        Answer::Reply { message, to, record, try_first } => {
            reply.message = Some((*message, to));
            reply.record = record;
            reply.try_first = try_first;
            if request.kind == Kind::Discover {
                reply.delay = subnet.head_start.try_into().unwrap_or_default();
            }
        }
    }
    if is_own_trial {
        reply.undo_trial(parts);
    }
    Ok(())
}

/// That a machine with an open install has its address: by a lease of ours, or, beside another server, by its
/// request to that one.
fn evidence(
    subnet: &Subnet,
    request: &Message,
    answered: &Result<Answer, NoReply>,
    machine: &Arc<Machine>,
    firmware: Option<Firmware>,
) -> Option<(Id<Machine>, Evidence)> {
    let address = match answered {
        Ok(Answer::Reply { message, record: Some(LeaseRecord { .. }), .. }) if message.kind == Kind::Ack => {
            message.yiaddr
        }
        Err(NoReply::OtherHandsOut { kind: Kind::Request, .. }) if subnet.mode == Mode::Proxy => {
            request.options.address(code::REQUESTED_ADDRESS)?
        }
        _ => return None,
    };
    Some((machine.id, Evidence::Lease { address, firmware: firmware.map(|firmware| firmware.architecture) }))
}

/// Beside another server no lease of ours says who has an address: what machines ask of that server does.
fn note_address(parts: &Parts, subnet: &Subnet, request: &Message, mac: Option<Mac>) {
    if !matches!(request.kind, Kind::Request | Kind::Inform) {
        return;
    }
    let asked = request.options.address(code::REQUESTED_ADDRESS);
    let own = Some(request.ciaddr).filter(|address| !address.is_unspecified());
    if let (Some(mac), Some(address)) = (mac, asked.or(own)) {
        parts.wire.hear_address(subnet, address, mac);
    }
}

/// The whole disc that a machine runs, for firmware that takes one by HTTP and starts it from memory (UEFI 2.10, section
/// 24.7.1): no loader is needed then.
fn disc_by_http(
    parts: &Parts,
    subnet: &Subnet,
    plan: Option<&BootPlan<'_>>,
    mac: Mac,
    firmware: Firmware,
) -> Option<BootInfo> {
    let image = plan?.whole_disc().filter(|_| firmware.fetches == Fetches::Http)?;
    parts.wire.note_firmware(mac, firmware.architecture);
    let service = parts.wire.service_for(Some(subnet));
    let path = iso_path(mac, &image.name, image.current.number);
    Some(BootInfo {
        next_server: service.address,
        target: BootTarget::Url(service.url(subnet.http_boot, &path)),
    })
}

/// The loader for this firmware, told as it wants to be told. Where none is there, the reply says so.
fn boot_info(
    parts: &Parts,
    site: &Site,
    subnet: &Subnet,
    request: &Message,
    mac: Mac,
    firmware: Firmware,
    reply: &mut Reply,
) -> Option<BootInfo> {
    parts.wire.note_firmware(mac, firmware.architecture);
    let (class, user_classes) = (request.class(), request.user_classes());
    let service = parts.wire.service_for(Some(subnet));
    let found = site.loader_for(firmware.architecture, class.as_deref(), &user_classes);
    // Firmware that reads scripts is a loader itself, and needs another only where somebody said so.
    let reads_scripts = user_classes.iter().any(|class| class == SCRIPT_USER_CLASS);
    if reads_scripts && found.is_none_or(|loader| loader.user_class.is_none()) {
        let target = BootTarget::Script(format!("{}/{}", service.http_base(), script_path(mac)));
        return Some(BootInfo { next_server: service.address, target });
    }
    let Some(loader) = found else {
        parts.wire.note_missing_loader(firmware.architecture);
        reply.exchange.lacks_loader = Some(firmware.architecture);
        reply.exchange.remark = Some(format!("no loader is there for {firmware} firmware"));
        return None;
    };
    parts.wire.note_loader(mac, loader);
    let path = loader_path(mac, &loader.name, &loader.boot_file);
    let target = match firmware.fetches {
        Fetches::Tftp => BootTarget::Path(path),
        Fetches::Http => BootTarget::Url(service.url(subnet.http_boot, &path)),
    };
    Some(BootInfo { next_server: service.address, target })
}

/// What the story of an exchange begins with.
pub(super) fn empty_exchange(request: Datagram) -> DhcpExchange {
    DhcpExchange {
        request,
        reply: None,
        subnet: None,
        decision: None,
        remark: None,
        silence: None,
        lacks_loader: None,
    }
}
