use dhcproto::{Decodable, Encodable, v4};
use proptest::prelude::*;

use super::*;
use crate::architecture::Architecture;

fn sample() -> Message {
    let mac = "02:00:5e:00:53:01".parse().unwrap();
    let mut message = Message::request(Kind::Discover, 0x1234_5678, mac);
    message.secs = 4;
    message.set_broadcast();
    message.options.set(code::VENDOR_CLASS, *b"PXEClient:Arch:00007:UNDI:003000");
    message.options.set(code::CLIENT_ARCHITECTURE, [0, 7]);
    message.options.set(code::PARAMETER_REQUEST_LIST, [1, 3, 6, 66, 67]);
    message
}

#[test]
fn what_is_emitted_is_read_back() {
    let message = sample();
    let mut read = Message::parse(&message.emit()).unwrap();
    read.options.remove(code::MESSAGE_TYPE);
    assert_eq!(read, message);
    let firmware = Firmware { architecture: Architecture::UefiX64, fetches: Fetches::Tftp };
    assert_eq!(read.firmware(), Some(firmware));
    assert!(read.asks_for(67) && !read.asks_for(42));
}

#[test]
fn firmware_is_known_by_class_and_code() {
    let mut message = sample();
    message.options.set(code::VENDOR_CLASS, *b"HTTPClient:Arch:00016:UNDI:003001");
    message.options.set(code::CLIENT_ARCHITECTURE, [0, 16]);
    assert_eq!(message.firmware().unwrap().to_string(), "uefi-x64 by HTTP");
    message.options.set(code::CLIENT_ARCHITECTURE, [0, 7]);
    assert_eq!(message.firmware().unwrap().fetches, Fetches::Http, "the class says how");
    message.options.remove(code::CLIENT_ARCHITECTURE);
    assert_eq!(message.firmware().unwrap().architecture, Architecture::UefiX64, "the class has the code too");
    message.options.set(code::VENDOR_CLASS, *b"d-i");
    assert_eq!(message.firmware(), None);
}

#[test]
fn user_classes_are_read_in_both_forms() {
    let mut message = sample();
    assert!(message.user_classes().is_empty());
    message.options.set(code::USER_CLASS, *b"\x04quay\x05berth");
    assert_eq!(message.user_classes(), ["quay", "berth"]);
    message.options.set(code::USER_CLASS, *b"kiosk");
    assert_eq!(message.user_classes(), ["kiosk"]);
}

#[test]
fn the_machine_uuid_is_read_from_option_97() {
    let mut message = sample();
    let mut value = vec![0];
    value.extend(1..=16);
    message.options.set(code::CLIENT_MACHINE_IDENTIFIER, value);
    assert_eq!(message.machine_uuid().unwrap().to_string(), "01020304-0506-0708-090a-0b0c0d0e0f10");
    message.options.set(code::CLIENT_MACHINE_IDENTIFIER, [0; 17]);
    assert_eq!(message.machine_uuid(), None, "all zero is no identity");
}

#[test]
fn an_independent_codec_reads_our_bytes() {
    let mut reply = Message::reply_to(&sample(), Kind::Offer);
    reply.yiaddr = Ipv4Addr::new(192, 0, 2, 50);
    reply.siaddr = Ipv4Addr::new(192, 0, 2, 2);
    reply.file = b"loader/uefi-x64/shimx64.efi".to_vec();
    reply.options.set_addresses(code::DOMAIN_NAME_SERVER, &[Ipv4Addr::new(192, 0, 2, 53)]);
    reply.options.set(code::LEASE_TIME, 28_800_u32.to_be_bytes());
    let bytes = reply.emit();
    let read = v4::Message::decode(&mut v4::Decoder::new(&bytes)).unwrap();
    assert_eq!(read.opcode(), v4::Opcode::BootReply);
    assert_eq!(read.xid(), 0x1234_5678);
    assert_eq!(read.yiaddr(), Ipv4Addr::new(192, 0, 2, 50));
    assert_eq!(read.siaddr(), Ipv4Addr::new(192, 0, 2, 2));
    assert_eq!(read.chaddr(), [2, 0, 0x5e, 0, 0x53, 1]);
    assert!(read.fname().is_some_and(|name| name.starts_with(b"loader/uefi-x64/shimx64.efi")));
    assert_eq!(read.opts().msg_type(), Some(v4::MessageType::Offer));
    assert_eq!(
        read.opts().get(v4::OptionCode::DomainNameServer),
        Some(&v4::DhcpOption::DomainNameServer(vec![Ipv4Addr::new(192, 0, 2, 53)]))
    );
    assert_eq!(
        read.opts().get(v4::OptionCode::AddressLeaseTime),
        Some(&v4::DhcpOption::AddressLeaseTime(28_800))
    );
}

#[test]
fn we_read_an_independent_codecs_bytes() {
    let mut theirs = v4::Message::default();
    theirs.set_opcode(v4::Opcode::BootRequest).set_xid(77).set_chaddr(&[2, 0, 0x5e, 0, 0x53, 9]);
    theirs.opts_mut().insert(v4::DhcpOption::MessageType(v4::MessageType::Request));
    theirs.opts_mut().insert(v4::DhcpOption::RequestedIpAddress(Ipv4Addr::new(192, 0, 2, 60)));
    let ours = Message::parse(&theirs.to_vec().unwrap()).unwrap();
    assert_eq!(ours.kind, Kind::Request);
    assert_eq!(ours.xid, 77);
    assert_eq!(ours.mac().unwrap().to_string(), "02:00:5e:00:53:09");
    assert_eq!(ours.options.address(code::REQUESTED_ADDRESS), Some(Ipv4Addr::new(192, 0, 2, 60)));
}

#[test]
fn long_options_are_split_and_joined() {
    let mut message = sample();
    let long: Vec<u8> = (0..=255_u8).chain(0..=99).collect();
    message.options.set(224, long.clone());
    let bytes = message.emit();
    assert_eq!(bytes.windows(2).filter(|pair| *pair == [224, 255]).count(), 1);
    assert_eq!(Message::parse(&bytes).unwrap().options.get(224), Some(long.as_slice()));
}

#[test]
fn options_are_found_in_overloaded_fields() {
    let mut bytes = sample().emit();
    // `sname` at 44 and `file` at 108 hold options; option 52 says so.
    bytes[44..49].copy_from_slice(&[code::HOST_NAME, 2, b'q', b'1', code::END]);
    bytes[108..112].copy_from_slice(&[code::DOMAIN_NAME, 1, b'x', code::END]);
    let end = bytes.iter().rposition(|byte| *byte == code::END).unwrap();
    bytes.splice(end..end, [code::OVERLOAD, 1, 3]);
    let message = Message::parse(&bytes).unwrap();
    assert_eq!(message.options.text(code::HOST_NAME).as_deref(), Some("q1"));
    assert_eq!(message.options.text(code::DOMAIN_NAME).as_deref(), Some("x"));
    assert!(message.sname.is_empty() && message.file.is_empty());
}

#[test]
fn every_truncation_is_an_error_or_a_shorter_message() {
    let bytes = sample().emit();
    for length in 0..240 {
        assert_eq!(Message::parse(&bytes[..length]), Err(ParseError::Short { length }));
    }
    for length in 240..bytes.len() {
        let _ = Message::parse(&bytes[..length]);
    }
}

proptest! {
    #[test]
    fn any_bytes_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..700)) {
        let _ = Message::parse(&bytes);
    }

    #[test]
    fn any_option_area_is_survived_and_stable(area in proptest::collection::vec(any::<u8>(), 0..400)) {
        let mut bytes = sample().emit();
        bytes.truncate(243);
        bytes.extend(area);
        if let Ok(message) = Message::parse(&bytes) {
            let again = Message::parse(&message.emit()).unwrap();
            prop_assert_eq!(again.emit(), message.emit());
        }
    }
}
