//! Puts a transfer's packets on the wire: one at a time in lock-step, a whole window at once where one was agreed on.

use std::{io, net::UdpSocket};

use lastmile_formats::tftp::{Packet, Sender, Terms, Transmit};

use super::{
    kept::Kept,
    transfer::{cut_into_segments, transfers},
};
use crate::library::BlockingReader;

/// Bytes of files that all transfers together keep in memory, about: a few have much each, so that reading does not
/// count, and thousands have their share.
const BUDGET: usize = 4 * 1024 * 1024;
/// Bytes that one transfer reads at once, at least and at most.
const LEAST_AHEAD: usize = 2 * 1024;
const MOST_AHEAD: usize = 64 * 1024;
/// Largest payload of a datagram over IPv4, which bounds what is sent at once (udp(7), UDP_SEGMENT).
const LARGEST_SEND: usize = 65_507;
/// Most datagrams of one hand-over (the kernel's UDP_MAX_SEGMENTS in its older form).
const MOST_SEGMENTS: usize = 64;
/// Bytes of a data packet before its block (RFC 1350, section 5).
const HEADER: usize = 4;

/// Packets on their way out.
pub(super) struct Outbox {
    /// Packets that go in one hand-over; 1 in lock-step, and where the kernel cannot cut them apart.
    batch: usize,
    out: Vec<u8>,
    ahead: Vec<u8>,
    ahead_at: u64,
    size: u64,
}

impl Outbox {
    pub(super) fn new(socket: &UdpSocket, terms: Terms, size: u64) -> Self {
        let packet = usize::from(terms.blksize) + HEADER;
        let window = usize::from(terms.windowsize).min(LARGEST_SEND / packet).min(MOST_SEGMENTS);
        let batch = if window > 1 && cut_into_segments(socket, packet) { window } else { 1 };
        Self { batch, out: Vec::with_capacity(packet * batch), ahead: Vec::new(), ahead_at: 0, size }
    }

    /// Sends all that the sender has to send now. `false` if the client's port is closed.
    pub(super) fn send_all(
        &mut self,
        sender: &mut Sender,
        reader: &BlockingReader,
        socket: &UdpSocket,
        kept: &mut Kept,
    ) -> io::Result<bool> {
        loop {
            self.out.clear();
            let mut packets = 0;
            while packets < self.batch {
                match sender.poll() {
                    None => break,
                    Some(Transmit::OptionAck(options)) => {
                        self.out.extend(Packet::OptionAck { options }.emit());
                        kept.said(&self.out, self.out.len());
                        packets = self.batch;
                    }
                    Some(Transmit::Data { block, offset, length }) => {
                        let start = self.out.len();
                        self.out.extend(Packet::data_header(block));
                        self.append(reader, offset, length)?;
                        kept.said(&self.out[start..], length + HEADER);
                        packets += 1;
                    }
                }
            }
            if packets == 0 {
                return Ok(true);
            }
            match socket.send(&self.out) {
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => return Ok(false),
                Err(error) => return Err(error),
            }
        }
    }

    /// Appends bytes `offset..offset + length` of the file.
    fn append(&mut self, reader: &BlockingReader, offset: u64, length: usize) -> io::Result<()> {
        let end = offset + length as u64;
        if offset < self.ahead_at || end > self.ahead_at + self.ahead.len() as u64 {
            let left = usize::try_from(self.size - offset).unwrap_or(usize::MAX);
            let share = (BUDGET / transfers().max(1)).clamp(LEAST_AHEAD, MOST_AHEAD);
            self.ahead.resize(share.max(length).min(left), 0);
            self.ahead_at = offset;
            if let Err(error) = reader.read_exact_at(&mut self.ahead, offset) {
                // Nothing of it may be taken for the file later.
                self.ahead.clear();
                return Err(error);
            }
        }
        let start = usize::try_from(offset - self.ahead_at).unwrap_or(usize::MAX);
        self.out.extend_from_slice(&self.ahead[start..start + length]);
        Ok(())
    }
}
