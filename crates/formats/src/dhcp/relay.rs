//! The relay agent information option (option 82; RFC 3046).

use std::net::Ipv4Addr;

use crate::reader::Reader;

/// Sub-option: agent circuit id (RFC 3046, section 3.1).
const CIRCUIT_ID: u8 = 1;
/// Sub-option: agent remote id (RFC 3046, section 3.2).
const REMOTE_ID: u8 = 2;
/// Sub-option: link selection (RFC 3527).
const LINK_SELECTION: u8 = 5;
/// Sub-option: relay source port (RFC 8357, section 4.2).
pub const RELAY_SOURCE_PORT: u8 = 19;

/// What a relay says about where a message came from.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RelayInfo {
    /// Port or circuit the client hangs on.
    pub circuit_id: Option<Vec<u8>>,
    /// The relay's or subscriber's own identity.
    pub remote_id: Option<Vec<u8>>,
    /// The subnet to choose an address from, where it is not that of `giaddr`.
    pub link_selection: Option<Ipv4Addr>,
    /// The relay listens on the port it sent from, not on 67.
    pub uses_source_port: bool,
}

impl RelayInfo {
    /// Reads the option's value. Sub-options not known, or cut off, are passed over: the option is echoed as it came.
    #[must_use]
    pub fn read(value: &[u8]) -> Self {
        let mut info = Self::default();
        let mut reader = Reader::new(value);
        while let (Some(code), Some(length)) = (reader.u8(), reader.u8()) {
            let Some(value) = reader.take(usize::from(length)) else { break };
            match code {
                CIRCUIT_ID => info.circuit_id = Some(value.to_vec()),
                REMOTE_ID => info.remote_id = Some(value.to_vec()),
                LINK_SELECTION => info.link_selection = Reader::new(value).ipv4(),
                RELAY_SOURCE_PORT => info.uses_source_port = true,
                _ => {}
            }
        }
        info
    }

    /// The option's value, as a relay writes it.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::new();
        let mut push = |code: u8, value: &[u8]| {
            out.push(code);
            out.push(u8::try_from(value.len()).unwrap_or(u8::MAX));
            out.extend_from_slice(&value[..value.len().min(255)]);
        };
        if let Some(id) = &self.circuit_id {
            push(CIRCUIT_ID, id);
        }
        if let Some(id) = &self.remote_id {
            push(REMOTE_ID, id);
        }
        if let Some(link) = self.link_selection {
            push(LINK_SELECTION, &link.octets());
        }
        if self.uses_source_port {
            push(RELAY_SOURCE_PORT, &[]);
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_relay_writes_is_read_back() {
        let info = RelayInfo {
            circuit_id: Some(b"quay-sw1 ge-0/0/7".to_vec()),
            remote_id: Some(vec![2, 0, 94, 0, 83, 1]),
            link_selection: Some(Ipv4Addr::new(192, 0, 2, 1)),
            uses_source_port: true,
        };
        assert_eq!(RelayInfo::read(&info.emit()), info);
    }

    #[test]
    fn a_cut_sub_option_loses_only_itself() {
        let mut value = vec![1, 2, b'e', b'0'];
        value.extend([2, 9, b'x']);
        let info = RelayInfo::read(&value);
        assert_eq!(info.circuit_id.as_deref(), Some(b"e0".as_slice()));
        assert_eq!(info.remote_id, None);
    }
}
