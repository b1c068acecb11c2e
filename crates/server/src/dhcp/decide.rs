//! What one message leads to: decided at once, carried out by `reply`.

use std::{net::SocketAddrV4, sync::Arc};

use jiff::Timestamp;
use lastmile_core::{
    Id,
    boot::{BootPlan, Fetches, Firmware, SCRIPT_USER_CLASS, Why, loader_path, plan, script_path},
    dhcp::{
        Answer, Arrival, BootInfo, BootTarget, Kind, LeaseRecord, Message, NoReply, Responder, boot_server,
        code, select_subnet,
    },
    install::Evidence,
    machine::Machine,
    net::{Mac, Mode, Subnet},
    site::Site,
    trace::{Datagram, Decision, DhcpExchange, Silence},
};

use super::{Wiring, reply::Reply};
use crate::state::{App, count};

/// Decides about one datagram. `None` if it is no DHCP message, or one of the service's own.
pub(super) fn decide(app: &App, wiring: &Wiring, bytes: &[u8], from: SocketAddrV4) -> Option<Reply> {
    let request = match Message::parse(bytes) {
        Ok(request) => request,
        Err(error) => {
            count(&app.counts.dhcp_malformed);
            tracing::debug!(%from, "no DHCP message: {error}");
            return None;
        }
    };
    let datagram = Datagram {
        at: Timestamp::now(),
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
    reply.own_trial = request.mac().is_some_and(|mac| app.trial.is(mac));
    match answer(app, wiring, &request, &arrival, &mut reply) {
        Ok(()) => {}
        // Echoes of this host's own questions, and other servers' answers to relays: no machine speaks.
        Err(Silence::Reply(NoReply::NotARequest)) => return None,
        Err(silence) => {
            count(&app.counts.dhcp_ignored);
            reply.exchange.silence = Some(silence);
        }
    }
    Some(reply)
}

fn answer(
    app: &App,
    wiring: &Wiring,
    request: &Message,
    arrival: &Arrival<'_>,
    reply: &mut Reply,
) -> Result<(), Silence> {
    let site = app.site();
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
            boot = boot_info(app, &site, subnet, request, mac, firmware, reply);
        }
    }
    let machine = mac.and_then(|mac| site.machine_by_mac(mac));
    note_address(app, subnet, request, mac);
    let answered = if wiring.answers_boot_server_only() {
        boot_server(request, arrival, boot.as_ref(), &subnet.name)
    } else {
        Responder {
            subnet,
            book: &mut app.book(),
            boot: boot.as_ref(),
            reserved: site.reserved_for(subnet.id, request),
            known: machine.is_some() || is_own_trial,
            host_name: machine.map(|machine| machine.name.as_str()),
            options: machine.map_or(&[], |machine| machine.options.as_slice()),
            now: Timestamp::now(),
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
                reply.delay = subnet.response_delay.try_into().unwrap_or_default();
            }
        }
    }
    if is_own_trial {
        reply.undo_trial(app);
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
fn note_address(app: &App, subnet: &Subnet, request: &Message, mac: Option<Mac>) {
    if subnet.mode != Mode::Proxy || !matches!(request.kind, Kind::Request | Kind::Inform) {
        return;
    }
    let asked = request.options.address(code::REQUESTED_ADDRESS);
    let own = Some(request.ciaddr).filter(|address| !address.is_unspecified());
    if let (Some(mac), Some(address)) = (mac, asked.or(own)) {
        app.hear_address(address, mac);
    }
}

/// The loader for this firmware, told as it wants to be told. Where none is there, the reply says so.
fn boot_info(
    app: &App,
    site: &Site,
    subnet: &Subnet,
    request: &Message,
    mac: Mac,
    firmware: Firmware,
    reply: &mut Reply,
) -> Option<BootInfo> {
    app.note_firmware(mac, firmware.architecture);
    let (class, user_classes) = (request.class(), request.user_classes());
    let service = app.service_for(Some(subnet));
    let found = site.loader_for(firmware.architecture, class.as_deref(), &user_classes);
    // Firmware that reads scripts is a loader itself, and needs another only where somebody said so.
    let reads_scripts = user_classes.iter().any(|class| class == SCRIPT_USER_CLASS);
    if reads_scripts && found.is_none_or(|loader| loader.user_class.is_none()) {
        let target = BootTarget::Script(format!("{}/{}", service.http_base(), script_path(mac)));
        return Some(BootInfo { next_server: service.address, target });
    }
    let Some(loader) = found else {
        app.note_missing_loader(firmware.architecture);
        reply.exchange.lacks_loader = Some(firmware.architecture);
        reply.exchange.remark = Some(format!("no loader is there for {firmware} firmware"));
        return None;
    };
    app.note_loader(mac, loader);
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
