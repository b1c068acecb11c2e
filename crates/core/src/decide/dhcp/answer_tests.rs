use std::{net::SocketAddrV4, sync::Arc};

use lastmile_formats::dhcp::RelayInfo;

use super::{super::select_subnet, *};
use crate::{
    base::Id,
    decide::{dhcp::NoSubnet, subnet::SubnetDraft},
    site::Site,
};

const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);

fn subnet() -> Arc<Subnet> {
    let draft = SubnetDraft {
        router: Some("192.0.2.1".into()),
        dns: vec!["192.0.2.53".into()],
        domain: Some("gannet.example".into()),
        pools: vec!["192.0.2.50-192.0.2.59".into()],
        interface: Some("eno1".into()),
        relays: vec!["192.0.2.1".into(), "127.0.0.1".into()],
        ..SubnetDraft::new("skerry-point", "192.0.2.0/24")
    };
    Arc::new(draft.check(Id::generate(), &Site::default(), &[OURS]).unwrap())
}

fn direct() -> Arrival<'static> {
    Arrival { interface: Some("eno1"), from: SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 68), local: OURS }
}

fn from_client(kind: Kind) -> Message {
    Message::request(kind, 9, "02:00:5e:00:53:01".parse().unwrap())
}

struct Bench {
    subnet: Arc<Subnet>,
    book: LeaseBook,
    boot: Option<BootInfo>,
    reserved: Option<Ipv4Addr>,
    known: bool,
}

impl Bench {
    fn new() -> Self {
        let target = BootTarget::Path("loader/bios/core.0".into());
        let boot = BootInfo { next_server: OURS, target };
        Self { subnet: subnet(), book: LeaseBook::default(), boot: Some(boot), reserved: None, known: true }
    }

    fn answer(&mut self, request: &Message) -> Result<(Message, Destination), NoReply> {
        let arrival = direct();
        let mut responder = Responder {
            subnet: &self.subnet,
            book: &mut self.book,
            boot: self.boot.as_ref(),
            reserved: self.reserved,
            known: self.known,
            host_name: Some("auklet-gate"),
            options: &[],
            now: Timestamp::from_second(1_700_000_000).unwrap(),
        };
        match responder.answer(request, &arrival)? {
            Answer::Reply { message, to, record, .. } => {
                assert_eq!(record.is_some(), message.kind == Kind::Ack && request.kind == Kind::Request);
                Ok((*message, to))
            }
            Answer::Record(_) => panic!("a reply was expected"),
        }
    }

    fn lease(&mut self) -> Ipv4Addr {
        let (offer, _) = self.answer(&from_client(Kind::Discover)).unwrap();
        let mut request = from_client(Kind::Request);
        request.options.set(code::REQUESTED_ADDRESS, offer.yiaddr.octets());
        request.options.set(code::SERVER_IDENTIFIER, OURS.octets());
        let (ack, _) = self.answer(&request).unwrap();
        assert_eq!((ack.kind, ack.yiaddr), (Kind::Ack, offer.yiaddr));
        ack.yiaddr
    }
}

#[test]
fn the_four_packets_give_an_address_and_the_loader() {
    let mut bench = Bench::new();
    let (offer, to) = bench.answer(&from_client(Kind::Discover)).unwrap();
    assert_eq!(offer.kind, Kind::Offer);
    assert_eq!(offer.siaddr, OURS);
    assert_eq!(offer.file, b"loader/bios/core.0");
    assert_eq!(offer.options.address(code::SUBNET_MASK), Some(Ipv4Addr::new(255, 255, 255, 0)));
    assert_eq!(offer.options.text(code::HOST_NAME).as_deref(), Some("auklet-gate"));
    assert_eq!(offer.options.u32(code::LEASE_TIME), Some(28_800));
    let mac = "02:00:5e:00:53:01".parse().unwrap();
    assert_eq!(to, Destination::Frame { mac, address: offer.yiaddr, port: 68 });
    bench.lease();
}

#[test]
fn broadcast_flag_and_renewal_choose_the_destination() {
    let mut bench = Bench::new();
    let mut discover = from_client(Kind::Discover);
    discover.set_broadcast();
    assert_eq!(bench.answer(&discover).unwrap().1, Destination::Broadcast { port: 68 });

    let address = bench.lease();
    let mut renew = from_client(Kind::Request);
    renew.ciaddr = address;
    let (ack, to) = bench.answer(&renew).unwrap();
    assert_eq!((ack.kind, ack.ciaddr), (Kind::Ack, address));
    assert_eq!(to, Destination::Unicast(SocketAddrV4::new(address, 68)));
}

#[test]
fn a_relay_gets_its_own_option_back_on_its_own_port() {
    let mut bench = Bench::new();
    let mut discover = from_client(Kind::Discover);
    discover.giaddr = Ipv4Addr::LOCALHOST;
    let info = RelayInfo {
        link_selection: Some(Ipv4Addr::new(192, 0, 2, 1)),
        uses_source_port: true,
        ..RelayInfo::default()
    };
    discover.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
    let mut arrival = direct();
    arrival.from = SocketAddrV4::new(Ipv4Addr::LOCALHOST, 40_000);
    let subnets = [bench.subnet.clone()];
    assert!(select_subnet(&subnets, &discover, &arrival).is_ok());
    let (offer, _) = bench.answer(&discover).unwrap();
    assert_eq!(offer.relay_info(), Some(info));
    let to = Destination::of(&discover, &offer, arrival.from);
    assert_eq!(to, Destination::Unicast(SocketAddrV4::new(Ipv4Addr::LOCALHOST, 40_000)));
}

#[test]
fn only_configured_interfaces_and_relays_are_answered() {
    let subnets = [subnet()];
    let elsewhere = Arrival { interface: Some("eno2"), ..direct() };
    let discover = from_client(Kind::Discover);
    assert!(matches!(select_subnet(&subnets, &discover, &elsewhere), Err(NoSubnet::UnknownInterface { .. })));
    let relays_only = Arrival { interface: None, ..direct() };
    assert_eq!(select_subnet(&subnets, &discover, &relays_only), Err(NoSubnet::RelaysOnly));
    let mut relayed = discover;
    relayed.giaddr = Ipv4Addr::new(198, 51, 100, 1);
    assert!(matches!(select_subnet(&subnets, &relayed, &direct()), Err(NoSubnet::UnknownRelay { .. })));
    // A relay that is known, but for a link of another network.
    relayed.giaddr = Ipv4Addr::LOCALHOST;
    assert!(matches!(select_subnet(&subnets, &relayed, &direct()), Err(NoSubnet::UnknownLink { .. })));
}

#[test]
fn requests_for_others_and_for_nothing_known_get_silence() {
    let mut bench = Bench::new();
    let mut other = from_client(Kind::Request);
    other.options.set(code::REQUESTED_ADDRESS, [192, 0, 2, 50]);
    other.options.set(code::SERVER_IDENTIFIER, [192, 0, 2, 3]);
    assert!(matches!(bench.answer(&other), Err(NoReply::OtherServer { .. })));
    let mut reboot = from_client(Kind::Request);
    reboot.options.set(code::REQUESTED_ADDRESS, [192, 0, 2, 50]);
    assert!(matches!(bench.answer(&reboot), Err(NoReply::NotOurs { .. })));
    let mut reply = from_client(Kind::Discover);
    reply.op = Op::Reply;
    assert_eq!(bench.answer(&reply), Err(NoReply::NotARequest));
}

#[test]
fn a_client_from_another_network_is_told_no() {
    let mut bench = Bench::new();
    bench.lease();
    let mut reboot = from_client(Kind::Request);
    reboot.options.set(code::REQUESTED_ADDRESS, [203, 0, 113, 7]);
    let (nak, to) = bench.answer(&reboot).unwrap();
    assert_eq!(nak.kind, Kind::Nak);
    assert_eq!(nak.options.text(code::MESSAGE).as_deref(), Some("203.0.113.7 is no address of this network"));
    assert_eq!(to, Destination::Broadcast { port: 68 });
}

#[test]
fn inform_gets_settings_and_no_lease() {
    let mut bench = Bench::new();
    let mut inform = from_client(Kind::Inform);
    inform.ciaddr = Ipv4Addr::new(192, 0, 2, 200);
    let (ack, to) = bench.answer(&inform).unwrap();
    assert!(ack.yiaddr.is_unspecified());
    assert_eq!(ack.options.get(code::LEASE_TIME), None);
    assert_eq!(ack.options.text(code::DOMAIN_NAME).as_deref(), Some("gannet.example"));
    assert_eq!(to, Destination::Unicast(SocketAddrV4::new(inform.ciaddr, 68)));
}
