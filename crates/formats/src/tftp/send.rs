//! The sending end of one transfer (RFC 1350, section 2; RFC 7440, section 4).
//!
//! Contract: after every [`Sender::handle`] and [`Sender::on_deadline`], call [`Sender::poll`] until it
//! gives `None` and put on the wire what it gives, then wait for a datagram or [`Sender::deadline`].

use std::{collections::VecDeque, time::Instant};

use super::{
    ErrorCode, Packet, Terms,
    packet::{RawOptions, wire_number},
};

/// How often the same window is sent before the client is taken for gone.
const MAX_TRIES: u32 = 6;

/// How often the first block is sent to an address that has not answered yet: whoever forged the request must not have much
/// sent to somebody else. An acknowledgement of options is no larger than the request.
const MAX_UNHEARD: u32 = 3;

/// What to put on the wire next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Transmit {
    /// The option acknowledgement.
    OptionAck(RawOptions<'static>),
    /// Bytes `offset..offset + length` of the file as block `block`.
    Data {
        /// Block number, modulo 65,536.
        block: u16,
        /// Where in the file.
        offset: u64,
        /// How much, at most the block size.
        length: usize,
    },
}

/// How a transfer stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SenderState {
    /// Blocks are on the way.
    Running,
    /// The last block was acknowledged.
    Done,
    /// The client read the size from the acknowledged options and ended the transfer: no fault.
    Probed,
    /// The client ended it.
    Refused {
        /// The code it gave.
        code: ErrorCode,
        /// The text it gave.
        message: String,
    },
    /// The client fell silent.
    Lost,
}

/// The sending end. Block numbers are counted in full inside and cut to 16 bits on the wire, so files of any
/// size pass.
#[derive(Debug)]
pub struct Sender {
    terms: Terms,
    size: u64,
    /// Options still to be acknowledged by block 0.
    unacknowledged_options: Option<RawOptions<'static>>,
    /// Blocks acknowledged: the window begins after this one.
    acknowledged: u64,
    /// Last block put on the wire.
    sent: u64,
    /// Highest block ever put on the wire; what is sent below it is sent again.
    highest: u64,
    queue: VecDeque<Transmit>,
    deadline: Instant,
    tries: u32,
    /// Whether the client has answered anything.
    is_heard: bool,
    /// The window was already sent again because of an acknowledgement that brought nothing new.
    repaired: bool,
    retransmitted: u64,
    state: SenderState,
}

impl Sender {
    /// Begins a transfer of `size` bytes.
    #[must_use]
    pub fn new(terms: Terms, agreed: RawOptions<'static>, size: u64, now: Instant) -> Self {
        let mut sender = Self {
            terms,
            size,
            unacknowledged_options: None,
            acknowledged: 0,
            sent: 0,
            highest: 0,
            queue: VecDeque::new(),
            deadline: now + terms.timeout,
            tries: 0,
            is_heard: false,
            repaired: false,
            retransmitted: 0,
            state: SenderState::Running,
        };
        if agreed.is_empty() {
            sender.fill_window();
        } else {
            sender.queue.push_back(Transmit::OptionAck(agreed.clone()));
            sender.unacknowledged_options = Some(agreed);
        }
        sender
    }

    /// How it stands.
    #[must_use]
    pub const fn state(&self) -> &SenderState {
        &self.state
    }

    /// When to call [`Self::on_deadline`], unless a datagram comes first.
    #[must_use]
    pub const fn deadline(&self) -> Instant {
        self.deadline
    }

    /// Blocks that were sent more than once.
    #[must_use]
    pub const fn retransmitted(&self) -> u64 {
        self.retransmitted
    }

    /// Bytes acknowledged so far.
    #[must_use]
    pub fn delivered(&self) -> u64 {
        self.size.min(self.acknowledged * u64::from(self.terms.blksize))
    }

    /// What to put on the wire next.
    pub fn poll(&mut self) -> Option<Transmit> {
        if self.state == SenderState::Running { self.queue.pop_front() } else { None }
    }

    /// Takes a packet from the client. Packets that do not belong to a transfer are passed over.
    pub fn handle(&mut self, packet: &Packet<'_>, now: Instant) {
        if self.state != SenderState::Running {
            return;
        }
        self.is_heard = true;
        match packet {
            Packet::Ack { block } => self.acknowledge(*block, now),
            Packet::Error { code, message } => {
                let probing = self.unacknowledged_options.is_some() || self.acknowledged == 0;
                self.state = if probing && self.terms.tsize.is_some() {
                    SenderState::Probed
                } else {
                    SenderState::Refused { code: *code, message: message.clone().into_owned() }
                };
            }
            _ => {}
        }
    }

    /// The deadline has come: the window is sent again, each time after twice the wait.
    pub fn on_deadline(&mut self, now: Instant) {
        if self.state != SenderState::Running || now < self.deadline {
            return;
        }
        self.tries += 1;
        let is_data_unheard = !self.is_heard && self.unacknowledged_options.is_none();
        if self.tries >= if is_data_unheard { MAX_UNHEARD } else { MAX_TRIES } {
            self.state = SenderState::Lost;
            return;
        }
        self.deadline = now + self.terms.timeout * 2_u32.pow(self.tries.min(4));
        self.resend();
    }

    fn last_block(&self) -> u64 {
        // A file that fills its last block is ended by an empty one (RFC 1350, section 6).
        self.size / u64::from(self.terms.blksize) + 1
    }

    fn acknowledge(&mut self, block: u16, now: Instant) {
        if self.unacknowledged_options.is_some() {
            if block == 0 {
                self.unacknowledged_options = None;
                self.progress(now);
                self.fill_window();
            }
            return;
        }
        // The 16 bits on the wire mean the one block in the window that they fit.
        let ahead = u64::from(block.wrapping_sub(wire_number(self.acknowledged)));
        if ahead == 0 {
            // Nothing new. In a window it says that its first block was lost (RFC 7440, section 4), and it is
            // sent again, once: answering every such packet would double the traffic for ever.
            if self.terms.windowsize > 1 && !self.repaired {
                self.repaired = true;
                self.resend();
            }
            return;
        }
        if self.acknowledged + ahead > self.highest {
            return;
        }
        self.acknowledged += ahead;
        if self.acknowledged == self.last_block() {
            self.state = SenderState::Done;
            return;
        }
        self.progress(now);
        // Acknowledged in mid-window: what followed was lost, or is still on its way from a window sent twice.
        self.queue.clear();
        self.sent = self.acknowledged;
        self.fill_window();
    }

    fn progress(&mut self, now: Instant) {
        self.tries = 0;
        self.repaired = false;
        self.deadline = now + self.terms.timeout;
    }

    fn resend(&mut self) {
        self.queue.clear();
        if let Some(options) = &self.unacknowledged_options {
            self.queue.push_back(Transmit::OptionAck(options.clone()));
            return;
        }
        self.sent = self.acknowledged;
        self.fill_window();
    }

    fn fill_window(&mut self) {
        let end = self.last_block().min(self.acknowledged + u64::from(self.terms.windowsize));
        let blksize = u64::from(self.terms.blksize);
        while self.sent < end {
            self.sent += 1;
            if self.sent <= self.highest {
                self.retransmitted += 1;
            }
            self.highest = self.highest.max(self.sent);
            let offset = (self.sent - 1) * blksize;
            let length = usize::try_from(blksize.min(self.size - offset)).unwrap_or(usize::MAX);
            self.queue.push_back(Transmit::Data { block: wire_number(self.sent), offset, length });
        }
    }
}

#[cfg(test)]
#[path = "transfer_tests.rs"]
mod tests;
