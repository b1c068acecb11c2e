//! Answers DHCP: one task a socket; a reply that grants a lease leaves once the lease is on disk.

mod reply;

use std::{
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    sync::Arc,
};

use jiff::Timestamp;
use lastmile_core::{
    boot::{Action, Architecture, BootPlan, Why, loader_path, plan},
    dhcp::{Answer, Arrival, BootInfo, Kind, Message, Responder, select_subnet},
    install::Evidence,
    net::{Mac, Subnet},
    site::Site,
    trace::Wire,
};
pub(crate) use reply::Wiring;
use tokio::sync::Semaphore;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::state::{App, count};

/// Largest datagram read; DHCP messages on Ethernet stay below 1,500 octets.
const BUFFER: usize = 4096;
/// Grants that may wait for the disk; beyond it messages are dropped, and clients ask again.
const IN_FLIGHT: usize = 4096;

/// Answers on one socket until told to stop.
pub(crate) async fn serve(app: Arc<App>, wiring: Arc<Wiring>, tasks: TaskTracker, stop: CancellationToken) {
    let in_flight = Arc::new(Semaphore::new(IN_FLIGHT));
    let mut buffer = vec![0; BUFFER];
    loop {
        let received = tokio::select! {
            () = stop.cancelled() => return,
            received = wiring.socket.recv_from(&mut buffer) => received,
        };
        let (length, SocketAddr::V4(from)) = (match received {
            Ok(received) => received,
            Err(error) => {
                // An ICMP error of an earlier reply; the socket itself is well.
                tracing::debug!("DHCP socket: {error}");
                continue;
            }
        }) else {
            continue;
        };
        let Some(reply) = handle(&app, &wiring, &buffer[..length], from) else { continue };
        if reply.record.is_none() {
            reply.send(&app, &wiring).await;
            continue;
        }
        let Ok(permit) = in_flight.clone().try_acquire_owned() else {
            count(&app.counts.dhcp_ignored);
            continue;
        };
        let (app, wiring) = (app.clone(), wiring.clone());
        tasks.spawn(async move {
            reply.keep_and_send(&app, &wiring).await;
            drop(permit);
        });
    }
}

/// What one message leads to: decided at once, carried out by [`reply`].
struct Reply {
    mac: Option<Mac>,
    asked: String,
    got: String,
    message: Option<(Message, lastmile_core::dhcp::Destination)>,
    record: Option<lastmile_core::dhcp::LeaseRecord>,
    evidence: Option<(lastmile_core::Id<lastmile_core::machine::Machine>, Evidence)>,
    stalled: Option<lastmile_core::Id<lastmile_core::machine::Machine>>,
}

fn handle(app: &App, wiring: &Wiring, bytes: &[u8], from: SocketAddrV4) -> Option<Reply> {
    let request = match Message::parse(bytes) {
        Ok(request) => request,
        Err(error) => {
            count(&app.counts.dhcp_malformed);
            tracing::debug!(%from, "no DHCP message: {error}");
            return None;
        }
    };
    let arrival = Arrival {
        interface: wiring.interface.as_ref().map(|interface| interface.name.as_str()),
        from,
        local: wiring.local,
    };
    let ignore = |asked: String, why: String| {
        count(&app.counts.dhcp_ignored);
        match request.mac() {
            Some(mac) => app.trace(mac, Wire::Dhcp, asked, format!("no answer: {why}")),
            None => tracing::debug!(%from, asked, why, "DHCP message not answered"),
        }
        None
    };
    let asked = describe(&request);
    let site = app.site();
    let subnet = match select_subnet(site.subnets(), &request, &arrival) {
        Ok(subnet) => subnet,
        Err(why) => return ignore(asked, why.to_string()),
    };
    let mac = request.mac();
    let plan = mac.map(|mac| plan(&site, mac, Some(subnet)));
    let firmware = request.is_pxe().then(|| request.architecture().unwrap_or(Architecture::Bios));
    if let (Some(mac), Some(architecture)) = (mac, firmware) {
        app.note_firmware(mac, architecture);
    }
    let (boot, remark) = match (firmware, mac, &plan) {
        (Some(architecture), Some(mac), Some(plan)) => boot_info(app, &site, plan, mac, architecture),
        _ => (None, None),
    };
    let machine = mac.and_then(|mac| site.machine_by_mac(mac));
    let answered = Responder {
        subnet,
        book: &mut app.book(),
        boot: boot.as_ref(),
        host_name: machine.map(|machine| machine.name.as_str()),
        now: Timestamp::now(),
    }
    .answer(&request, &arrival);
    let answer = match answered {
        Ok(answer) => answer,
        Err(why) => return ignore(asked, why.to_string()),
    };
    let stalled = plan.as_ref().and_then(|plan| match plan.why {
        Why::Looping(install) if firmware.is_some() => Some(install.machine),
        _ => None,
    });
    let open = machine.filter(|machine| site.open_install(machine.id).is_some());
    Some(match answer {
        Answer::Record(record) => Reply {
            mac,
            asked,
            got: format!("{} noted", record.address),
            message: None,
            record: Some(record),
            evidence: None,
            stalled,
        },
        Answer::Reply { message, to, record } => {
            let granted = record.is_some() && message.kind == Kind::Ack;
            let seen = Evidence::Lease { address: message.yiaddr, firmware };
            Reply {
                mac,
                asked,
                got: outcome(&message, subnet, boot.as_ref(), remark.as_deref()),
                evidence: open.filter(|_| granted).map(|machine| (machine.id, seen)),
                message: Some((*message, to)),
                record,
                stalled,
            }
        }
    })
}

/// The loader that the plan gives this firmware, or a remark on why there is none.
fn boot_info(
    app: &App,
    site: &Site,
    plan: &BootPlan<'_>,
    mac: Mac,
    architecture: Architecture,
) -> (Option<BootInfo>, Option<String>) {
    if plan.action == Action::Nothing {
        return (None, Some(format!("no loader: {}", plan.why)));
    }
    match site.loader_for(architecture) {
        Some(loader) => {
            let file = loader_path(mac, &loader.name, &loader.boot_file);
            (Some(BootInfo { next_server: app.service.address, file }), None)
        }
        None => (None, Some(format!("no loader: none is there for {architecture} firmware"))),
    }
}

fn describe(request: &Message) -> String {
    let mut text = request.kind.to_string();
    if let Some(architecture) = request.architecture().filter(|_| request.is_pxe()) {
        text.push_str(&format!(" from {architecture} firmware"));
    }
    if request.giaddr != Ipv4Addr::UNSPECIFIED {
        text.push_str(&format!(" by relay {}", request.giaddr));
    }
    text
}

fn outcome(reply: &Message, subnet: &Subnet, boot: Option<&BootInfo>, remark: Option<&str>) -> String {
    let mut text = match reply.kind {
        Kind::Nak => {
            return format!(
                "{}: {}",
                reply.kind,
                reply.options.text(lastmile_core::dhcp::code::MESSAGE).unwrap_or_default()
            );
        }
        kind if reply.yiaddr.is_unspecified() => format!("{kind} with the settings of {}", subnet.name),
        kind => format!("{kind} of {} on {}", reply.yiaddr, subnet.name),
    };
    if let Some(boot) = boot {
        text.push_str(&format!(", to fetch {}", boot.file));
    }
    if let Some(remark) = remark {
        text.push_str(&format!(", {remark}"));
    }
    text
}
