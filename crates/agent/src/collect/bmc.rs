//! The management controller, asked inside the machine.

use lastmile_formats::ipmi::{self, DeviceId, LanParameter, Request};
use lastmile_survey::facts::Bmc;

use crate::devices::Devices;

/// The last channel that may be a network card (IPMI v2.0, section 6.3).
const LAST_CHANNEL: u8 = 0x0b;

/// What it says; nothing if it does not answer.
pub(super) fn read(devices: &dyn Devices) -> Option<Bmc> {
    let id = DeviceId::parse(&devices.ipmi(&Request::device_id()).ok()?)?;
    let mut bmc = Bmc { firmware: Some(id.firmware), ipmi: Some(id.ipmi), ..Bmc::default() };
    let is_lan =
        |channel: &u8| devices.ipmi(&Request::channel(*channel)).is_ok_and(|answer| ipmi::is_lan(&answer));
    if let Some(channel) = (1..=LAST_CHANNEL).find(is_lan) {
        add_card(devices, channel, &mut bmc);
    }
    Some(bmc)
}

fn add_card(devices: &dyn Devices, channel: u8, bmc: &mut Bmc) {
    let ask = |parameter| {
        let answer = devices.ipmi(&Request::lan(channel, parameter)).ok()?;
        ipmi::parameter(&answer).map(<[u8]>::to_vec)
    };
    let address = |parameter| ask(parameter).and_then(|said| ipmi::address(&said));
    bmc.address = address(LanParameter::Address);
    bmc.mask = address(LanParameter::Mask);
    bmc.router = address(LanParameter::Router);
    bmc.mac = ask(LanParameter::Mac).and_then(|said| ipmi::mac(&said));
    bmc.source = ask(LanParameter::Source).and_then(|said| ipmi::source(&said)).map(str::to_owned);
    bmc.vlan = ask(LanParameter::Vlan).and_then(|said| ipmi::vlan(&said));
}
