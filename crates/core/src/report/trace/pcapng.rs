//! A machine's exchange as a capture file that standard tools read (draft-ietf-opsawg-pcapng).
//!
//! DHCP and TFTP packets stand as they were, TFTP data cut short (the original length is kept). HTTP runs over the
//! kernel's TCP, so its packets were never seen here: each request is written as a short exchange of its own, and
//! says so in its comment. Frame addresses are the machine's and the service's, also where a router stood between.

use std::{net::SocketAddrV4, sync::Arc};

use etherparse::PacketBuilder;
use jiff::Timestamp;
use lastmile_formats::{mac::Mac, pcapng::Writer};

use crate::model::agent::PATH;

use super::{
    AgentEvent, Datagram, DhcpExchange, FIRST_PACKETS, FileRequest, Seen, TraceEvent, TransferEnd, Wire,
};

const APPLICATION: &str = concat!("Last Mile ", env!("CARGO_PKG_VERSION"));
const TTL: u8 = 64;
const ETHERNET_AND_IPV4: usize = 14 + 20;
const UDP_CHECKSUM: usize = ETHERNET_AND_IPV4 + 6;
const UDP_HEADER: usize = 8;

/// Writes the events of the machine with `mac`. `service` is the MAC address of this service's interface.
#[must_use]
pub fn pcapng(mac: Mac, service: Mac, events: &[Arc<TraceEvent>]) -> Vec<u8> {
    let mut file = Exchange { file: Writer::new(APPLICATION, "last-mile"), mac, service };
    for event in events {
        match &event.seen {
            Seen::Dhcp(dhcp) => file.dhcp(event, dhcp),
            Seen::Foreign(foreign) => {
                file.datagram(&foreign.reply, false, Some("heard on the wire: another DHCP server"));
            }
            Seen::File(request) if request.wire == Wire::Tftp => file.tftp(event, request),
            Seen::File(request) => file.http(event, request),
            // The report's request is one by HTTP whose answer says nothing.
            Seen::Report(report) => {
                let head = format!("GET /report/(token)/{} HTTP/1.1\r\n\r\n", report.stage);
                file.http_exchange(event, (report.from, report.to), &head, "HTTP/1.1 200 OK\r\n\r\n");
            }
            Seen::Agent(agent) if agent.what == AgentEvent::Connected => {
                let head = format!("GET {PATH} HTTP/1.1\r\nUpgrade: websocket\r\n\r\n");
                let answer = "HTTP/1.1 101 Switching Protocols\r\n\r\n";
                file.http_exchange(event, (agent.from, agent.to), &head, answer);
            }
            // What is said on the connection is not kept.
            Seen::Agent(_) => {}
        }
    }
    file.file.finish()
}

/// The frames of one machine and this service, written one after another.
struct Exchange {
    file: Writer,
    mac: Mac,
    service: Mac,
}

impl Exchange {
    fn dhcp(&mut self, event: &TraceEvent, dhcp: &DhcpExchange) {
        let said = match (&dhcp.silence, event.why()) {
            (Some(silence), _) => Some(format!("no answer: {silence}")),
            (None, why) => why,
        };
        let on_request = said.as_deref().filter(|_| dhcp.reply.is_none());
        self.datagram(&dhcp.request, true, on_request);
        if let Some(reply) = &dhcp.reply {
            self.datagram(reply, false, said.as_deref());
        }
    }

    fn tftp(&mut self, event: &TraceEvent, request: &FileRequest) {
        let comment = format!("{} → {}", event.asked(), event.got());
        for (index, datagram) in request.packets.iter().enumerate() {
            let from_machine = datagram.from.ip() == request.from.ip();
            let gap = format!("{} packets before this one were not kept", request.left_out);
            let comment = match index {
                0 => Some(comment.as_str()),
                FIRST_PACKETS if request.left_out > 0 => Some(gap.as_str()),
                _ => None,
            };
            self.datagram(datagram, from_machine, comment);
        }
    }

    fn http(&mut self, event: &TraceEvent, request: &FileRequest) {
        let method = request.method.as_deref().unwrap_or("GET");
        let agent =
            request.agent.as_ref().map(|agent| format!("User-Agent: {agent}\r\n")).unwrap_or_default();
        let asked = format!("{method} {} HTTP/1.1\r\nHost: {}\r\n{agent}\r\n", request.path, request.to);
        let status = match &request.end {
            TransferEnd::Done | TransferEnd::Probed | TransferEnd::BrokenOff(_) | TransferEnd::Stalled => {
                "200 OK"
            }
            TransferEnd::NotFound { .. } => "404 Not Found",
            TransferEnd::Refused(_) => "403 Forbidden",
            TransferEnd::Unreadable(_) => "503 Service Unavailable",
        };
        // The body is not there; its length is in the trace.
        let answer = format!("HTTP/1.1 {status}\r\nX-Bytes-Delivered: {}\r\n\r\n", request.delivered);
        self.http_exchange(event, (request.from, request.to), &asked, &answer);
    }

    fn http_exchange(
        &mut self,
        event: &TraceEvent,
        (from, to): (SocketAddrV4, SocketAddrV4),
        asked: &str,
        answer: &str,
    ) {
        let comment =
            format!("written from the record, not seen as packets: {} → {}", event.asked(), event.got());
        let frame = |from_machine: bool, payload: &str, sequence: u32, acknowledged: u32, opening: bool| {
            let (source, destination) = if from_machine { (from, to) } else { (to, from) };
            let (near, far) = self.ends(from_machine);
            let tcp = PacketBuilder::ethernet2(near, far)
                .ipv4(source.ip().octets(), destination.ip().octets(), TTL)
                .tcp(source.port(), destination.port(), sequence, 64_240);
            let tcp = match (opening, from_machine) {
                (true, true) => tcp.syn(),
                (true, false) => tcp.syn().ack(acknowledged),
                (false, _) => tcp.psh().ack(acknowledged),
            };
            let mut out = Vec::with_capacity(tcp.size(payload.len()));
            // Writing into memory cannot fail, and both lengths fit a packet.
            let _ = tcp.write(&mut out, payload.as_bytes());
            out
        };
        let (asked_end, answer_end) = (1 + asked.len() as u32, 1 + answer.len() as u32);
        let frames = [
            frame(true, "", 0, 0, true),
            frame(false, "", 0, 1, true),
            frame(true, asked, 1, 1, false),
            frame(false, answer, 1, asked_end, false),
            frame(true, "", asked_end, answer_end, false),
        ];
        for (index, frame) in frames.into_iter().enumerate() {
            let length = frame.len();
            self.packet(event.at, &frame, length, (index == 2).then_some(comment.as_str()));
        }
    }

    /// Source and destination of a frame.
    const fn ends(&self, from_machine: bool) -> ([u8; 6], [u8; 6]) {
        if from_machine {
            (self.mac.octets(), self.service.octets())
        } else {
            (self.service.octets(), self.mac.octets())
        }
    }

    fn datagram(&mut self, datagram: &Datagram, from_machine: bool, comment: Option<&str>) {
        let (near, mut far) = self.ends(from_machine);
        if datagram.to.ip().is_broadcast() {
            far = [0xff; 6];
        }
        let udp = PacketBuilder::ethernet2(near, far)
            .ipv4(datagram.from.ip().octets(), datagram.to.ip().octets(), TTL)
            .udp(datagram.from.port(), datagram.to.port());
        let mut payload = datagram.payload.to_vec();
        payload.resize(datagram.length, 0);
        let mut frame = Vec::with_capacity(udp.size(payload.len()));
        if udp.write(&mut frame, &payload).is_err() {
            return;
        }
        let length = frame.len();
        if datagram.payload.len() < datagram.length {
            // What is cut off was not kept, so neither was its checksum: none is told (RFC 768).
            frame[UDP_CHECKSUM..UDP_CHECKSUM + 2].fill(0);
            frame.truncate(ETHERNET_AND_IPV4 + UDP_HEADER + datagram.payload.len());
        }
        self.packet(datagram.at, &frame, length, comment);
    }

    fn packet(&mut self, at: Timestamp, frame: &[u8], length: usize, comment: Option<&str>) {
        self.file.packet(u64::try_from(at.as_microsecond()).unwrap_or(0), frame, length, comment);
    }
}

#[cfg(test)]
mod tests {
    use super::{
        super::diagnosis::stories::{Story, mac},
        *,
    };

    #[test]
    fn blocks_have_their_length_at_both_ends() {
        let mut story = Story::new();
        story.discover().request().menu();
        let service: Mac = "02:00:5e:00:53:fe".parse().unwrap();
        let file = pcapng(mac(), service, &story.events);
        let (mut rest, mut kinds) = (file.as_slice(), Vec::new());
        while !rest.is_empty() {
            let word = |at: usize| u32::from_le_bytes(rest[at..at + 4].try_into().unwrap());
            let length = word(4) as usize;
            assert_eq!(length % 4, 0);
            assert_eq!(word(length - 4) as usize, length);
            kinds.push(word(0));
            rest = &rest[length..];
        }
        assert_eq!(kinds, [0x0a0d_0d0a, 1, 6, 6, 6, 6]);
    }
}
