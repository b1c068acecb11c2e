//! Both ends joined by a simulated wire and clock.

use std::time::Duration;

use proptest::prelude::*;

use super::*;
use crate::tftp::{Limits, Receiver, ReceiverState, Wishes};

/// A wire that loses and doubles datagrams by a fixed sequence.
struct Wire {
    fates: Vec<u8>,
    next: usize,
}

impl Wire {
    fn new(fates: Vec<u8>) -> Self {
        Self { fates, next: 0 }
    }

    /// How many copies of the next datagram arrive.
    fn copies(&mut self) -> usize {
        if self.fates.is_empty() {
            return 1;
        }
        let fate = self.fates[self.next % self.fates.len()];
        self.next += 1;
        match fate {
            0 => 0,
            1 => 2,
            _ => 1,
        }
    }
}

struct Outcome {
    file: Vec<u8>,
    sender: Sender,
    receiver: ReceiverState,
}

fn run(file: &[u8], wishes: Wishes, mut wire: Wire) -> Outcome {
    let mut now = Instant::now();
    let mut receiver = Receiver::new("grub.cfg", wishes, now);
    let Ok(Packet::Read { options, .. }) = Packet::parse(receiver.request()) else { panic!("no request") };
    let size = file.len() as u64;
    let (terms, agreed) = Terms::negotiate(&options, size, Limits::for_mtu(1500));
    let mut sender = Sender::new(terms, agreed, size, now);
    let mut got = Vec::new();
    for _ in 0..200_000 {
        let mut to_sender: Vec<Vec<u8>> = Vec::new();
        while let Some(transmit) = sender.poll() {
            let bytes = match transmit {
                Transmit::OptionAck(options) => Packet::OptionAck { options }.emit(),
                Transmit::Data { block, offset, length } => {
                    let start = usize::try_from(offset).unwrap();
                    Packet::Data { block, data: &file[start..start + length] }.emit()
                }
            };
            for _ in 0..wire.copies() {
                if let Some(reply) = receiver.handle(&Packet::parse(&bytes).unwrap(), &mut got, now) {
                    let reply = reply.to_vec();
                    to_sender.extend((0..wire.copies()).map(|_| reply.clone()));
                }
            }
        }
        for bytes in &to_sender {
            sender.handle(&Packet::parse(bytes).unwrap(), now);
        }
        let ended = *sender.state() != SenderState::Running || *receiver.state() != ReceiverState::Running;
        if ended && to_sender.is_empty() {
            break;
        }
        if to_sender.is_empty() {
            // Nothing moves: time does.
            now = sender.deadline().min(receiver.deadline()).max(now + Duration::from_millis(1));
            if let Some(word) = receiver.on_deadline(now) {
                let word = word.to_vec();
                if wire.copies() > 0 {
                    sender.handle(&Packet::parse(&word).unwrap(), now);
                }
            }
            sender.on_deadline(now);
        }
    }
    Outcome { file: got, receiver: receiver.state().clone(), sender }
}

fn sample(length: usize) -> Vec<u8> {
    (0..length).map(|i| u8::try_from(i * 31 % 251).unwrap()).collect()
}

#[test]
fn sizes_about_a_block_arrive_whole() {
    for length in [0, 1, 511, 512, 513, 1024, 5000] {
        let file = sample(length);
        let outcome = run(&file, Wishes::default(), Wire::new(vec![]));
        assert_eq!(outcome.file, file, "{length} bytes");
        assert_eq!(*outcome.sender.state(), SenderState::Done);
        assert_eq!(outcome.receiver, ReceiverState::Done);
        assert_eq!(outcome.sender.retransmitted(), 0);
    }
}

#[test]
fn block_numbers_pass_65535() {
    let wishes = Wishes { blksize: Some(8), windowsize: Some(64), tsize: true };
    let file = sample(8 * 70_000 + 3);
    let outcome = run(&file, wishes, Wire::new(vec![]));
    assert!(outcome.file == file && *outcome.sender.state() == SenderState::Done);
}

#[test]
fn a_size_probe_that_is_broken_off_is_no_failure() {
    let now = Instant::now();
    let options = vec![("tsize".into(), "0".into())];
    let (terms, agreed) = Terms::negotiate(&options, 900, Limits::for_mtu(1500));
    let mut sender = Sender::new(terms, agreed, 900, now);
    assert!(matches!(sender.poll(), Some(Transmit::OptionAck(_))));
    let abort = Packet::Error { code: ErrorCode::OptionsRefused, message: "".into() };
    sender.handle(&abort, now);
    assert_eq!(*sender.state(), SenderState::Probed);
}

#[test]
fn a_silent_client_is_given_up() {
    let mut now = Instant::now();
    let mut sent_before_lost = |options: RawOptions<'static>, first: Option<Packet<'_>>| {
        let mut sender = Sender::new(Terms::default(), options, 900, now);
        let mut sent = 0;
        if let Some(packet) = first {
            while sender.poll().is_some() {}
            sender.handle(&packet, now);
        }
        while *sender.state() == SenderState::Running {
            while sender.poll().is_some() {
                sent += 1;
            }
            now = sender.deadline();
            sender.on_deadline(now);
        }
        assert_eq!(*sender.state(), SenderState::Lost);
        sent
    };
    let options: RawOptions<'static> = vec![("tsize".into(), "900".into())];
    assert_eq!(sent_before_lost(options.clone(), None), 6, "options are small");
    assert_eq!(sent_before_lost(options, Some(Packet::Ack { block: 0 })), 6);
    assert_eq!(sent_before_lost(vec![], Some(Packet::Ack { block: 1 })), 6);
    assert_eq!(
        sent_before_lost(vec![], None),
        3,
        "a block goes to whoever the request may have been forged for"
    );
}

#[test]
fn acknowledgements_of_what_was_never_sent_move_nothing() {
    let now = Instant::now();
    let mut sender = Sender::new(Terms::default(), vec![], 5000, now);
    for block in [2, 9, 65_535] {
        sender.handle(&Packet::Ack { block }, now);
    }
    assert_eq!(sender.delivered(), 0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whatever is lost or doubled, what arrives is whole, or the transfer says that it failed.
    #[test]
    fn a_bad_wire_never_spoils_a_file(
        length in 0_usize..20_000,
        windowsize in 1_u16..20,
        fates in proptest::collection::vec(0_u8..12, 7..60),
    ) {
        let file = sample(length);
        let wishes = Wishes { blksize: Some(512), windowsize: Some(windowsize), tsize: true };
        let outcome = run(&file, wishes, Wire::new(fates));
        match outcome.receiver {
            ReceiverState::Done => prop_assert_eq!(outcome.file, file),
            other => prop_assert!(other == ReceiverState::Lost || *outcome.sender.state() == SenderState::Lost),
        }
    }
}
