//! Any datagram to the TFTP port, and any sequence of them to a transfer.
#![no_main]

use std::time::{Duration, Instant};

use lastmile_formats::tftp::{Limits, Packet, Receiver, Sender, ServedPath, Terms, Wishes};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let now = Instant::now();
    let mut sender = Sender::new(Terms::default(), Vec::new(), 5000, now);
    let mut receiver =
        Receiver::new("x", Wishes { blksize: Some(1024), windowsize: Some(4), tsize: true }, now);
    let mut file = Vec::new();
    for (step, datagram) in bytes.chunks(24).enumerate() {
        let at = now + Duration::from_millis(100 * step as u64);
        let Ok(packet) = Packet::parse(datagram) else { continue };
        if let Packet::Read { name, options, .. } = &packet {
            if let Ok(path) = ServedPath::parse(name) {
                assert!(path.parts().all(|part| !part.is_empty() && part != ".."));
            }
            let (terms, _) = Terms::negotiate(options, 5000, Limits::for_mtu(1500));
            assert!(terms.blksize >= 8 && terms.windowsize >= 1);
        }
        sender.handle(&packet, at);
        while sender.poll().is_some() {}
        sender.on_deadline(at);
        receiver.handle(&packet, &mut file, at);
        let _ = receiver.on_deadline(at);
    }
    assert!(file.len() <= bytes.len());
});
