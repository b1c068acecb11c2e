//! What a management controller is asked, and what it answers (IPMI v2.0, revision 1.1). How the messages get there is another
//! matter: KCS inside the machine, RMCP+ from outside.

use std::net::Ipv4Addr;

use crate::{mac::Mac, reader::Reader};

/// Network functions (table 5-1).
const CHASSIS: u8 = 0x00;
const APPLICATION: u8 = 0x06;
const TRANSPORT: u8 = 0x0c;
/// The medium of a channel that is a network card (table 6-3).
const LAN: u8 = 0x04;

/// A question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// Which family of commands.
    pub net_function: u8,
    /// Which of them.
    pub command: u8,
    /// What goes with it.
    pub data: Vec<u8>,
}

impl Request {
    /// Get Device ID (section 20.1).
    #[must_use]
    pub fn device_id() -> Self {
        Self { net_function: APPLICATION, command: 0x01, data: Vec::new() }
    }

    /// Get Channel Info (section 22.24).
    #[must_use]
    pub fn channel(number: u8) -> Self {
        Self { net_function: APPLICATION, command: 0x42, data: vec![number & 0x0f] }
    }

    /// Get LAN Configuration Parameters (section 23.2).
    #[must_use]
    pub fn lan(channel: u8, parameter: LanParameter) -> Self {
        Self { net_function: TRANSPORT, command: 0x02, data: vec![channel & 0x0f, parameter as u8, 0, 0] }
    }

    /// Set LAN Configuration Parameters (section 23.1).
    #[must_use]
    pub fn set_lan(channel: u8, parameter: LanParameter, value: &[u8]) -> Self {
        let data = [&[channel & 0x0f, parameter as u8], value].concat();
        Self { net_function: TRANSPORT, command: 0x01, data }
    }

    /// Get Channel Authentication Capabilities (section 22.13), of the channel that it comes by, with those of IPMI 2.0, for that right.
    #[must_use]
    pub fn capabilities(level: u8) -> Self {
        Self { net_function: APPLICATION, command: 0x38, data: vec![0x8e, level & 0x0f] }
    }

    /// Set Session Privilege Level (section 22.18): what may be done in this session.
    #[must_use]
    pub fn privilege(level: u8) -> Self {
        Self { net_function: APPLICATION, command: 0x3b, data: vec![level & 0x0f] }
    }

    /// Close Session (section 22.19), by the controller's number of it.
    #[must_use]
    pub fn close_session(id: u32) -> Self {
        Self { net_function: APPLICATION, command: 0x3c, data: id.to_le_bytes().to_vec() }
    }

    /// Get Chassis Status (section 28.2).
    #[must_use]
    pub fn chassis_status() -> Self {
        Self { net_function: CHASSIS, command: 0x01, data: Vec::new() }
    }

    /// Chassis Control (section 28.3).
    #[must_use]
    pub fn chassis_control(control: Control) -> Self {
        Self { net_function: CHASSIS, command: 0x02, data: vec![control as u8] }
    }

    /// Set System Boot Options (section 28.12), parameter 3: the boot flags hold although no command follows within a minute, and although
    /// it is the button that switches the machine on.
    #[must_use]
    pub fn keep_boot_flags() -> Self {
        Self { net_function: CHASSIS, command: 0x08, data: vec![0x03, 0x09] }
    }

    /// The same, parameter 5: the boot flags, for the next start alone.
    #[must_use]
    pub fn set_boot(flags: BootFlags) -> Self {
        let uefi = if flags.is_uefi { 0x20 } else { 0 };
        let (valid, device) = flags.device.map_or((0, 0), |device| (0x80 | uefi, (device as u8) << 2));
        Self { net_function: CHASSIS, command: 0x08, data: vec![0x05, valid, device, 0, 0, 0] }
    }

    /// Get System Boot Options (section 28.13), parameter 5.
    #[must_use]
    pub fn boot() -> Self {
        Self { net_function: CHASSIS, command: 0x09, data: vec![0x05, 0, 0] }
    }

    /// Chassis Identify (section 28.5): its light for so many seconds, at most 255; none switches it off.
    #[must_use]
    pub fn identify(secs: u8) -> Self {
        Self { net_function: CHASSIS, command: 0x04, data: vec![secs] }
    }
}

/// What a machine's power is to do (table 28-4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Control {
    /// Off at once.
    Off = 0,
    /// On.
    On = 1,
    /// Off, and on again a little later.
    Cycle = 2,
    /// The system is asked to shut down.
    ShutDown = 5,
}

/// What is booted (table 28-14, parameter 5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum BootDevice {
    /// The network.
    Network = 1,
    /// The first disk.
    Disk = 2,
    /// A disc.
    Disc = 5,
    /// The firmware's settings.
    Setup = 6,
}

/// What is booted at the next start (table 28-14, parameter 5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BootFlags {
    /// What; nothing for what the firmware has in its own order.
    pub device: Option<BootDevice>,
    /// Whether it is started as UEFI does, not as a BIOS.
    pub is_uefi: bool,
}

impl BootFlags {
    /// Reads what follows the completion code of an answer to [`Request::boot`]; nothing if it is cut short.
    #[must_use]
    pub fn read(data: &[u8]) -> Option<Self> {
        let [_, _, flags, device] = *data.first_chunk::<4>()?;
        let device = match (device >> 2) & 0x0f {
            1 => Some(BootDevice::Network),
            2 => Some(BootDevice::Disk),
            5 => Some(BootDevice::Disc),
            6 => Some(BootDevice::Setup),
            _ => None,
        };
        Some(Self { device: device.filter(|_| flags & 0x80 != 0), is_uefi: flags & 0x20 != 0 })
    }
}

/// Whether a controller speaks IPMI 2.0 over the network, from what follows the completion code of an answer to
/// [`Request::capabilities`].
#[must_use]
pub fn speaks_rmcp_plus(data: &[u8]) -> bool {
    matches!(data, [_, kinds, _, extended, ..] if kinds & 0x80 != 0 && extended & 0x02 != 0)
}

/// Whether the machine is on, from what follows the completion code of an answer to [`Request::chassis_status`].
#[must_use]
pub fn chassis_is_on(data: &[u8]) -> Option<bool> {
    data.first().map(|state| state & 0x01 != 0)
}

/// Parameters of a network card (table 23-4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum LanParameter {
    /// Its IPv4 address.
    Address = 3,
    /// Whom the address is from.
    Source = 4,
    /// Its MAC address.
    Mac = 5,
    /// The mask of its subnet.
    Mask = 6,
    /// The router.
    Router = 12,
    /// The VLAN that its frames are tagged with.
    Vlan = 20,
}

/// What follows the completion code of an answer that says it was done (section 5.2).
#[must_use]
pub fn done(answer: &[u8]) -> Option<&[u8]> {
    answer.split_first().filter(|(code, _)| **code == 0).map(|(_, data)| data)
}

/// A controller (section 20.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceId {
    /// The version of its firmware: `2.14`.
    pub firmware: String,
    /// The version of IPMI that it speaks: `2.0`.
    pub ipmi: String,
    /// Who built it, by the number that IANA gave.
    pub manufacturer: u32,
    /// Which of that builder's it is.
    pub product: u16,
}

impl DeviceId {
    /// Reads an answer to [`Request::device_id`]; nothing if it was not done, or is cut short.
    #[must_use]
    pub fn parse(answer: &[u8]) -> Option<Self> {
        let mut data = Reader::new(done(answer)?);
        let [_, _, major, minor, ipmi, _] = data.array()?;
        let [a, b, c] = data.array()?;
        Some(Self {
            // The upper bit says that it is being updated; the minor version is in decimal digits.
            firmware: format!("{}.{minor:02x}", major & 0x7f),
            // The digits are the other way round.
            ipmi: format!("{}.{}", ipmi & 0x0f, ipmi >> 4),
            manufacturer: u32::from_le_bytes([a, b, c & 0x0f, 0]),
            product: u16::from_le_bytes(data.array()?),
        })
    }
}

/// Whether a channel is a network card, from the answer to [`Request::channel`].
#[must_use]
pub fn is_lan(answer: &[u8]) -> bool {
    done(answer).and_then(|data| data.get(1)).is_some_and(|medium| medium & 0x7f == LAN)
}

/// What follows the revision in the answer to [`Request::lan`].
#[must_use]
pub fn parameter(answer: &[u8]) -> Option<&[u8]> {
    Some(done(answer)?.split_first()?.1)
}

/// An IPv4 address; nothing for none at all.
#[must_use]
pub fn address(parameter: &[u8]) -> Option<Ipv4Addr> {
    let octets = *parameter.first_chunk::<4>()?;
    Some(Ipv4Addr::from(octets)).filter(|address| !address.is_unspecified())
}

/// A MAC address.
#[must_use]
pub fn mac(parameter: &[u8]) -> Option<Mac> {
    Mac::new(*parameter.first_chunk()?).ok()
}

/// Whom an address is from, in a word (table 23-4, parameter 4).
#[must_use]
pub fn source(parameter: &[u8]) -> Option<&'static str> {
    match parameter.first()? & 0x0f {
        1 => Some("static"),
        2 => Some("dhcp"),
        3 => Some("firmware"),
        4 => Some("other"),
        _ => None,
    }
}

/// The VLAN of a card whose frames are tagged.
#[must_use]
pub fn vlan(parameter: &[u8]) -> Option<u16> {
    let said = u16::from_le_bytes(*parameter.first_chunk()?);
    (said & 0x8000 != 0).then_some(said & 0x0fff)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boot_flags_are_read_as_they_are_written() {
        let flags = BootFlags { device: Some(BootDevice::Network), is_uefi: true };
        assert_eq!(Request::set_boot(flags).data, [5, 0xa0, 0x04, 0, 0, 0]);
        assert_eq!(BootFlags::read(&[1, 5, 0xa0, 0x04, 0, 0, 0]), Some(flags));
        // What was set and has been used is not valid any more.
        assert_eq!(BootFlags::read(&[1, 5, 0x20, 0x04, 0]).unwrap().device, None);
        assert_eq!(BootFlags::read(&[1, 5, 0x80]), None);
        let nothing = BootFlags { device: None, is_uefi: true };
        assert_eq!(Request::set_boot(nothing).data, [5, 0, 0, 0, 0, 0]);
        assert!(
            speaks_rmcp_plus(&[1, 0x80, 0, 2, 0])
                && !speaks_rmcp_plus(&[1, 0x80, 0, 1])
                && !speaks_rmcp_plus(&[1])
        );
        assert_eq!(
            (chassis_is_on(&[0x21, 0]), chassis_is_on(&[0x20]), chassis_is_on(&[])),
            (Some(true), Some(false), None)
        );
    }

    #[test]
    fn answers_are_read_as_the_specification_has_them() {
        let answer = [0, 0x20, 1, 0x02, 0x14, 0x02, 0xbf, 0x57, 0x01, 0x00, 0x34, 0x12];
        let id = DeviceId::parse(&answer).unwrap();
        assert_eq!((id.firmware.as_str(), id.ipmi.as_str()), ("2.14", "2.0"));
        assert_eq!((id.manufacturer, id.product), (343, 0x1234));
        assert_eq!(DeviceId::parse(&[0xc1]), None, "it does not know the command");
        assert_eq!(DeviceId::parse(&answer[..8]), None);
        assert!(is_lan(&[0, 1, 0x04, 0x01, 0, 0, 0, 0, 0, 0]) && !is_lan(&[0, 0, 0x01]) && !is_lan(&[0xcc]));
        let said = |data: &[u8]| [&[0, 0x11], data].concat();
        assert_eq!(address(parameter(&said(&[192, 0, 2, 9])).unwrap()), Some(Ipv4Addr::new(192, 0, 2, 9)));
        assert_eq!(address(parameter(&said(&[0, 0, 0, 0])).unwrap()), None);
        assert_eq!(
            mac(parameter(&said(&[2, 0, 0x5e, 0, 0x53, 9])).unwrap()).unwrap().to_string(),
            "02:00:5e:00:53:09"
        );
        assert_eq!(source(parameter(&said(&[0x02])).unwrap()), Some("dhcp"));
        assert_eq!(vlan(parameter(&said(&[0x2a, 0x80])).unwrap()), Some(42));
        assert_eq!(vlan(parameter(&said(&[0x2a, 0x00])).unwrap()), None);
        assert_eq!(Request::lan(1, LanParameter::Mac).data, [1, 5, 0, 0]);
        assert_eq!(Request::identify(15), Request { net_function: 0, command: 4, data: vec![15] });
    }
}
