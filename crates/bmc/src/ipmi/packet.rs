//! What is on the wire: RMCP around a session's header around a payload (sections 13.1 to 13.8).

use lastmile_formats::{ipmi::Request, reader::Reader};
use thiserror::Error;

/// RMCP of version 1.0, no acknowledgement wanted, of the class IPMI (section 13.1.3).
const RMCP: [u8; 4] = [0x06, 0x00, 0xff, 0x07];
/// A session's header as IPMI 1.5 has it, without a session; and as IPMI 2.0 has it (section 13.6).
const PLAIN: u8 = 0x00;
const RMCP_PLUS: u8 = 0x06;
/// Addresses within the message: the controller's, and that of software outside (table 5-4).
const CONTROLLER: u8 = 0x20;
const SOFTWARE: u8 = 0x81;
/// Bits of a payload's kind.
const ENCRYPTED: u8 = 0x80;
const AUTHENTICATED: u8 = 0x40;

/// Kinds of payloads (table 13-16).
pub mod kind {
    /// A message of IPMI.
    pub const MESSAGE: u8 = 0x00;
    /// A session is asked for.
    pub const OPEN: u8 = 0x10;
    /// And granted.
    pub const OPENED: u8 = 0x11;
    /// The four steps of the log-in (section 13.20).
    pub const LOG_IN_1: u8 = 0x12;
    /// The second, from the controller.
    pub const LOG_IN_2: u8 = 0x13;
    /// The third.
    pub const LOG_IN_3: u8 = 0x14;
    /// The fourth, from the controller.
    pub const LOG_IN_4: u8 = 0x15;
}

/// Why bytes are no packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum PacketError {
    /// They end early.
    #[error("it is cut short")]
    Short,
    /// They are of another protocol.
    #[error("it is no IPMI")]
    Foreign,
    /// A sum does not fit.
    #[error("its check sum does not fit")]
    Sum,
}

/// A packet that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packet<'a> {
    /// Of which [`kind`] its payload is.
    pub kind: u8,
    /// Whether the payload is encrypted.
    pub is_encrypted: bool,
    /// Whether a code follows.
    pub is_authenticated: bool,
    /// Of which session it is, by the receiver's number; 0 of none.
    pub session: u32,
    /// Its number within the session.
    pub sequence: u32,
    /// What it carries.
    pub payload: &'a [u8],
    /// What the code is over: from the session's header on.
    pub covered: &'a [u8],
    /// What follows the payload: filling, and the code.
    pub trailer: &'a [u8],
}

impl<'a> Packet<'a> {
    /// Reads a datagram.
    ///
    /// # Errors
    /// [`PacketError`].
    pub fn parse(datagram: &'a [u8]) -> Result<Self, PacketError> {
        let (rmcp, inner) = datagram.split_at_checked(RMCP.len()).ok_or(PacketError::Short)?;
        // The third byte is RMCP's own number, which IPMI does not use.
        if (rmcp[0], rmcp[3]) != (RMCP[0], RMCP[3]) {
            return Err(PacketError::Foreign);
        }
        let mut reader = Reader::new(inner);
        let [format] = reader.array().ok_or(PacketError::Short)?;
        let (kind, session, sequence, length) = match format {
            PLAIN => {
                let [sequence, session] = [reader.array(), reader.array()];
                let [length] = reader.array().ok_or(PacketError::Short)?;
                (kind::MESSAGE, session, sequence, usize::from(length))
            }
            RMCP_PLUS => {
                let [kind] = reader.array().ok_or(PacketError::Short)?;
                let [session, sequence] = [reader.array(), reader.array()];
                let length = reader.array().map(u16::from_le_bytes).ok_or(PacketError::Short)?;
                (kind, session, sequence, usize::from(length))
            }
            _ => return Err(PacketError::Foreign),
        };
        let number = |bytes: Option<[u8; 4]>| bytes.map(u32::from_le_bytes).ok_or(PacketError::Short);
        let payload = reader.take(length).ok_or(PacketError::Short)?;
        let trailer = reader.rest();
        Ok(Self {
            kind: kind & 0x3f,
            is_encrypted: kind & ENCRYPTED != 0,
            is_authenticated: kind & AUTHENTICATED != 0,
            session: number(session)?,
            sequence: number(sequence)?,
            payload,
            covered: inner,
            trailer,
        })
    }
}

/// A datagram outside of any session.
#[must_use]
pub fn outside(kind: u8, payload: &[u8]) -> Vec<u8> {
    [&RMCP[..], &header(kind, 0, 0, payload.len()), payload].concat()
}

/// A datagram with a message as IPMI 1.5 has it, outside of any session: how a controller is asked what it can.
#[must_use]
pub fn outside_as_before(message: &[u8]) -> Vec<u8> {
    [&RMCP[..], &[PLAIN, 0, 0, 0, 0, 0, 0, 0, 0, message.len() as u8], message].concat()
}

/// A datagram of a session, whose payload is encrypted already; `code` makes the code over what it is given.
#[must_use]
pub fn within(session: u32, sequence: u32, payload: &[u8], code: impl Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
    let mut covered = header(kind::MESSAGE | ENCRYPTED | AUTHENTICATED, session, sequence, payload.len());
    covered.extend_from_slice(payload);
    // So that what the code is over is a multiple of four bytes, with the two that follow (section 13.28.4).
    let fill = (4 - (covered.len() + 2) % 4) % 4;
    covered.extend(std::iter::repeat_n(0xff, fill));
    covered.extend([fill as u8, RMCP[3]]);
    let code = code(&covered);
    [&RMCP[..], &covered, &code].concat()
}

fn header(kind: u8, session: u32, sequence: u32, length: usize) -> Vec<u8> {
    let length = (length as u16).to_le_bytes();
    [&[RMCP_PLUS, kind][..], &session.to_le_bytes(), &sequence.to_le_bytes(), &length].concat()
}

/// A message to the controller (section 13.8). `number` tells its answer from others; six bits of it count.
#[must_use]
pub fn message(request: &Request, number: u8) -> Vec<u8> {
    let to = [CONTROLLER, request.net_function << 2];
    let from = [&[SOFTWARE, number << 2, request.command][..], &request.data].concat();
    let sums = [sum(&to), sum(&from)];
    [&to[..], &sums[..1], &from, &sums[1..]].concat()
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The number of the question.
    pub number: u8,
    /// Which command is answered: its family, and itself.
    pub command: (u8, u8),
    /// The completion code, and what follows it.
    pub body: Vec<u8>,
}

impl Answer {
    /// Reads the message of an answer.
    ///
    /// # Errors
    /// [`PacketError`].
    pub fn parse(message: &[u8]) -> Result<Self, PacketError> {
        let (to, from) = message.split_at_checked(3).ok_or(PacketError::Short)?;
        let ([_, number, command, body @ .., _], true) = (from, from.len() >= 5) else {
            return Err(PacketError::Short);
        };
        if sum(to) != 0 || sum(from) != 0 {
            return Err(PacketError::Sum);
        }
        // The family of an answer is that of its question and one.
        Ok(Self { number: number >> 2, command: ((to[1] >> 2) & !1, *command), body: body.to_vec() })
    }

    /// Whether it answers a question.
    #[must_use]
    pub fn is_to(&self, request: &Request, number: u8) -> bool {
        self.number == number & 0x3f && self.command == (request.net_function, request.command)
    }
}

/// The sum by which bytes with it come to nothing (section 13.8).
fn sum(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte)).wrapping_neg()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_written_as_the_standard_has_it() {
        // Get Channel Authentication Capabilities, as it stands in many a trace.
        let asks = message(&Request { net_function: 6, command: 0x38, data: vec![0x8e, 4] }, 0);
        assert_eq!(asks, [0x20, 0x18, 0xc8, 0x81, 0x00, 0x38, 0x8e, 0x04, 0xb5]);
        let datagram = outside_as_before(&asks);
        assert_eq!(datagram[..14], [6, 0, 0xff, 7, 0, 0, 0, 0, 0, 0, 0, 0, 0, 9]);
        assert_eq!(Packet::parse(&datagram).unwrap().payload, asks);
    }

    #[test]
    fn answers_are_read_and_others_refused() {
        let mut answer = vec![0x81, 0x1c, 0x63, 0x20, 0x14, 0x38, 0x00, 0x01];
        answer.push(sum(&answer[3..]));
        let read = Answer::parse(&answer).unwrap();
        assert_eq!((read.number, read.command, &read.body[..]), (5, (6, 0x38), &[0, 1][..]));
        assert!(read.is_to(&Request { net_function: 6, command: 0x38, data: vec![] }, 5));
        assert!(!read.is_to(&Request { net_function: 6, command: 0x38, data: vec![] }, 6));
        answer[6] = 9;
        assert_eq!(Answer::parse(&answer), Err(PacketError::Sum));
        assert_eq!(Answer::parse(&answer[..7]), Err(PacketError::Short));
        for (bytes, why) in
            [(&b"\x06\x00"[..], PacketError::Short), (&[6, 0, 0xff, 6, 0], PacketError::Foreign)]
        {
            assert_eq!(Packet::parse(bytes), Err(why));
        }
    }

    #[test]
    fn what_a_code_is_over_is_a_multiple_of_four() {
        for length in 0..9 {
            let datagram = within(7, 1, &vec![5; length], |covered| {
                assert_eq!(covered.len() % 4, 0);
                vec![9; 12]
            });
            let read = Packet::parse(&datagram).unwrap();
            assert_eq!((read.session, read.sequence, read.payload.len()), (7, 1, length));
            assert!(read.is_encrypted && read.is_authenticated && read.trailer.ends_with(&[9; 12]));
        }
    }
}
