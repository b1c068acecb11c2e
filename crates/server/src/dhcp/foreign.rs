//! Other DHCP servers: heard on the wire as they answer machines.

use std::{net::Ipv4Addr, sync::Arc};

use jiff::Timestamp;
use lastmile_core::{
    dhcp::{Kind, Message, Op, code},
    net::Mode,
    trace::{Datagram, ForeignReply, Seen},
};
use tokio_util::sync::CancellationToken;

use crate::{
    link::{FrameListener, Heard},
    state::App,
};

/// A DHCP server of somebody else, as it was last heard.
#[derive(Debug, Clone)]
pub(crate) struct ForeignServer {
    /// The interface it was heard on.
    pub(crate) interface: String,
    /// When.
    pub(crate) at: Timestamp,
    /// What it answered.
    pub(crate) kind: Kind,
    /// The address it gave.
    pub(crate) gave: Ipv4Addr,
}

/// Hears one wire until told to stop.
pub(crate) async fn hear(app: Arc<App>, interface: String, listener: FrameListener, stop: CancellationToken) {
    loop {
        let heard = tokio::select! {
            () = stop.cancelled() => return,
            heard = listener.next() => heard,
        };
        match heard {
            Ok(Heard::ToClient { from, to, payload }) => {
                let reply = Datagram {
                    at: Timestamp::now(),
                    from,
                    to,
                    length: payload.len(),
                    payload: payload.into(),
                };
                note(&app, &interface, reply);
            }
            Ok(Heard::Has { .. }) => {}
            Err(error) => {
                tracing::warn!(interface, "other DHCP servers are no longer heard: {error}");
                return;
            }
        }
    }
}

fn note(app: &App, interface: &str, reply: Datagram) {
    let Ok(message) = Message::parse(&reply.payload) else { return };
    let server = message.options.address(code::SERVER_IDENTIFIER).unwrap_or(*reply.from.ip());
    let ours = |address: Ipv4Addr| app.services.addresses().any(|own| own == address);
    if message.op != Op::Reply || ours(server) || ours(*reply.from.ip()) {
        return;
    }
    let known =
        ForeignServer { interface: interface.into(), at: reply.at, kind: message.kind, gave: message.yiaddr };
    if app.foreign_servers().insert(server, known) {
        tracing::warn!(%server, interface, "another DHCP server answers on this wire");
    }
    let Some(mac) = message.mac() else { return };
    if app.trial.is(mac) {
        return;
    }
    if message.kind == Kind::Ack && !message.yiaddr.is_unspecified() {
        app.hear_address(message.yiaddr, mac);
    }
    let site = app.site();
    let of_wire = site.subnets().find(|subnet| subnet.interface.as_deref() == Some(interface));
    let expected = of_wire.is_some_and(|subnet| subnet.mode == Mode::Proxy);
    app.trace(mac, reply.at, Seen::Foreign(Box::new(ForeignReply { reply, server, expected })));
}
