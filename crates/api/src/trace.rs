//! Traces as they are read.

use jiff::Timestamp;
use lastmile_core::report::trace::{Diagnosis, Mark, Pair, Seen, TraceEvent, Wire};
use lastmile_formats::dhcp::{Message, option_name};
use serde::{Deserialize, Serialize};

/// Whose boot is on the other side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TracesCompareQuery {
    /// A machine's name or a newcomer's MAC address.
    pub with: String,
}

/// One thing that happened between a machine and the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct TraceLine {
    /// Its place among all events of the service.
    pub number: u64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// On which wire.
    pub wire: Wire,
    /// How it stands.
    pub mark: Mark,
    /// What the machine asked.
    pub asked: String,
    /// What it got, or why it got nothing.
    pub got: String,
    /// What was decided for the machine and why, where something was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The options of a DHCP message.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub asked_options: Vec<OptionLine>,
    /// The options of its reply.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub got_options: Vec<OptionLine>,
}

/// One option of a DHCP message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct OptionLine {
    /// Its code.
    pub code: u8,
    /// Its standard name, or its number.
    pub name: String,
    /// Its value, as far as it is text or addresses; else in hexadecimal.
    pub value: String,
}

/// The trace of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Trace {
    /// Whose: a machine's name, or a newcomer's MAC address.
    pub who: String,
    /// Its MAC addresses.
    pub macs: Vec<String>,
    /// What stops its last boot, as far as it was recognised.
    pub diagnoses: Vec<Diagnosis>,
    /// Its events, oldest first.
    pub lines: Vec<TraceLine>,
    /// The number of the event that its last power-on begins with.
    pub last_boot: Option<u64>,
}

/// Two boots beside each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct TraceComparison {
    /// Whose last boot is on the left.
    pub left: Trace,
    /// Whose last boot is on the right.
    pub right: Trace,
    /// The lines in order, by the numbers of the events.
    pub pairs: Vec<Pair>,
    /// The first of them on which the two differ.
    pub first_difference: Option<usize>,
    /// That difference, in words.
    pub says: String,
}

/// A newcomer that left a trace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct NewcomerView {
    /// Its MAC address.
    pub mac: String,
    /// When it was last seen.
    #[schema(value_type = String, format = DateTime)]
    pub last_seen: Timestamp,
    /// What it asked last.
    pub asked: String,
    /// What it got.
    pub got: String,
    /// What it is, as far as a survey measured it: vendor, product, serial number.
    pub product: Option<String>,
    /// What is in it, in one line.
    pub hardware: Option<String>,
    /// When it was surveyed last.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub surveyed: Option<Timestamp>,
    /// Whether it runs the survey's agent and waits.
    pub is_waiting: bool,
}

impl From<&TraceEvent> for TraceLine {
    fn from(event: &TraceEvent) -> Self {
        let (asked_options, got_options) = match &event.seen {
            Seen::Dhcp(dhcp) => (options(dhcp.request()), options(dhcp.reply())),
            Seen::Foreign(foreign) => (Vec::new(), options(Message::parse(&foreign.reply.payload).ok())),
            Seen::File(_) | Seen::Report(_) | Seen::Agent(_) => (Vec::new(), Vec::new()),
        };
        Self {
            number: event.number,
            at: event.at,
            wire: event.wire(),
            mark: event.mark(),
            asked: event.asked(),
            got: event.got(),
            why: event.why(),
            asked_options,
            got_options,
        }
    }
}

fn options(message: Option<Message>) -> Vec<OptionLine> {
    let Some(message) = message else { return Vec::new() };
    let lines = message.options.iter();
    lines
        .map(|(code, value)| OptionLine { code, name: option_name(code), value: shown(code, value) })
        .collect()
}

/// A value as a person reads it.
fn shown(code: u8, value: &[u8]) -> String {
    const ADDRESSES: [u8; 11] = [1, 3, 4, 5, 6, 7, 28, 42, 50, 54, 150];
    const NUMBERS: [u8; 7] = [26, 51, 57, 58, 59, 2, 108];
    let hexadecimal = || hex::encode(value);
    if code == 55 {
        return value.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    }
    if ADDRESSES.contains(&code) && value.len().is_multiple_of(4) {
        let address = |bytes: &[u8]| bytes.iter().map(ToString::to_string).collect::<Vec<_>>().join(".");
        return value.chunks(4).map(address).collect::<Vec<_>>().join(", ");
    }
    if NUMBERS.contains(&code) && value.len() <= 4 {
        return value.iter().fold(0_u32, |number, byte| number << 8 | u32::from(*byte)).to_string();
    }
    if code == 93 && value.len() == 2 {
        let code = u16::from_be_bytes([value[0], value[1]]);
        return format!("{code} ({})", lastmile_formats::architecture::Firmware::from_code(code));
    }
    match std::str::from_utf8(value) {
        Ok(text) if value.len() > 1 && !text.trim_end_matches('\0').chars().any(char::is_control) => {
            text.trim_end_matches('\0').into()
        }
        _ => hexadecimal(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_shown_as_what_they_are() {
        assert_eq!(shown(6, &[192, 0, 2, 53, 192, 0, 2, 54]), "192.0.2.53, 192.0.2.54");
        assert_eq!(shown(51, &[0, 0, 0x70, 0x80]), "28800");
        assert_eq!(shown(60, b"PXEClient:Arch:00007"), "PXEClient:Arch:00007");
        assert_eq!(shown(93, &[0, 7]), "7 (uefi-x64)");
        assert_eq!(shown(55, &[1, 3, 66]), "1 3 66");
        assert_eq!(shown(61, &[1, 2, 0, 0x5e]), "0102005e");
    }
}
