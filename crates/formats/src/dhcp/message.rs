//! One DHCP message (RFC 2131, section 2) and its bytes.

use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};
use thiserror::Error;
use uuid::Uuid;

use crate::{
    architecture::{Fetches, Firmware},
    dhcp::{Options, RelayInfo, code},
    mac::Mac,
    reader::Reader,
};

/// Who speaks (`op`).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Op {
    /// BOOTREQUEST, 1.
    Request,
    /// BOOTREPLY, 2.
    Reply,
}

/// The DHCP message type (option 53; RFC 2132, section 9.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Kind {
    /// A client looks for servers.
    Discover,
    /// A server offers an address.
    Offer,
    /// A client takes an offer, confirms an address or prolongs a lease.
    Request,
    /// A client found the address in use.
    Decline,
    /// A server grants.
    Ack,
    /// A server refuses.
    Nak,
    /// A client gives its address back.
    Release,
    /// A client with an address of its own asks for settings.
    Inform,
    /// Any other type, kept as it came.
    Other(u8),
}

impl Kind {
    /// From the option's byte.
    #[must_use]
    pub const fn from_byte(byte: u8) -> Self {
        match byte {
            1 => Self::Discover,
            2 => Self::Offer,
            3 => Self::Request,
            4 => Self::Decline,
            5 => Self::Ack,
            6 => Self::Nak,
            7 => Self::Release,
            8 => Self::Inform,
            other => Self::Other(other),
        }
    }

    /// The option's byte.
    #[must_use]
    pub const fn byte(self) -> u8 {
        match self {
            Self::Discover => 1,
            Self::Offer => 2,
            Self::Request => 3,
            Self::Decline => 4,
            Self::Ack => 5,
            Self::Nak => 6,
            Self::Release => 7,
            Self::Inform => 8,
            Self::Other(other) => other,
        }
    }
}

impl std::fmt::Display for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let name = match self {
            Self::Discover => "DHCPDISCOVER",
            Self::Offer => "DHCPOFFER",
            Self::Request => "DHCPREQUEST",
            Self::Decline => "DHCPDECLINE",
            Self::Ack => "DHCPACK",
            Self::Nak => "DHCPNAK",
            Self::Release => "DHCPRELEASE",
            Self::Inform => "DHCPINFORM",
            Self::Other(other) => return write!(f, "message type {other}"),
        };
        f.write_str(name)
    }
}

/// Why a datagram is no DHCP message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ParseError {
    /// Shorter than the fixed fields and the magic cookie (240 bytes).
    #[error("{length} bytes, where a DHCP message has at least 240")]
    Short {
        /// Bytes received.
        length: usize,
    },
    /// `op` is neither 1 nor 2.
    #[error("op {0} is neither BOOTREQUEST nor BOOTREPLY")]
    Op(u8),
    /// `hlen` over the 16 bytes that `chaddr` has.
    #[error("hardware address length {0}, where at most 16 fit")]
    HardwareLength(u8),
    /// The four bytes before the options are not 99.130.83.99.
    #[error("no magic cookie: plain BOOTP or not DHCP at all")]
    Cookie,
    /// The option area ends in the middle of an option.
    #[error("option {code} is cut off by the end of its area")]
    Option {
        /// The option that is cut off.
        code: u8,
    },
    /// No message type option of one byte.
    #[error("no message type (option 53)")]
    NoType,
}

/// A DHCP message. `chaddr` is cut to `hlen`; everything else is kept as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Request or reply.
    pub op: Op,
    /// Message type.
    pub kind: Kind,
    /// Hardware type: 1 is Ethernet.
    pub htype: u8,
    /// Relays passed.
    pub hops: u8,
    /// Transaction chosen by the client.
    pub xid: u32,
    /// Seconds since the client began.
    pub secs: u16,
    /// Flags; the highest bit asks for broadcast replies.
    pub flags: u16,
    /// The address the client has and can be reached at.
    pub ciaddr: Ipv4Addr,
    /// "Your" address.
    pub yiaddr: Ipv4Addr,
    /// Next server in the boot.
    pub siaddr: Ipv4Addr,
    /// Relay that forwarded.
    pub giaddr: Ipv4Addr,
    /// Hardware address, 0 to 16 bytes.
    pub chaddr: Vec<u8>,
    /// Server host name field, without trailing NULs, empty where it held options.
    pub sname: Vec<u8>,
    /// Boot file field, without trailing NULs, empty where it held options.
    pub file: Vec<u8>,
    /// Options from all areas.
    pub options: Options,
}

const COOKIE: [u8; 4] = [99, 130, 83, 99];
const SNAME_LENGTH: usize = 64;
const FILE_LENGTH: usize = 128;
const FIXED_LENGTH: usize = 236;
/// Some clients and relays drop what is shorter than a BOOTP message (RFC 1542, section 2.1).
const MIN_LENGTH: usize = 300;
const BROADCAST_FLAG: u16 = 0x8000;

impl Message {
    /// A request of `kind` from an Ethernet client.
    #[must_use]
    pub fn request(kind: Kind, xid: u32, mac: Mac) -> Self {
        Self {
            op: Op::Request,
            kind,
            htype: 1,
            hops: 0,
            xid,
            secs: 0,
            flags: 0,
            ciaddr: Ipv4Addr::UNSPECIFIED,
            yiaddr: Ipv4Addr::UNSPECIFIED,
            siaddr: Ipv4Addr::UNSPECIFIED,
            giaddr: Ipv4Addr::UNSPECIFIED,
            chaddr: mac.octets().to_vec(),
            sname: Vec::new(),
            file: Vec::new(),
            options: Options::new(),
        }
    }

    /// A reply of `kind` to `request`, with the fields that RFC 2131, table 3, copies.
    #[must_use]
    pub fn reply_to(request: &Self, kind: Kind) -> Self {
        Self {
            op: Op::Reply,
            kind,
            hops: 0,
            secs: 0,
            ciaddr: Ipv4Addr::UNSPECIFIED,
            yiaddr: Ipv4Addr::UNSPECIFIED,
            siaddr: Ipv4Addr::UNSPECIFIED,
            htype: request.htype,
            xid: request.xid,
            flags: request.flags,
            giaddr: request.giaddr,
            chaddr: request.chaddr.clone(),
            sname: Vec::new(),
            file: Vec::new(),
            options: Options::new(),
        }
    }

    /// Reads a UDP payload.
    ///
    /// Options in `file` and `sname` are read where option 52 says so (RFC 2131, section 4.1).
    ///
    /// # Errors
    /// What makes it no DHCP message; nothing else is refused.
    pub fn parse(bytes: &[u8]) -> Result<Self, ParseError> {
        let short = || ParseError::Short { length: bytes.len() };
        let mut reader = Reader::new(bytes);
        let mut fixed = Reader::new(reader.take(FIXED_LENGTH).ok_or_else(short)?);
        let cookie = reader.array::<4>().ok_or_else(short)?;
        let mut byte = || fixed.u8().ok_or_else(short);
        let op = match byte()? {
            1 => Op::Request,
            2 => Op::Reply,
            other => return Err(ParseError::Op(other)),
        };
        let (htype, hlen, hops) = (byte()?, byte()?, byte()?);
        if hlen > 16 {
            return Err(ParseError::HardwareLength(hlen));
        }
        let xid = fixed.u32().ok_or_else(short)?;
        let (secs, flags) = (fixed.u16().ok_or_else(short)?, fixed.u16().ok_or_else(short)?);
        let mut address = || fixed.ipv4().ok_or_else(short);
        let (ciaddr, yiaddr, siaddr, giaddr) = (address()?, address()?, address()?, address()?);
        let chaddr = &fixed.array::<16>().ok_or_else(short)?[..usize::from(hlen)];
        let sname = fixed.take(SNAME_LENGTH).ok_or_else(short)?;
        let file = fixed.take(FILE_LENGTH).ok_or_else(short)?;
        if cookie != COOKIE {
            return Err(ParseError::Cookie);
        }

        let mut options = Options::new();
        let cut = |truncated: crate::dhcp::options::Truncated| ParseError::Option { code: truncated.code };
        options.read_area(reader.rest()).map_err(cut)?;
        let overload = options.get(code::OVERLOAD).and_then(|value| value.first()).copied().unwrap_or(0);
        if overload & 1 != 0 {
            options.read_area(file).map_err(cut)?;
        }
        if overload & 2 != 0 {
            options.read_area(sname).map_err(cut)?;
        }
        let kind = match options.get(code::MESSAGE_TYPE) {
            Some([byte]) => Kind::from_byte(*byte),
            _ => return Err(ParseError::NoType),
        };
        Ok(Self {
            op,
            kind,
            htype,
            hops,
            xid,
            secs,
            flags,
            ciaddr,
            yiaddr,
            siaddr,
            giaddr,
            chaddr: chaddr.to_vec(),
            sname: if overload & 2 == 0 { before_nul(sname) } else { Vec::new() },
            file: if overload & 1 == 0 { before_nul(file) } else { Vec::new() },
            options,
        })
    }

    /// The UDP payload, at least 300 bytes long. `sname` and `file` are cut to their fields.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(MIN_LENGTH * 2);
        out.push(match self.op {
            Op::Request => 1,
            Op::Reply => 2,
        });
        let hlen = self.chaddr.len().min(16);
        out.extend([self.htype, u8::try_from(hlen).unwrap_or(16), self.hops]);
        out.extend(self.xid.to_be_bytes());
        out.extend(self.secs.to_be_bytes());
        out.extend(self.flags.to_be_bytes());
        for address in [self.ciaddr, self.yiaddr, self.siaddr, self.giaddr] {
            out.extend(address.octets());
        }
        push_field(&mut out, &self.chaddr, 16);
        // The last byte of a text field stays NUL: firmware reads them as C strings.
        push_field(&mut out, &self.sname[..self.sname.len().min(SNAME_LENGTH - 1)], SNAME_LENGTH);
        push_field(&mut out, &self.file[..self.file.len().min(FILE_LENGTH - 1)], FILE_LENGTH);
        out.extend(COOKIE);
        // The type stands first: some clients look only there.
        out.extend([code::MESSAGE_TYPE, 1, self.kind.byte()]);
        self.options.write(&mut out);
        out.resize(out.len().max(MIN_LENGTH), code::PAD);
        out
    }

    /// Whether the client asks for broadcast replies (RFC 2131, section 2, figure 2).
    #[must_use]
    pub const fn wants_broadcast(&self) -> bool {
        self.flags & BROADCAST_FLAG != 0
    }

    /// Sets the broadcast flag.
    pub const fn set_broadcast(&mut self) {
        self.flags |= BROADCAST_FLAG;
    }

    /// The Ethernet address of the client, if it has one.
    #[must_use]
    pub fn mac(&self) -> Option<Mac> {
        if self.htype != 1 {
            return None;
        }
        Mac::new(<[u8; 6]>::try_from(self.chaddr.as_slice()).ok()?).ok()
    }

    /// The firmware that asks to boot: by its vendor class (`PXEClient`, PXE 2.1, section 2.2; `HTTPClient`, UEFI
    /// 2.10, section 24.7.2) and its architecture (option 93, the first if several are named). `None` for any other
    /// client.
    #[must_use]
    pub fn firmware(&self) -> Option<Firmware> {
        let class = self.options.get(code::VENDOR_CLASS)?;
        let fetches = if class.starts_with(b"PXEClient") {
            Fetches::Tftp
        } else if class.starts_with(b"HTTPClient") {
            Fetches::Http
        } else {
            return None;
        };
        let named = self.options.get(code::CLIENT_ARCHITECTURE).and_then(|value| Reader::new(value).u16());
        let firmware = Firmware::from_code(named.or_else(|| class_code(class)).unwrap_or(0));
        // The class says how it fetches; some firmware sends the code of the other way beside it.
        Some(Firmware { fetches, ..firmware })
    }

    /// The vendor class (option 60) as text.
    #[must_use]
    pub fn class(&self) -> Option<String> {
        self.options.text(code::VENDOR_CLASS)
    }

    /// The user classes (option 77): as RFC 3004 writes them, each after its length, or the one text without a
    /// length that many clients send.
    #[must_use]
    pub fn user_classes(&self) -> Vec<String> {
        let Some(value) = self.options.get(code::USER_CLASS) else { return Vec::new() };
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end_matches('\0').to_owned();
        let mut classes = Vec::new();
        let mut reader = Reader::new(value);
        while let Some(length) = reader.u8() {
            match reader.take(usize::from(length)).filter(|class| !class.is_empty()) {
                Some(class) => classes.push(text(class)),
                None => return vec![text(value)],
            }
        }
        classes
    }

    /// The SMBIOS UUID (option 97, type 0; RFC 4578, section 2.3), in the order of its bytes on the wire.
    #[must_use]
    pub fn machine_uuid(&self) -> Option<Uuid> {
        match self.options.get(code::CLIENT_MACHINE_IDENTIFIER)? {
            [0, uuid @ ..] => Uuid::from_slice(uuid).ok().filter(|uuid| !uuid.is_nil()),
            _ => None,
        }
    }

    /// What the relay added (option 82), if a relay forwarded this.
    #[must_use]
    pub fn relay_info(&self) -> Option<RelayInfo> {
        self.options.get(code::RELAY_AGENT_INFORMATION).map(RelayInfo::read)
    }

    /// Whether the client asked for option `wanted`. A client without a list asked for everything.
    #[must_use]
    pub fn asks_for(&self, wanted: u8) -> bool {
        self.options.get(code::PARAMETER_REQUEST_LIST).is_none_or(|list| list.contains(&wanted))
    }
}

/// The code in a class such as `PXEClient:Arch:00007:UNDI:003000`.
fn class_code(class: &[u8]) -> Option<u16> {
    let text = std::str::from_utf8(class).ok()?;
    text.split_once(":Arch:")?.1.get(..5)?.parse().ok()
}

fn before_nul(field: &[u8]) -> Vec<u8> {
    field.iter().copied().take_while(|byte| *byte != 0).collect()
}

fn push_field(out: &mut Vec<u8>, value: &[u8], length: usize) {
    let end = out.len() + length;
    out.extend_from_slice(&value[..value.len().min(length)]);
    out.resize(end, 0);
}

#[cfg(test)]
#[path = "message_tests.rs"]
mod tests;
