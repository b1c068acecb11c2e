//! Any datagram to the DHCP port: read, written, read again the same, and answered.
#![no_main]

use std::net::{Ipv4Addr, SocketAddrV4};

use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    decide::{
        dhcp::{Arrival, BootInfo, BootTarget, LeaseBook, Responder, boot_server},
        subnet::SubnetDraft,
    },
    model::subnet::Mode,
    site::Site,
};
use lastmile_formats::dhcp::Message;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(message) = Message::parse(bytes) else { return };
    let written = message.emit();
    let again = Message::parse(&written).expect("what is written can be read");
    assert_eq!(
        (again.op, again.kind, again.xid, again.yiaddr),
        (message.op, message.kind, message.xid, message.yiaddr)
    );
    let _ = (message.firmware(), message.user_classes(), message.machine_uuid(), message.relay_info());
    let own = Ipv4Addr::new(192, 0, 2, 2);
    for mode in [Mode::Lease, Mode::Proxy] {
        let mut draft = SubnetDraft::new("x", "192.0.2.0/24");
        draft.mode = mode;
        draft.interface = Some("e".into());
        if mode == Mode::Lease {
            draft.pools = vec!["192.0.2.100-192.0.2.110".into()];
        }
        let subnet = draft.check(Id::generate(), &Site::default(), &[]).expect("a good draft");
        let arrival = Arrival { interface: Some("e"), from: SocketAddrV4::new(own, 68), local: own };
        let boot = BootInfo { next_server: own, target: BootTarget::Path("loader/x".into()) };
        let _ = boot_server(&message, &arrival, Some(&boot), "x");
        let mut book = LeaseBook::default();
        let _ = Responder {
            subnet: &subnet,
            book: &mut book,
            boot: Some(&boot),
            reserved: None,
            known: true,
            host_name: Some("x"),
            options: &[],
            now: Timestamp::UNIX_EPOCH,
        }
        .answer(&message, &arrival);
    }
});
