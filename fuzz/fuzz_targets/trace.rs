//! Any packets in a trace: put into words, explained, compared, exported.
#![no_main]

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    sync::Arc,
};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::report::trace::{
    Datagram, DhcpExchange, Seen, TraceEvent, boots, compare, diagnose, pcapng,
};
use lastmile_formats::mac::Mac;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let end = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 2), 67);
    let datagram = |payload: &[u8], at| Datagram {
        at,
        from: end,
        to: end,
        payload: payload.into(),
        length: payload.len(),
    };
    let mut at = Timestamp::UNIX_EPOCH;
    let events: Vec<Arc<TraceEvent>> = bytes
        .chunks(600)
        .enumerate()
        .map(|(number, pair)| {
            let (request, reply) = pair.split_at(pair.len() / 2);
            at += SignedDuration::from_secs(i64::from(pair[0]));
            let exchange = DhcpExchange {
                request: datagram(request, at),
                reply: (!reply.is_empty()).then(|| datagram(reply, at)),
                subnet: None,
                decision: None,
                remark: None,
                silence: None,
                lacks_loader: None,
            };
            Arc::new(TraceEvent { number: number as u64 + 1, at, seen: Seen::Dhcp(Box::new(exchange)) })
        })
        .collect();
    for event in &events {
        let _ = (event.asked(), event.got(), event.mark(), event.why());
    }
    assert_eq!(boots(&events).iter().map(|boot| boot.len()).sum::<usize>(), events.len());
    let _ = diagnose(&events, at);
    assert_eq!(compare(&events, &events).first_difference, None);
    let mac = Mac::new([2, 0, 0, 0, 0, 1]).expect("a NIC's address");
    assert_eq!(pcapng(mac, mac, &events).len() % 4, 0);
});
