//! Other DHCP servers: heard on the wire as they answer machines.

use std::net::Ipv4Addr;

use lastmile_core::{
    model::subnet::Mode,
    report::trace::{Datagram, ForeignReply, Seen},
};
use lastmile_formats::dhcp::{Kind, Message, Op, code};
use tokio_util::sync::CancellationToken;

use crate::{
    clock,
    dhcp::Parts,
    link::{FrameListener, Heard, not_heard},
    wire::ForeignServer,
};

/// Hears one wire until told to stop.
pub(crate) async fn hear(parts: Parts, interface: String, listener: FrameListener, stop: CancellationToken) {
    loop {
        let heard = tokio::select! {
            () = stop.cancelled() => return,
            heard = listener.next() => heard,
        };
        match heard {
            Ok(Heard::ToClient { from, to, payload }) => {
                let reply =
                    Datagram { at: clock::now(), from, to, length: payload.len(), payload: payload.into() };
                note(&parts, &interface, reply);
            }
            Ok(Heard::Has { .. }) => {}
            Err(error) => not_heard(&format!("what other DHCP servers say on {interface}"), &error).await,
        }
    }
}

fn note(parts: &Parts, interface: &str, reply: Datagram) {
    let Ok(message) = Message::parse(&reply.payload) else { return };
    let server = message.options.address(code::SERVER_IDENTIFIER).unwrap_or(*reply.from.ip());
    let ours = |address: Ipv4Addr| parts.wire.services.addresses().any(|own| own == address);
    if message.op != Op::Reply || ours(server) || ours(*reply.from.ip()) {
        return;
    }
    let known =
        ForeignServer { interface: interface.into(), at: reply.at, kind: message.kind, gave: message.yiaddr };
    if parts.wire.foreign_servers().insert(server, known) {
        tracing::warn!(%server, interface, "another DHCP server answers on this wire");
    }
    let Some(mac) = message.mac() else { return };
    if parts.wire.trial.is(mac) {
        return;
    }
    let site = parts.records.site();
    if message.kind == Kind::Ack
        && let Some(subnet) = site.subnets().find(|subnet| subnet.network.contains(&message.yiaddr))
    {
        parts.wire.hear_address(subnet, message.yiaddr, mac);
    }
    let of_wire = site.subnets().find(|subnet| subnet.interface.as_deref() == Some(interface));
    let expected = of_wire.is_some_and(|subnet| subnet.mode == Mode::Proxy);
    parts.records.trace(mac, reply.at, Seen::Foreign(Box::new(ForeignReply { reply, server, expected })));
}
