//! Boot information beside a DHCP server that somebody else owns (PXE 2.1, sections 2.2 and 2.4).
//!
//! On port 67 firmware's question gets an offer without an address; on port 4011 firmware asks again, now with the
//! address that the other server gave it. Never an address from here.

use std::net::SocketAddrV4;

use lastmile_formats::{
    dhcp::{Kind, Message, Op, code},
    reader::Reader,
};

use super::{
    Answer, Arrival, BootInfo, BootTarget, Destination, NoReply, Responder,
    answer::{add_boot, echo},
};

/// The port of boot servers.
pub const BOOT_SERVER_PORT: u16 = 4011;

/// PXE's own options within option 43 (PXE 2.1, table 2-1).
mod pxe {
    /// Which ways of looking for a boot server are open.
    pub(super) const DISCOVERY_CONTROL: u8 = 6;
    /// Which line of the boot menu, and which part of it, is asked for.
    pub(super) const BOOT_ITEM: u8 = 71;
    /// Ends the options.
    pub(super) const END: u8 = 255;
    /// Bit 3 of the discovery control: no menu, no looking about, fetch the file named in this very answer.
    pub(super) const FETCH_AT_ONCE: u8 = 1 << 3;
}

impl Responder<'_> {
    /// Answers on a subnet whose addresses another server hands out.
    pub(super) fn proxy(&self, request: &Message, arrival: &Arrival<'_>) -> Result<Answer, NoReply> {
        let subnet = || self.subnet.name.clone();
        if request.kind != Kind::Discover {
            return Err(NoReply::OtherHandsOut { kind: request.kind, subnet: subnet() });
        }
        let boot = self.boot.ok_or_else(|| NoReply::NothingToAdd { subnet: subnet() })?;
        let reply = boot_reply(request, Kind::Offer, arrival, boot);
        // Without an address of its own the client hears broadcasts only.
        let to = match Destination::of(request, &reply, arrival.from) {
            relay @ Destination::Unicast(_) => relay,
            _ => Destination::Broadcast { port: 68 },
        };
        Ok(Answer::Reply { message: Box::new(reply), to, record: None, try_first: None })
    }
}

/// Answers what firmware asks a boot server, on port 4011.
///
/// # Errors
/// Why it is left unanswered.
pub fn boot_server(
    request: &Message,
    arrival: &Arrival<'_>,
    boot: Option<&BootInfo>,
    subnet: &str,
) -> Result<Answer, NoReply> {
    if request.op != Op::Request {
        return Err(NoReply::NotARequest);
    }
    if !matches!(request.kind, Kind::Request | Kind::Inform) {
        return Err(NoReply::Unanswerable { kind: request.kind });
    }
    let boot = boot.ok_or_else(|| NoReply::NothingToAdd { subnet: subnet.into() })?;
    let mut reply = boot_reply(request, Kind::Ack, arrival, boot);
    reply.ciaddr = request.ciaddr;
    let to = if request.giaddr.is_unspecified() && !arrival.from.ip().is_unspecified() {
        // To the port it asked from: firmware listens on 68 or on 4011.
        Destination::Unicast(arrival.from)
    } else if request.giaddr.is_unspecified() {
        Destination::Unicast(SocketAddrV4::new(request.ciaddr, 68))
    } else {
        Destination::of(request, &reply, arrival.from)
    };
    Ok(Answer::Reply { message: Box::new(reply), to, record: None, try_first: None })
}

fn boot_reply(request: &Message, kind: Kind, arrival: &Arrival<'_>, boot: &BootInfo) -> Message {
    let mut reply = Message::reply_to(request, kind);
    reply.options.set(code::SERVER_IDENTIFIER, arrival.local.octets());
    if !matches!(boot.target, BootTarget::Url(_)) {
        reply.options.set(code::VENDOR_CLASS, *b"PXEClient");
        reply.options.set(code::VENDOR_SPECIFIC, vendor_options(request));
    }
    add_boot(request, &mut reply, boot);
    echo(request, &mut reply);
    reply
}

/// Option 43 of an answer: the boot item that was asked for, given back; else that there is nothing to choose.
fn vendor_options(request: &Message) -> Vec<u8> {
    let asked = request.options.get(code::VENDOR_SPECIFIC).and_then(boot_item);
    match asked {
        Some(item) => [&[pxe::BOOT_ITEM, 4], item.as_slice(), &[pxe::END]].concat(),
        None => vec![pxe::DISCOVERY_CONTROL, 1, pxe::FETCH_AT_ONCE, pxe::END],
    }
}

fn boot_item(value: &[u8]) -> Option<[u8; 4]> {
    let mut reader = Reader::new(value);
    loop {
        let tag = reader.u8().filter(|tag| *tag != pxe::END)?;
        if tag == code::PAD {
            continue;
        }
        let length = usize::from(reader.u8()?);
        let value = reader.take(length)?;
        if tag == pxe::BOOT_ITEM {
            return value.try_into().ok();
        }
    }
}

#[cfg(test)]
#[path = "proxy_tests.rs"]
mod tests;
