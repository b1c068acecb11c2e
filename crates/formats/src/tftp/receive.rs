//! The receiving end of one transfer: what a machine's firmware or loader does.
//!
//! Contract: send [`Receiver::request`], then call [`Receiver::handle`] with every datagram and put on the wire
//! what it gives; at [`Receiver::deadline`] call [`Receiver::on_deadline`] and send what it gives.

use std::{
    borrow::Cow,
    time::{Duration, Instant},
};

use super::{ErrorCode, Packet, Terms, Wishes, packet::wire_number};

/// Silence before the last word is repeated.
const PATIENCE: Duration = Duration::from_secs(2);
/// How many times silence may be that long: together as long as UEFI's reference firmware waits, which is 3 s six times over.
const MAX_TRIES: u32 = 9;

/// How a transfer stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReceiverState {
    /// Waiting for blocks.
    Running,
    /// Every block has come.
    Done,
    /// The server ended it.
    Refused {
        /// The code it gave.
        code: ErrorCode,
        /// The text it gave.
        message: String,
    },
    /// The server fell silent.
    Lost,
    /// The server granted options that were not asked for.
    BadOptions,
}

/// The receiving end.
#[derive(Debug)]
pub struct Receiver {
    wishes: Wishes,
    terms: Terms,
    last_word: Vec<u8>,
    received: u64,
    /// Blocks since the last acknowledgement.
    in_window: u16,
    deadline: Instant,
    tries: u32,
    state: ReceiverState,
}

impl Receiver {
    /// Begins to ask for `name`.
    #[must_use]
    pub fn new(name: &str, wishes: Wishes, now: Instant) -> Self {
        let request = Packet::Read {
            name: Cow::Borrowed(name),
            mode: Cow::Borrowed("octet"),
            options: wishes.options(),
        };
        Self {
            wishes,
            terms: Terms::default(),
            last_word: request.emit(),
            received: 0,
            in_window: 0,
            deadline: now + PATIENCE,
            tries: 0,
            state: ReceiverState::Running,
        }
    }

    /// The read request, for the server's well-known port.
    #[must_use]
    pub fn request(&self) -> &[u8] {
        &self.last_word
    }

    /// How it stands.
    #[must_use]
    pub const fn state(&self) -> &ReceiverState {
        &self.state
    }

    /// What was agreed on.
    #[must_use]
    pub const fn terms(&self) -> &Terms {
        &self.terms
    }

    /// When to call [`Self::on_deadline`].
    #[must_use]
    pub const fn deadline(&self) -> Instant {
        self.deadline
    }

    /// Takes a packet; gives what to send, and appends new content to `file`.
    pub fn handle(&mut self, packet: &Packet<'_>, file: &mut Vec<u8>, now: Instant) -> Option<&[u8]> {
        if self.state != ReceiverState::Running {
            return None;
        }
        match packet {
            Packet::OptionAck { options } if self.received == 0 => {
                let Some(terms) = Terms::accept(&self.wishes, options) else {
                    self.state = ReceiverState::BadOptions;
                    return Some(self.say(&refusal("options that were not asked for"), now));
                };
                self.terms = terms;
                Some(self.say(&Packet::Ack { block: 0 }, now))
            }
            Packet::Data { block, data } => self.take_block(*block, data, file, now),
            Packet::Error { code, message } => {
                self.state = ReceiverState::Refused { code: *code, message: message.clone().into_owned() };
                None
            }
            _ => None,
        }
    }

    /// Ends the transfer early, as firmware does that only wanted the size.
    pub fn abort(&mut self, now: Instant) -> &[u8] {
        self.state = ReceiverState::Done;
        self.say(&refusal("only the size was wanted"), now)
    }

    /// The deadline has come; gives what to send again.
    pub fn on_deadline(&mut self, now: Instant) -> Option<&[u8]> {
        if self.state != ReceiverState::Running || now < self.deadline {
            return None;
        }
        self.tries += 1;
        if self.tries >= MAX_TRIES {
            self.state = ReceiverState::Lost;
            return None;
        }
        self.deadline = now + PATIENCE;
        Some(&self.last_word)
    }

    fn take_block(&mut self, block: u16, data: &[u8], file: &mut Vec<u8>, now: Instant) -> Option<&[u8]> {
        let ahead = block.wrapping_sub(wire_number(self.received));
        if ahead != 1 {
            // A gap is told at once (RFC 7440, section 4); what came twice is passed over.
            let gap = ahead > 1 && ahead <= self.terms.windowsize;
            return (gap && self.in_window > 0).then(|| self.acknowledge(now));
        }
        self.received += 1;
        self.in_window += 1;
        self.tries = 0;
        self.deadline = now + PATIENCE;
        file.extend_from_slice(data);
        if data.len() < usize::from(self.terms.blksize) {
            self.state = ReceiverState::Done;
            return Some(self.acknowledge(now));
        }
        (self.in_window >= self.terms.windowsize).then(|| self.acknowledge(now))
    }

    fn acknowledge(&mut self, now: Instant) -> &[u8] {
        self.in_window = 0;
        let block = wire_number(self.received);
        self.say(&Packet::Ack { block }, now)
    }

    fn say(&mut self, packet: &Packet<'_>, now: Instant) -> &[u8] {
        self.last_word = packet.emit();
        self.deadline = now + PATIENCE;
        &self.last_word
    }
}

fn refusal(why: &str) -> Packet<'_> {
    Packet::Error { code: ErrorCode::OptionsRefused, message: Cow::Borrowed(why) }
}
