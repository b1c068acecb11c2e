//! A DHCP client (RFC 2131, section 4.4) without IO.
//!
//! Call [`Client::poll`] first and whenever its time has come, and [`Client::handle`] with each message that arrives; what they
//! give is to be sent. [`Client::lease`] is what the machine may use at the moment.

use std::{net::Ipv4Addr, time::Duration};

use ipnet::Ipv4Net;
use lastmile_formats::{
    dhcp::{Kind, Message, Op, code},
    mac::Mac,
};
use lastmile_survey::messages::DHCP_CLASS;

/// First wait for an answer, doubled at each further try up to the last (section 4.1).
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LAST_WAIT: Duration = Duration::from_secs(16);
/// Questions that a server which made an offer may leave unanswered.
const REQUESTS: u32 = 4;
/// How often it is asked whether an address is right elsewhere: a switch lets nothing through at first.
const CONFIRMS: u32 = 5;
/// What is asked for.
const WANTED: [u8; 8] = [
    code::SUBNET_MASK,
    code::ROUTER,
    code::DOMAIN_NAME_SERVER,
    code::DOMAIN_NAME,
    code::LEASE_TIME,
    code::SERVER_IDENTIFIER,
    code::RENEWAL_TIME,
    code::REBINDING_TIME,
];

/// An address that was granted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lease {
    /// The address, with its network's mask.
    pub address: Ipv4Net,
    /// The way to other networks.
    pub router: Option<Ipv4Addr>,
    /// Who granted it.
    pub server: Ipv4Addr,
    /// When it ends, and when it is to be renewed by its server, and by any (T1, T2), by the caller's clock.
    ends: Duration,
    renew: Duration,
    rebind: Duration,
}

/// What is to be sent, and to whom.
#[derive(Debug, Clone, PartialEq)]
pub struct Send {
    /// The message.
    pub message: Message,
    /// The server; everybody (255.255.255.255) if there is none.
    pub to: Ipv4Addr,
}

#[derive(Debug, Clone, PartialEq)]
enum State {
    /// Looking for a server.
    Selecting,
    /// A server made an offer, and was asked for it.
    Requesting { offer: Box<Message>, left: u32 },
    /// An address is held.
    Bound(Lease),
}

/// A client on one card.
#[derive(Debug)]
pub struct Client {
    mac: Mac,
    xid: u32,
    state: State,
    /// When [`Client::poll`] is to be called next.
    due: Duration,
    wait: Duration,
    begun: Duration,
    /// How often it is still to be asked whether the address that is held is right.
    confirms: u32,
}

impl Client {
    /// A client that has no address yet. `xid` tells its exchanges from others'. Times are of one clock that never goes back.
    #[must_use]
    pub const fn new(mac: Mac, xid: u32, now: Duration) -> Self {
        Self { mac, xid, state: State::Selecting, due: now, wait: FIRST_WAIT, begun: now, confirms: 0 }
    }

    /// When [`Client::poll`] is to be called.
    #[must_use]
    pub const fn due(&self) -> Duration {
        self.due
    }

    /// The address that is held.
    #[must_use]
    pub fn lease(&self) -> Option<&Lease> {
        match &self.state {
            State::Bound(lease) => Some(lease),
            State::Selecting | State::Requesting { .. } => None,
        }
    }

    /// What is to be sent now, if its time has come.
    pub fn poll(&mut self, now: Duration) -> Option<Send> {
        if now < self.due {
            return None;
        }
        match self.state.clone() {
            State::Selecting => {
                self.back_off(now);
                Some(Send { message: self.base(Kind::Discover, now), to: Ipv4Addr::BROADCAST })
            }
            State::Requesting { offer, left } if left > 0 => {
                let message = request_of(self.base(Kind::Request, now), &offer);
                self.state = State::Requesting { offer, left: left - 1 };
                self.back_off(now);
                Some(message)
            }
            State::Bound(lease) if now < lease.ends && self.confirms > 0 => {
                Some(self.ask_whether(&lease, now))
            }
            State::Bound(lease) if now < lease.ends => Some(self.renew(&lease, now)),
            // The server fell silent, or the address is not this machine's any more.
            State::Requesting { .. } | State::Bound(_) => {
                self.restart(now);
                self.poll(now)
            }
        }
    }

    fn renew(&mut self, lease: &Lease, now: Duration) -> Send {
        // Half of what is left, but no more often than once a minute (section 4.4.5).
        let until = if now < lease.rebind { lease.rebind } else { lease.ends };
        let pause = (until.saturating_sub(now) / 2).max(Duration::from_secs(60));
        self.due = (now + pause).min(until);
        let mut message = self.base(Kind::Request, now);
        message.ciaddr = lease.address.addr();
        message.flags = 0;
        let to = if now < lease.rebind { lease.server } else { Ipv4Addr::BROADCAST };
        Send { message, to }
    }

    /// Takes what arrived; gives what is to be sent at once.
    pub fn handle(&mut self, message: &Message, now: Duration) -> Option<Send> {
        let is_mine = message.op == Op::Reply && message.xid == self.xid && message.mac() == Some(self.mac);
        if !is_mine {
            return None;
        }
        match (&self.state, message.kind) {
            (State::Selecting, Kind::Offer) if !message.yiaddr.is_unspecified() => {
                self.state = State::Requesting { offer: Box::new(message.clone()), left: REQUESTS };
                (self.wait, self.due) = (FIRST_WAIT, now);
                self.poll(now)
            }
            (State::Requesting { .. } | State::Bound(_), Kind::Ack) => {
                if let Some(lease) = Lease::of(message, now) {
                    (self.due, self.confirms) = (lease.renew, 0);
                    self.state = State::Bound(lease);
                }
                None
            }
            (State::Requesting { .. } | State::Bound(_), Kind::Nak) => {
                self.restart(now);
                None
            }
            _ => None,
        }
    }

    /// The cable was out: whether the address is right where the card hangs now is to be asked (section 3.2). It is kept until a server
    /// says no.
    pub fn confirm(&mut self, now: Duration) {
        match &self.state {
            State::Bound(_) => (self.confirms, self.wait, self.due) = (CONFIRMS, FIRST_WAIT, now),
            State::Selecting | State::Requesting { .. } => self.restart(now),
        }
    }

    fn ask_whether(&mut self, lease: &Lease, now: Duration) -> Send {
        self.confirms -= 1;
        self.back_off(now);
        if self.confirms == 0 {
            self.due = self.due.max(lease.renew);
        }
        let mut message = self.base(Kind::Request, now);
        message.options.set(code::REQUESTED_ADDRESS, lease.address.addr().octets());
        Send { message, to: Ipv4Addr::BROADCAST }
    }

    fn restart(&mut self, now: Duration) {
        self.xid = self.xid.wrapping_add(1);
        self.state = State::Selecting;
        (self.wait, self.due, self.begun, self.confirms) = (FIRST_WAIT, now, now, 0);
    }

    fn back_off(&mut self, now: Duration) {
        self.due = now + self.wait;
        self.wait = (self.wait * 2).min(LAST_WAIT);
    }

    fn base(&self, kind: Kind, now: Duration) -> Message {
        let mut message = Message::request(kind, self.xid, self.mac);
        message.secs = u16::try_from(now.saturating_sub(self.begun).as_secs()).unwrap_or(u16::MAX);
        // Without an address, a card takes what is for everybody only.
        message.set_broadcast();
        message.options.set(code::VENDOR_CLASS, DHCP_CLASS.as_bytes());
        message.options.set(code::PARAMETER_REQUEST_LIST, WANTED);
        message
    }
}

fn request_of(mut message: Message, offer: &Message) -> Send {
    message.options.set(code::REQUESTED_ADDRESS, offer.yiaddr.octets());
    if let Some(server) = offer.options.get(code::SERVER_IDENTIFIER) {
        message.options.set(code::SERVER_IDENTIFIER, server);
    }
    Send { message, to: Ipv4Addr::BROADCAST }
}

impl Lease {
    /// What an acknowledgement grants; nothing if it says no server or no usable mask.
    fn of(ack: &Message, now: Duration) -> Option<Self> {
        let options = &ack.options;
        let server = options.address(code::SERVER_IDENTIFIER)?;
        let mask = options.address(code::SUBNET_MASK).unwrap_or(Ipv4Addr::new(255, 255, 255, 0));
        let address = Ipv4Net::with_netmask(ack.yiaddr, mask).ok()?;
        let secs = |code| options.u32(code).map(|secs| Duration::from_secs(secs.into()));
        let term = secs(code::LEASE_TIME).unwrap_or(Duration::from_secs(3600));
        // Half of the term, and seven eighths of it, unless the server says otherwise (section 4.4.5).
        let renew = secs(code::RENEWAL_TIME).filter(|renew| *renew < term).unwrap_or(term / 2);
        let rebind = secs(code::REBINDING_TIME)
            .filter(|rebind| *rebind < term && *rebind >= renew)
            .unwrap_or_else(|| (term * 7 / 8).max(renew));
        let router = options.address(code::ROUTER).filter(|router| address.contains(router));
        let at = |pause: Duration| now + pause;
        Some(Self { address, router, server, ends: at(term), renew: at(renew), rebind: at(rebind) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SERVER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);
    const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 50);

    fn at(secs: u64) -> Duration {
        Duration::from_secs(secs)
    }

    fn reply(to: &Message, kind: Kind) -> Message {
        let mut reply = Message::reply_to(to, kind);
        reply.yiaddr = ADDRESS;
        reply.options.set(code::SERVER_IDENTIFIER, SERVER.octets());
        reply.options.set(code::SUBNET_MASK, [255, 255, 255, 0]);
        reply.options.set(code::ROUTER, [192, 0, 2, 1]);
        reply.options.set(code::LEASE_TIME, 800_u32.to_be_bytes());
        reply
    }

    fn client() -> Client {
        Client::new("02:00:5e:00:53:01".parse().unwrap(), 7, at(0))
    }

    fn bound() -> Client {
        let mut client = client();
        let discover = client.poll(at(0)).unwrap();
        let request = client.handle(&reply(&discover.message, Kind::Offer), at(1)).unwrap();
        assert_eq!(client.handle(&reply(&request.message, Kind::Ack), at(2)), None);
        client
    }

    #[test]
    fn an_address_is_asked_for_granted_renewed_and_given_up_at_its_end() {
        let mut client = client();
        let discover = client.poll(at(0)).unwrap();
        assert_eq!((discover.message.kind, discover.to), (Kind::Discover, Ipv4Addr::BROADCAST));
        let request = client.handle(&reply(&discover.message, Kind::Offer), at(1)).unwrap();
        assert_eq!(request.message.options.address(code::REQUESTED_ADDRESS), Some(ADDRESS));
        assert_eq!(request.message.options.address(code::SERVER_IDENTIFIER), Some(SERVER));
        client.handle(&reply(&request.message, Kind::Ack), at(2));
        let lease = client.lease().unwrap();
        assert_eq!(lease.address.to_string(), "192.0.2.50/24");
        assert_eq!(lease.router, Some(Ipv4Addr::new(192, 0, 2, 1)));
        assert_eq!(client.due(), at(402));
        assert_eq!(client.poll(at(401)), None);
        // By its server first, without a new address being asked for.
        let renewal = client.poll(at(402)).unwrap();
        assert_eq!((renewal.to, renewal.message.ciaddr), (SERVER, ADDRESS));
        assert_eq!(renewal.message.options.get(code::REQUESTED_ADDRESS), None);
        // By any, when its own is silent; and another grant counts from then on.
        let rebinding = client.poll(at(702)).unwrap();
        assert_eq!(rebinding.to, Ipv4Addr::BROADCAST);
        client.handle(&reply(&rebinding.message, Kind::Ack), at(703));
        assert_eq!(client.due(), at(1103));
        // At its end it is not used any more.
        let again = client.poll(at(1503)).unwrap();
        assert_eq!((again.message.kind, client.lease()), (Kind::Discover, None));
        assert_ne!(again.message.xid, discover.message.xid);
    }

    #[test]
    fn silence_is_asked_into_more_and_more_rarely_and_a_server_that_falls_silent_is_left() {
        let mut client = client();
        let mut asked = Vec::new();
        for second in 0..64 {
            asked.extend(client.poll(at(second)).map(|_| second));
        }
        assert_eq!(asked, [0, 1, 3, 7, 15, 31, 47, 63]);
        let discover = client.poll(at(79)).unwrap();
        client.handle(&reply(&discover.message, Kind::Offer), at(80)).unwrap();
        let kinds: Vec<Kind> =
            (81..100).filter_map(|second| client.poll(at(second))).map(|send| send.message.kind).collect();
        assert_eq!(kinds[..4], [Kind::Request, Kind::Request, Kind::Request, Kind::Discover]);
    }

    #[test]
    fn a_cable_that_was_out_has_the_address_confirmed() {
        let mut client = bound();
        client.confirm(at(50));
        let asked = client.poll(at(50)).unwrap();
        assert_eq!((asked.message.kind, asked.to), (Kind::Request, Ipv4Addr::BROADCAST));
        assert_eq!(asked.message.ciaddr, Ipv4Addr::UNSPECIFIED);
        assert_eq!(asked.message.options.address(code::REQUESTED_ADDRESS), Some(ADDRESS));
        assert_eq!(asked.message.options.get(code::SERVER_IDENTIFIER), None);
        // Asked into silence again and again, it is kept, and renewed in its time.
        let again: Vec<u64> = (51..402).filter(|second| client.poll(at(*second)).is_some()).collect();
        assert_eq!((again, client.lease().is_some()), (vec![51, 53, 57, 65], true));
        assert_eq!(client.poll(at(402)).unwrap().message.ciaddr, ADDRESS);
        // A grant counts from then on, and a refusal ends it.
        client.confirm(at(410));
        let asked = client.poll(at(410)).unwrap();
        client.handle(&reply(&asked.message, Kind::Ack), at(411));
        assert_eq!(client.due(), at(811));
        client.confirm(at(420));
        let asked = client.poll(at(420)).unwrap();
        client.handle(&reply(&asked.message, Kind::Nak), at(421));
        assert_eq!(client.lease(), None);
        client.confirm(at(422));
        assert_eq!(client.poll(at(422)).unwrap().message.kind, Kind::Discover);
    }

    #[test]
    fn what_is_for_others_or_refused_gives_no_address() {
        let mut client = client();
        let discover = client.poll(at(0)).unwrap();
        let mut other = reply(&discover.message, Kind::Offer);
        other.xid += 1;
        assert_eq!(client.handle(&other, at(1)), None);
        assert_eq!(client.handle(&reply(&discover.message, Kind::Ack), at(1)), None);
        assert_eq!(client.lease(), None);
        let mut client = bound();
        let renewal = client.poll(at(402)).unwrap();
        client.handle(&reply(&renewal.message, Kind::Nak), at(403));
        assert_eq!(client.lease(), None);
        assert_eq!(client.poll(at(403)).unwrap().message.kind, Kind::Discover);
    }
}
