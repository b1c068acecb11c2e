//! TFTP packets (RFC 1350, section 5; RFC 2347).

use std::borrow::Cow;

use thiserror::Error;

use crate::reader::Reader;

const RRQ: u16 = 1;
const WRQ: u16 = 2;
const DATA: u16 = 3;
const ACK: u16 = 4;
const ERROR: u16 = 5;
const OACK: u16 = 6;

/// Options as they stand in a packet: name and value, in order.
pub type RawOptions<'a> = Vec<(Cow<'a, str>, Cow<'a, str>)>;

/// An error code (RFC 1350, appendix; RFC 2347 for 8).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorCode {
    /// See the message.
    Undefined,
    /// File not found.
    NotFound,
    /// Access violation.
    Access,
    /// Disk full.
    DiskFull,
    /// Illegal operation.
    Illegal,
    /// Unknown transfer id.
    UnknownTransfer,
    /// File exists already.
    Exists,
    /// No such user.
    NoUser,
    /// The options are refused; firmware also uses it to end a size probe.
    OptionsRefused,
    /// Any other, kept as it came.
    Other(u16),
}

impl ErrorCode {
    const fn from_u16(code: u16) -> Self {
        match code {
            0 => Self::Undefined,
            1 => Self::NotFound,
            2 => Self::Access,
            3 => Self::DiskFull,
            4 => Self::Illegal,
            5 => Self::UnknownTransfer,
            6 => Self::Exists,
            7 => Self::NoUser,
            8 => Self::OptionsRefused,
            other => Self::Other(other),
        }
    }

    const fn to_u16(self) -> u16 {
        match self {
            Self::Undefined => 0,
            Self::NotFound => 1,
            Self::Access => 2,
            Self::DiskFull => 3,
            Self::Illegal => 4,
            Self::UnknownTransfer => 5,
            Self::Exists => 6,
            Self::NoUser => 7,
            Self::OptionsRefused => 8,
            Self::Other(other) => other,
        }
    }
}

/// Why a datagram is no TFTP packet.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ParseError {
    /// Ends before the packet does.
    #[error("cut off after {length} bytes")]
    Short {
        /// Bytes received.
        length: usize,
    },
    /// No such operation.
    #[error("opcode {0} is none of TFTP's")]
    Opcode(u16),
    /// A text that is not UTF-8 (RFC 1350 wants netascii, which is within it).
    #[error("a text that is not UTF-8")]
    Text,
}

/// One packet. Payloads are borrowed from the datagram.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Packet<'a> {
    /// A client asks for a file.
    Read {
        /// The file's name as it came.
        name: Cow<'a, str>,
        /// `octet` or `netascii`, in any case.
        mode: Cow<'a, str>,
        /// Options asked for.
        options: RawOptions<'a>,
    },
    /// A client wants to write a file.
    Write {
        /// The file's name as it came.
        name: Cow<'a, str>,
    },
    /// One block.
    Data {
        /// Block number, modulo 65,536.
        block: u16,
        /// Its content.
        data: &'a [u8],
    },
    /// A block, and all before it, have arrived.
    Ack {
        /// Block number, modulo 65,536.
        block: u16,
    },
    /// The end of a transfer that did not work, or was not wanted.
    Error {
        /// What kind.
        code: ErrorCode,
        /// Text for a person.
        message: Cow<'a, str>,
    },
    /// The options that are agreed to.
    OptionAck {
        /// Name and value.
        options: RawOptions<'a>,
    },
}

impl<'a> Packet<'a> {
    /// Reads one datagram.
    ///
    /// # Errors
    /// What makes it no TFTP packet.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, ParseError> {
        let short = || ParseError::Short { length: bytes.len() };
        let mut reader = Reader::new(bytes);
        match reader.u16().ok_or_else(short)? {
            RRQ => Ok(Self::Read {
                name: text(&mut reader).ok_or_else(short)??,
                mode: text(&mut reader).ok_or_else(short)??,
                options: options(&mut reader)?,
            }),
            WRQ => Ok(Self::Write { name: text(&mut reader).ok_or_else(short)?? }),
            DATA => Ok(Self::Data { block: reader.u16().ok_or_else(short)?, data: reader.rest() }),
            ACK => Ok(Self::Ack { block: reader.u16().ok_or_else(short)? }),
            ERROR => {
                let code = ErrorCode::from_u16(reader.u16().ok_or_else(short)?);
                // Some firmware leaves the closing NUL out; the text is for people only.
                let rest = reader.rest();
                let message = rest.split(|byte| *byte == 0).next().unwrap_or_default();
                Ok(Self::Error { code, message: String::from_utf8_lossy(message) })
            }
            OACK => Ok(Self::OptionAck { options: options(&mut reader)? }),
            other => Err(ParseError::Opcode(other)),
        }
    }

    /// The datagram.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::new();
        let push_text = |out: &mut Vec<u8>, text: &str| {
            // A NUL inside would end the text early and begin another.
            out.extend(text.bytes().filter(|byte| *byte != 0));
            out.push(0);
        };
        match self {
            Self::Read { name, mode, options } => {
                out.extend(RRQ.to_be_bytes());
                push_text(&mut out, name);
                push_text(&mut out, mode);
                for (name, value) in options {
                    push_text(&mut out, name);
                    push_text(&mut out, value);
                }
            }
            Self::Write { name } => {
                out.extend(WRQ.to_be_bytes());
                push_text(&mut out, name);
                push_text(&mut out, "octet");
            }
            Self::Data { block, data } => {
                out.reserve(4 + data.len());
                out.extend(Self::data_header(*block));
                out.extend_from_slice(data);
            }
            Self::Ack { block } => {
                out.extend(ACK.to_be_bytes());
                out.extend(block.to_be_bytes());
            }
            Self::Error { code, message } => {
                out.extend(ERROR.to_be_bytes());
                out.extend(code.to_u16().to_be_bytes());
                push_text(&mut out, message);
            }
            Self::OptionAck { options } => {
                out.extend(OACK.to_be_bytes());
                for (name, value) in options {
                    push_text(&mut out, name);
                    push_text(&mut out, value);
                }
            }
        }
        out
    }

    /// The four bytes before the content of `block`, for drivers that read the content in place behind them.
    #[must_use]
    pub const fn data_header(block: u16) -> [u8; 4] {
        let [high, low] = block.to_be_bytes();
        [0, 3, high, low]
    }
}

/// The number of a block as it stands on the wire: after 65,535 comes 0.
#[expect(clippy::cast_possible_truncation, reason = "block numbers wrap at 16 bits")]
pub(super) const fn wire_number(block: u64) -> u16 {
    block as u16
}

/// A NUL-terminated text; `None` if the NUL is missing.
fn text<'a>(reader: &mut Reader<'a>) -> Option<Result<Cow<'a, str>, ParseError>> {
    let bytes = reader.until_nul()?;
    Some(std::str::from_utf8(bytes).map(Cow::Borrowed).map_err(|_| ParseError::Text))
}

/// Pairs up to the end. A last one that is cut off is left out: firmware is known to pad with junk.
fn options<'a>(reader: &mut Reader<'a>) -> Result<RawOptions<'a>, ParseError> {
    let mut options = Vec::new();
    while let (Some(name), Some(value)) = (text(reader), text(reader)) {
        options.push((name?, value?));
    }
    Ok(options)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn every_kind_is_read_back() {
        let options = vec![("blksize".into(), "1468".into()), ("tsize".into(), "0".into())];
        let packets = [
            Packet::Read { name: "grub.cfg".into(), mode: "octet".into(), options: options.clone() },
            Packet::Write { name: "x".into() },
            Packet::Data { block: 65_535, data: b"abc" },
            Packet::Ack { block: 7 },
            Packet::Error { code: ErrorCode::NotFound, message: "no file".into() },
            Packet::OptionAck { options },
        ];
        for packet in packets {
            assert_eq!(Packet::parse(&packet.emit()), Ok(packet));
        }
    }

    #[test]
    fn every_truncation_of_a_request_is_survived() {
        let bytes = Packet::Read { name: "grub.cfg".into(), mode: "octet".into(), options: vec![] }.emit();
        for length in 0..bytes.len() {
            assert_eq!(Packet::parse(&bytes[..length]), Err(ParseError::Short { length }));
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            if let Ok(packet) = Packet::parse(&bytes) {
                let emitted = packet.emit();
                prop_assert_eq!(Packet::parse(&emitted).unwrap(), packet);
            }
        }
    }
}
