use std::{net::Ipv4Addr, sync::Arc};

use jiff::Timestamp;

use super::*;
use crate::{
    base::Id,
    decide::{
        dhcp::{LeaseBook, Wanting},
        subnet::SubnetDraft,
    },
    model::{
        option::FurtherOption,
        subnet::{Mode, Newcomers, Subnet},
    },
    site::Site,
};

const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);
const OTHER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 3);

fn subnet(change: impl FnOnce(&mut SubnetDraft)) -> Arc<Subnet> {
    let mut draft = SubnetDraft::new("skerry-point", "192.0.2.0/24");
    draft.interface = Some("eno1".into());
    draft.mode = Mode::Proxy;
    change(&mut draft);
    Arc::new(draft.check(Id::generate(), &Site::default(), &[OURS]).unwrap())
}

fn arrival() -> Arrival<'static> {
    Arrival { interface: Some("eno1"), from: SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 68), local: OURS }
}

fn path() -> BootInfo {
    BootInfo { next_server: OURS, target: BootTarget::Path("loader/x64/shimx64.efi".into()) }
}

fn url() -> BootInfo {
    let url = format!("http://{OURS}/loader/x64/{}shimx64.efi", "quay/".repeat(30));
    BootInfo { next_server: OURS, target: BootTarget::Url(url) }
}

fn firmware(kind: Kind) -> Message {
    let mut message = Message::request(kind, 9, "02:00:5e:00:53:01".parse().unwrap());
    message.options.set(code::VENDOR_CLASS, *b"PXEClient:Arch:00007:UNDI:003000");
    message.options.set(code::CLIENT_MACHINE_IDENTIFIER, [0; 17]);
    message.options.set(code::PARAMETER_REQUEST_LIST, [1, 43, 60, 66, 67]);
    message
}

fn answer(
    subnet: &Subnet,
    request: &Message,
    boot: Option<&BootInfo>,
    known: bool,
) -> Result<Message, NoReply> {
    answer_from(subnet, &mut LeaseBook::default(), request, boot, known)
}

fn answer_from(
    subnet: &Subnet,
    book: &mut LeaseBook,
    request: &Message,
    boot: Option<&BootInfo>,
    known: bool,
) -> Result<Message, NoReply> {
    let own = FurtherOption::read("interface-mtu", "1300").unwrap();
    let mut responder = Responder {
        subnet,
        book,
        boot,
        reserved: None,
        known,
        host_name: None,
        options: &[own],
        now: Timestamp::UNIX_EPOCH,
    };
    match responder.answer(request, &arrival())? {
        Answer::Reply { message, .. } => Ok(*message),
        Answer::Record(_) => panic!("a reply was expected"),
    }
}

#[test]
fn firmware_is_offered_its_boot_and_no_address() {
    let subnet = subnet(|_| {});
    let offer = answer(&subnet, &firmware(Kind::Discover), Some(&path()), true).unwrap();
    assert_eq!((offer.kind, offer.yiaddr, offer.siaddr), (Kind::Offer, Ipv4Addr::UNSPECIFIED, OURS));
    assert_eq!(offer.file, b"loader/x64/shimx64.efi");
    assert_eq!(offer.options.get(code::VENDOR_CLASS), Some(b"PXEClient".as_slice()));
    assert_eq!(offer.options.get(code::VENDOR_SPECIFIC), Some([6, 1, 8, 255].as_slice()));
    assert_eq!(offer.options.get(code::CLIENT_MACHINE_IDENTIFIER), Some([0; 17].as_slice()), "echoed");
    assert_eq!(offer.options.get(code::LEASE_TIME), None);
    // Whoever does not boot from here, and whatever is about addresses, is the other server's.
    let nothing = answer(&subnet, &firmware(Kind::Discover), None, true);
    assert!(matches!(nothing, Err(NoReply::NothingToAdd { .. })), "{nothing:?}");
    let request = answer(&subnet, &firmware(Kind::Request), Some(&path()), true);
    assert!(matches!(request, Err(NoReply::OtherHandsOut { kind: Kind::Request, .. })), "{request:?}");
}

#[test]
fn a_boot_server_gives_back_the_item_that_was_asked_for() {
    let mut request = firmware(Kind::Request);
    request.ciaddr = Ipv4Addr::new(192, 0, 2, 90);
    request.options.set(code::VENDOR_SPECIFIC, [71, 4, 0, 5, 0, 0, 255]);
    let from = SocketAddrV4::new(request.ciaddr, 4011);
    let asked = Arrival { from, ..arrival() };
    let Answer::Reply { message, to, .. } = boot_server(&request, &asked, Some(&path()), "x").unwrap() else {
        panic!("a reply was expected");
    };
    assert_eq!(message.kind, Kind::Ack);
    assert_eq!(message.options.get(code::VENDOR_SPECIFIC), Some([71, 4, 0, 5, 0, 0, 255].as_slice()));
    assert_eq!(to, Destination::Unicast(from));
    assert!(boot_server(&firmware(Kind::Discover), &asked, Some(&path()), "x").is_err());
    assert!(boot_server(&request, &asked, None, "x").is_err());
}

#[test]
fn http_boot_has_its_class_and_a_url_of_any_length() {
    let subnet = subnet(|draft| {
        draft.mode = Mode::Lease;
        draft.pools = vec!["192.0.2.50-192.0.2.59".into()];
        draft.options = [("interface-mtu".to_owned(), "1400".to_owned())].into();
    });
    let mut request = firmware(Kind::Discover);
    request.options.set(code::VENDOR_CLASS, *b"HTTPClient:Arch:00016:UNDI:003001");
    let boot = url();
    let offer = answer(&subnet, &request, Some(&boot), true).unwrap();
    assert_eq!(offer.options.get(code::VENDOR_CLASS), Some(b"HTTPClient".as_slice()));
    assert_eq!(offer.options.text(code::BOOT_FILE_NAME).as_deref(), Some(boot.target.as_str()));
    let read = Message::parse(&offer.emit()).unwrap();
    assert_eq!(read.options.text(code::BOOT_FILE_NAME).as_deref(), Some(boot.target.as_str()));
    // The machine's own option goes before the subnet's.
    assert_eq!(read.options.get(26), Some(1300_u16.to_be_bytes().as_slice()));
    // By TFTP there is nothing but the file: no class, no menu of PXE's own.
    let offer = answer(&subnet, &firmware(Kind::Discover), Some(&path()), true).unwrap();
    assert_eq!(offer.options.get(code::VENDOR_CLASS), None);
    assert_eq!(offer.options.text(code::TFTP_SERVER_NAME).as_deref(), Some("192.0.2.2"));
}

#[test]
fn strangers_and_other_networks_are_left_alone_where_that_is_said() {
    let subnet = subnet(|draft| {
        draft.mode = Mode::Lease;
        draft.pools = vec!["192.0.2.50-192.0.2.59".into()];
        draft.newcomers = Newcomers::Unanswered;
        draft.authoritative = false;
    });
    let stranger = answer(&subnet, &firmware(Kind::Discover), None, false);
    assert!(matches!(stranger, Err(NoReply::Newcomer { .. })), "{stranger:?}");
    assert!(answer(&subnet, &firmware(Kind::Discover), None, true).is_ok());
    let mut moved = firmware(Kind::Request);
    moved.options.set(code::REQUESTED_ADDRESS, [203, 0, 113, 7]);
    let left = answer(&subnet, &moved, None, true);
    assert!(matches!(left, Err(NoReply::NotAuthoritative { .. })), "{left:?}");
    // Nor is an address of this network that another server of the wire may lend: a client with a lease from here
    // that comes back with one from there.
    let mut book = LeaseBook::default();
    let client = crate::model::lease::ClientKey::of(&moved).unwrap();
    let wanting = Wanting { client: &client, registered: true, wish: None, reserved: None };
    book.offer(&subnet, wanting, Timestamp::UNIX_EPOCH).unwrap();
    moved.options.set(code::REQUESTED_ADDRESS, [192, 0, 2, 77]);
    let left = answer_from(&subnet, &mut book, &moved, None, true);
    assert!(matches!(left, Err(NoReply::NotAuthoritative { .. })), "{left:?}");
    // Who chose this server is told, whatever the subnet says.
    moved.options.set(code::SERVER_IDENTIFIER, OURS.octets());
    assert_eq!(answer(&subnet, &moved, None, true).unwrap().kind, Kind::Nak);
    moved.options.set(code::SERVER_IDENTIFIER, OTHER.octets());
    assert!(matches!(answer(&subnet, &moved, None, true), Err(NoReply::OtherServer { .. })));
}
