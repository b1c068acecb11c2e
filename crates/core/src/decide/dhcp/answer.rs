//! What to answer to one message (RFC 2131, section 4.3).

use std::net::Ipv4Addr;

use jiff::Timestamp;
use lastmile_formats::dhcp::{Kind, Message, Op, code};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Arrival, Destination, LeaseBook, NoAddress, Wanting};
use crate::model::{
    lease::{ClientKey, LeaseRecord},
    option::FurtherOption,
    subnet::{Mode, Newcomers, Subnet},
};

/// What firmware is told about its boot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootInfo {
    /// Where the loader is (`siaddr`, option 66).
    pub next_server: Ipv4Addr,
    /// What it is there (`file`, option 67).
    pub target: BootTarget,
}

/// What firmware is told to fetch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BootTarget {
    /// A path, by TFTP (PXE 2.1).
    Path(String),
    /// A URL, by HTTP or HTTPS (UEFI 2.10, section 24.7.3.1).
    Url(String),
    /// The URL of a script, for firmware that reads scripts.
    Script(String),
}

impl BootTarget {
    /// The path or URL.
    #[must_use]
    pub fn as_str(&self) -> &str {
        match self {
            Self::Path(text) | Self::Url(text) | Self::Script(text) => text,
        }
    }
}

/// What to do about a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// Send a reply. If it carries a record, the record must be on disk first.
    Reply {
        /// The reply.
        message: Box<Message>,
        /// Where it goes.
        to: Destination,
        /// What changed in the lease book.
        record: Option<LeaseRecord>,
        /// The offered address is a fresh one: where the subnet says so it is tried for first. If somebody has it,
        /// it goes to [`LeaseBook::quarantine`], and the message is answered afresh.
        try_first: Option<Ipv4Addr>,
    },
    /// Nothing is sent, but the lease book changed (release, decline).
    Record(LeaseRecord),
}

/// Why a message is not answered. None of these is a fault of the service.
#[derive(Debug, Clone, PartialEq, Eq, Error, Serialize, Deserialize)]
pub enum NoReply {
    /// A reply of some server.
    #[error("a reply, not a request")]
    NotARequest,
    /// Nothing to know the client by.
    #[error("neither an Ethernet address nor a client identifier")]
    Anonymous,
    /// The client chose another server.
    #[error("the client chose server {chosen}")]
    OtherServer {
        /// The server identifier it named.
        chosen: Ipv4Addr,
    },
    /// The client asks for an address of which we know nothing (RFC 2131, section 4.3.2, INIT-REBOOT).
    #[error("asks for {address}, of which nothing is recorded here")]
    NotOurs {
        /// The address it asks for.
        address: Ipv4Addr,
    },
    /// A request without the address it is about.
    #[error("{kind} names no address")]
    NoAddressNamed {
        /// The message type.
        kind: Kind,
    },
    /// Gives back, or declines, an address it does not hold.
    #[error("{kind} for {address}, which it does not hold")]
    NotHeld {
        /// The message type.
        kind: Kind,
        /// The address named.
        address: Ipv4Addr,
    },
    /// Message types that only servers send, or that are not known.
    #[error("{kind} is nothing a server answers")]
    Unanswerable {
        /// The message type.
        kind: Kind,
    },
    /// Nobody registered the machine, and its subnet answers only those that are known.
    #[error("a newcomer, and subnet '{subnet}' answers only machines that are registered")]
    Newcomer {
        /// The subnet.
        subnet: String,
    },
    /// Another server hands out the addresses, and there is nothing to add.
    #[error("{kind} on subnet '{subnet}', whose addresses another server hands out")]
    OtherHandsOut {
        /// The message type.
        kind: Kind,
        /// The subnet.
        subnet: String,
    },
    /// Another server hands out the addresses, and this client is to boot nothing from here.
    #[error("no boot information for it, and subnet '{subnet}' is another server's")]
    NothingToAdd {
        /// The subnet.
        subnet: String,
    },
    /// The client asks for an address that is not lent here, and refusing it is another server's business.
    #[error("{address} is not lent here, and subnet '{subnet}' is not authoritative")]
    NotAuthoritative {
        /// The address it asks for.
        address: Ipv4Addr,
        /// The subnet.
        subnet: String,
    },
    /// No address left.
    #[error(transparent)]
    NoAddress(#[from] NoAddress),
}

/// Answers the messages of one subnet.
#[derive(Debug)]
pub struct Responder<'a> {
    /// The subnet that the message was found to be for.
    pub subnet: &'a Subnet,
    /// The leases.
    pub book: &'a mut LeaseBook,
    /// What this client is told about its boot; `None` for a client that does not boot by us.
    pub boot: Option<&'a BootInfo>,
    /// The address reserved for it on this subnet.
    pub reserved: Option<Ipv4Addr>,
    /// Whether the machine is registered.
    pub known: bool,
    /// The host name it is given.
    pub host_name: Option<&'a str>,
    /// The machine's own further options, which go before the subnet's.
    pub options: &'a [FurtherOption],
    /// The present time.
    pub now: Timestamp,
}

impl Responder<'_> {
    /// Answers one message.
    ///
    /// # Errors
    /// Why it is left unanswered.
    pub fn answer(&mut self, request: &Message, arrival: &Arrival<'_>) -> Result<Answer, NoReply> {
        if request.op != Op::Request {
            return Err(NoReply::NotARequest);
        }
        let client = ClientKey::of(request).ok_or(NoReply::Anonymous)?;
        if !self.known && self.reserved.is_none() && self.subnet.newcomers == Newcomers::Unanswered {
            return Err(NoReply::Newcomer { subnet: self.subnet.name.clone() });
        }
        if self.subnet.mode == Mode::Proxy {
            return self.proxy(request, arrival);
        }
        match request.kind {
            Kind::Discover => self.discover(request, arrival, &client),
            Kind::Request => self.request(request, arrival, &client),
            Kind::Inform => Ok(self.inform(request, arrival)),
            Kind::Release => {
                let address = request.ciaddr;
                let record = self.book.release(&client, address, self.now);
                record.map(Answer::Record).ok_or(NoReply::NotHeld { kind: request.kind, address })
            }
            Kind::Decline => {
                let address = request.options.address(code::REQUESTED_ADDRESS);
                let address = address.ok_or(NoReply::NoAddressNamed { kind: request.kind })?;
                let record = self.book.decline(&client, address, self.now);
                record.map(Answer::Record).ok_or(NoReply::NotHeld { kind: request.kind, address })
            }
            kind @ (Kind::Offer | Kind::Ack | Kind::Nak | Kind::Other(_)) => {
                Err(NoReply::Unanswerable { kind })
            }
        }
    }

    fn discover(
        &mut self,
        request: &Message,
        arrival: &Arrival<'_>,
        client: &ClientKey,
    ) -> Result<Answer, NoReply> {
        let wish = request.options.address(code::REQUESTED_ADDRESS);
        let wanting = Wanting { client, registered: self.known, wish, reserved: self.reserved };
        let offer = self.book.offer(self.subnet, wanting, self.now)?;
        let answer = self.grant(request, arrival, Kind::Offer, offer.address, None);
        let tried = self.subnet.probe && offer.fresh && !arrives_from_this_host(request);
        Ok(match answer {
            Answer::Reply { message, to, record, .. } => {
                Answer::Reply { message, to, record, try_first: tried.then_some(offer.address) }
            }
            other => other,
        })
    }

    /// RFC 2131, section 4.3.2 tells the states apart by what is filled in.
    fn request(
        &mut self,
        request: &Message,
        arrival: &Arrival<'_>,
        client: &ClientKey,
    ) -> Result<Answer, NoReply> {
        let wish = request.options.address(code::REQUESTED_ADDRESS);
        let chosen = request.options.address(code::SERVER_IDENTIFIER);
        if let Some(chosen) = chosen.filter(|chosen| *chosen != arrival.local) {
            return Err(NoReply::OtherServer { chosen });
        }
        let address = if request.ciaddr.is_unspecified() { wish } else { Some(request.ciaddr) };
        let address = address.ok_or(NoReply::NoAddressNamed { kind: request.kind })?;
        // Another server of the wire may have lent it. Who chose this one by name is told, whatever the subnet says.
        let may_refuse = self.subnet.authoritative || chosen.is_some();
        let refuse = |why: String| match may_refuse {
            true => Ok(nak(request, arrival, &why)),
            false => Err(NoReply::NotAuthoritative { address, subnet: self.subnet.name.clone() }),
        };
        if !self.subnet.network.contains(&address) {
            return refuse(format!("{address} is no address of this network"));
        }
        let known = self.book.of_client(self.subnet.id, client).is_some();
        if chosen.is_none() && !known && self.book.at(address).is_none() {
            return Err(NoReply::NotOurs { address });
        }
        match self.book.bind(self.subnet, client, address, self.reserved, self.now) {
            Some(record) => Ok(self.grant(request, arrival, Kind::Ack, address, Some(record))),
            None => refuse(format!("{address} cannot be lent to this client")),
        }
    }

    fn inform(&self, request: &Message, arrival: &Arrival<'_>) -> Answer {
        let mut reply = Message::reply_to(request, Kind::Ack);
        reply.ciaddr = request.ciaddr;
        self.add_settings(request, &mut reply, arrival);
        let to = Destination::of(request, &reply, arrival.from);
        Answer::Reply { message: Box::new(reply), to, record: None, try_first: None }
    }

    fn grant(
        &self,
        request: &Message,
        arrival: &Arrival<'_>,
        kind: Kind,
        address: Ipv4Addr,
        record: Option<LeaseRecord>,
    ) -> Answer {
        let mut reply = Message::reply_to(request, kind);
        reply.yiaddr = address;
        if kind == Kind::Ack {
            reply.ciaddr = request.ciaddr;
        }
        let secs = u32::try_from(self.subnet.lease.as_secs()).unwrap_or(u32::MAX);
        self.add_settings(request, &mut reply, arrival);
        reply.options.set(code::LEASE_TIME, secs.to_be_bytes());
        reply.options.set(code::RENEWAL_TIME, (secs / 2).to_be_bytes());
        reply.options.set(code::REBINDING_TIME, (secs / 8 * 7).to_be_bytes());
        let to = Destination::of(request, &reply, arrival.from);
        Answer::Reply { message: Box::new(reply), to, record, try_first: None }
    }

    /// Everything but the lease: what OFFER, ACK and the answer to INFORM have in common.
    fn add_settings(&self, request: &Message, reply: &mut Message, arrival: &Arrival<'_>) {
        let subnet = self.subnet;
        let options = &mut reply.options;
        options.set(code::SERVER_IDENTIFIER, arrival.local.octets());
        options.set(code::SUBNET_MASK, subnet.network.netmask().octets());
        options.set_addresses(code::ROUTER, subnet.router.as_slice());
        options.set_addresses(code::DOMAIN_NAME_SERVER, &subnet.dns);
        if let Some(domain) = &subnet.domain {
            options.set(code::DOMAIN_NAME, domain.as_bytes());
        }
        options.set(code::BROADCAST_ADDRESS, subnet.network.broadcast().octets());
        options.set_addresses(code::NTP_SERVERS, &subnet.ntp);
        if let Some(name) = self.host_name {
            options.set(code::HOST_NAME, name.as_bytes());
        }
        // Before the boot information, which no further option may spoil.
        for option in self.subnet.options.iter().chain(self.options) {
            options.set(option.code, option.value.as_slice());
        }
        if let Some(boot) = self.boot {
            add_boot(request, reply, boot);
        }
        echo(request, reply);
    }
}

/// Where the loader is, as this firmware wants to be told.
pub(super) fn add_boot(request: &Message, reply: &mut Message, boot: &BootInfo) {
    reply.siaddr = boot.next_server;
    reply.file = boot.target.as_str().as_bytes().to_vec();
    let options = &mut reply.options;
    if matches!(boot.target, BootTarget::Url(_)) {
        // Without its own class in the answer, firmware takes it for one that has nothing to do with its boot.
        options.set(code::VENDOR_CLASS, *b"HTTPClient");
    }
    if request.asks_for(code::TFTP_SERVER_NAME) {
        options.set(code::TFTP_SERVER_NAME, boot.next_server.to_string());
    }
    // A URL may be longer than the field.
    if request.asks_for(code::BOOT_FILE_NAME) || !matches!(boot.target, BootTarget::Path(_)) {
        options.set(code::BOOT_FILE_NAME, boot.target.as_str().as_bytes());
    }
}

/// A relay on the loopback stands before machines that are simulated on this host: nobody else is on their network.
const fn arrives_from_this_host(request: &Message) -> bool {
    request.giaddr.is_loopback()
}

/// What a server gives back as it came: client identifier (RFC 6842), machine identifier (RFC 4578,
/// section 2.3), and, last of all, the relay's own (RFC 3046, section 2.2).
pub(super) fn echo(request: &Message, reply: &mut Message) {
    for code in [code::CLIENT_IDENTIFIER, code::CLIENT_MACHINE_IDENTIFIER, code::RELAY_AGENT_INFORMATION] {
        if let Some(value) = request.options.get(code) {
            reply.options.set(code, value);
        }
    }
}

fn nak(request: &Message, arrival: &Arrival<'_>, why: &str) -> Answer {
    let mut reply = Message::reply_to(request, Kind::Nak);
    // A relay must broadcast a NAK to a client whose address is wrong (RFC 2131, section 4.3.2).
    if !request.giaddr.is_unspecified() {
        reply.set_broadcast();
    }
    reply.options.set(code::SERVER_IDENTIFIER, arrival.local.octets());
    reply.options.set(code::MESSAGE, why.as_bytes());
    echo(request, &mut reply);
    let to = Destination::of(request, &reply, arrival.from);
    Answer::Reply { message: Box::new(reply), to, record: None, try_first: None }
}

#[cfg(test)]
#[path = "answer_tests.rs"]
mod tests;
