//! Events made for tests: a machine's packets, one method each.

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    sync::Arc,
    time::Duration,
};

use jiff::{SignedDuration, Timestamp};
use lastmile_formats::{
    architecture::{Architecture, Firmware},
    dhcp::{Kind, Message, code},
    mac::Mac,
    tftp::Terms,
};

use super::super::{
    AgentEvent, AgentSeen, Course, Datagram, Decision, DhcpExchange, FileRequest, ForeignReply, Report, Role,
    Seen, Silence, TraceEvent, TransferEnd, Wire,
};
use crate::model::install::ReportStage;

pub(in crate::report::trace) const SERVICE: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);

pub(in crate::report::trace) const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 50);

pub(in crate::report::trace) const OTHER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 3);

pub(in crate::report::trace) fn mac() -> Mac {
    "02:00:5e:00:53:01".parse().unwrap()
}

/// A machine's events in the making; the clock stands where the last event was.
pub(in crate::report::trace) struct Story {
    pub(in crate::report::trace) events: Vec<Arc<TraceEvent>>,
    pub(in crate::report::trace) now: Timestamp,
    pub(in crate::report::trace) architecture: Architecture,
    pub(in crate::report::trace) relay: Ipv4Addr,
}

impl Story {
    pub(in crate::report::trace) fn new() -> Self {
        Self {
            events: Vec::new(),
            now: Timestamp::from_second(1_700_000_000).unwrap(),
            architecture: Architecture::UefiX64,
            relay: Ipv4Addr::UNSPECIFIED,
        }
    }

    pub(in crate::report::trace) fn after(&mut self, secs: i64) -> &mut Self {
        self.now += SignedDuration::from_secs(secs);
        self
    }

    pub(in crate::report::trace) fn push(&mut self, seen: Seen) -> &mut Self {
        let number = self.events.len() as u64 + 1;
        self.events.push(Arc::new(TraceEvent { number, at: self.now, seen }));
        self
    }

    pub(in crate::report::trace) fn message(&self, kind: Kind) -> Message {
        let mut message = Message::request(kind, 7, mac());
        let firmware = Firmware {
            fetches: lastmile_formats::architecture::Fetches::Tftp,
            ..Firmware::from_code(self.architecture.code())
        };
        message.options.set(code::VENDOR_CLASS, format!("{}:UNDI:003000", firmware.class()));
        message.options.set(code::CLIENT_ARCHITECTURE, self.architecture.code().to_be_bytes());
        message.giaddr = self.relay;
        message
    }

    pub(in crate::report::trace) fn exchange(
        &mut self,
        request: &Message,
        reply: Option<&Message>,
    ) -> DhcpExchange {
        let client = SocketAddrV4::new(request.ciaddr, 68);
        let server = SocketAddrV4::new(Ipv4Addr::BROADCAST, 67);
        let datagram = |message: &Message, from, to| {
            let payload = message.emit().into_boxed_slice();
            Datagram { at: self.now, from, to, length: payload.len(), payload }
        };
        DhcpExchange {
            request: datagram(request, client, server),
            reply: reply.map(|reply| {
                let to = SocketAddrV4::new(Ipv4Addr::BROADCAST, 68);
                datagram(reply, SocketAddrV4::new(SERVICE, 67), to)
            }),
            subnet: Some("holm-quay".into()),
            decision: None,
            remark: None,
            silence: None,
            lacks_loader: None,
        }
    }

    fn answered(&mut self, request: &Message, kind: Kind, address: Ipv4Addr) -> &mut Self {
        let mut reply = Message::reply_to(request, kind);
        reply.yiaddr = address;
        reply.options.set(code::SERVER_IDENTIFIER, SERVICE.octets());
        let exchange = self.exchange(request, Some(&reply));
        self.push(Seen::Dhcp(Box::new(exchange)))
    }

    pub(in crate::report::trace) fn silent(&mut self, request: &Message, silence: Silence) -> &mut Self {
        let exchange = DhcpExchange { silence: Some(silence), ..self.exchange(request, None) };
        self.push(Seen::Dhcp(Box::new(exchange)))
    }

    /// Firmware asks and is offered an address.
    pub(in crate::report::trace) fn discover(&mut self) -> &mut Self {
        self.answered(&self.message(Kind::Discover), Kind::Offer, ADDRESS)
    }

    /// Firmware takes it.
    pub(in crate::report::trace) fn request(&mut self) -> &mut Self {
        self.answered(&self.message(Kind::Request), Kind::Ack, ADDRESS)
    }

    /// Firmware takes it, and is refused.
    pub(in crate::report::trace) fn nak(&mut self) -> &mut Self {
        self.answered(&self.message(Kind::Request), Kind::Nak, Ipv4Addr::UNSPECIFIED)
    }

    /// The installer asks for and gets its address.
    pub(in crate::report::trace) fn installer_lease(&mut self) -> &mut Self {
        self.system_lease("d-i")
    }

    /// A running system of that vendor class does.
    pub(in crate::report::trace) fn system_lease(&mut self, class: &str) -> &mut Self {
        let mut request = Message::request(Kind::Request, 8, mac());
        request.options.set(code::VENDOR_CLASS, class.as_bytes());
        self.answered(&request, Kind::Ack, ADDRESS)
    }

    /// It renews that address.
    pub(in crate::report::trace) fn renewal(&mut self, class: &str) -> &mut Self {
        let mut request = Message::request(Kind::Request, 9, mac());
        request.ciaddr = ADDRESS;
        request.options.set(code::VENDOR_CLASS, class.as_bytes());
        self.answered(&request, Kind::Ack, ADDRESS)
    }

    pub(in crate::report::trace) fn file(&mut self, path: &str, role: Role, end: TransferEnd) -> &mut Self {
        self.file_with(path, role, end, |_| {})
    }

    pub(in crate::report::trace) fn file_with(
        &mut self,
        path: &str,
        role: Role,
        end: TransferEnd,
        change: impl FnOnce(&mut FileRequest),
    ) -> &mut Self {
        let ends = (SocketAddrV4::new(ADDRESS, 1024), SocketAddrV4::new(SERVICE, 69));
        let mut file = FileRequest {
            what: format!("{} {path}", role.word()),
            role,
            size: 1_000_000,
            delivered: if end == TransferEnd::Done { 1_000_000 } else { 0 },
            end,
            took: Duration::from_millis(800),
            terms: Some(Terms { blksize: 1468, windowsize: 4, ..Terms::default() }),
            ..FileRequest::new(Wire::Tftp, ends.0, ends.1, path)
        };
        change(&mut file);
        self.push(Seen::File(Box::new(file)))
    }

    pub(in crate::report::trace) fn loader(&mut self) -> &mut Self {
        let role = Role::Loader(self.architecture);
        self.file("loader/02-00-5e-00-53-01/signed-x64/shimx64.efi", role, TransferEnd::Done)
    }

    pub(in crate::report::trace) fn menu(&mut self) -> &mut Self {
        let decision = Decision {
            course: Course::Install,
            gets: "install 1 of tidewrack-12 r1 with answers quay-server v1".into(),
            why: "install 1 of tidewrack-12 r1 is armed".into(),
        };
        self.file_with("grub/grub.cfg", Role::Menu, TransferEnd::Done, |file| file.decision = Some(decision))
    }

    pub(in crate::report::trace) fn kernel(&mut self) -> &mut Self {
        self.file("boot/02-00-5e-00-53-01/tidewrack-12/r1/linux", Role::Kernel, TransferEnd::Done)
    }

    pub(in crate::report::trace) fn answers(&mut self) -> &mut Self {
        self.file("preseed.cfg", Role::Answers, TransferEnd::Done)
    }

    pub(in crate::report::trace) fn agent(&mut self, what: AgentEvent, text: &str) -> &mut Self {
        let (from, to) = (SocketAddrV4::new(ADDRESS, 1026), SocketAddrV4::new(SERVICE, 80));
        self.push(Seen::Agent(Box::new(AgentSeen { from, to, what, text: text.into() })))
    }

    pub(in crate::report::trace) fn report(&mut self, stage: ReportStage) -> &mut Self {
        let from = SocketAddrV4::new(ADDRESS, 1025);
        self.push(Seen::Report(Box::new(Report {
            from,
            to: SocketAddrV4::new(SERVICE, 80),
            stage,
            text: None,
            install: 1,
        })))
    }

    pub(in crate::report::trace) fn foreign(&mut self, expected: bool) -> &mut Self {
        let mut reply = Message::reply_to(&self.message(Kind::Discover), Kind::Offer);
        reply.yiaddr = Ipv4Addr::new(192, 0, 2, 90);
        let payload = reply.emit().into_boxed_slice();
        let reply = Datagram {
            at: self.now,
            from: SocketAddrV4::new(OTHER, 67),
            to: SocketAddrV4::new(Ipv4Addr::BROADCAST, 68),
            length: payload.len(),
            payload,
        };
        self.push(Seen::Foreign(Box::new(ForeignReply { reply, server: OTHER, expected })))
    }
}
