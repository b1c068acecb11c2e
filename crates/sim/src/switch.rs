//! A switch that says who it is: LLDP frames (IEEE 802.1AB) on a wire.

use std::{
    io,
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

use lastmile_formats::lldp::Neighbour;
use pnet_datalink::{Channel, Config, DataLinkSender, channel, interfaces};

/// The group that the frames are for, which no bridge carries on (section 7.1), and what they are.
const NEAREST_BRIDGE: [u8; 6] = [0x01, 0x80, 0xc2, 0x00, 0x00, 0x0e];
const LLDP: [u8; 2] = [0x88, 0xcc];
/// Its own address.
const SWITCH: [u8; 6] = [0x02, 0x00, 0x5e, 0x00, 0x53, 0xf0];
/// Between two frames: real switches take 30 s.
const EVERY: Duration = Duration::from_secs(2);
/// Between two looks whether it is to end.
const LOOK: Duration = Duration::from_millis(100);

/// One port of a switch.
pub struct SwitchPort {
    sender: Box<dyn DataLinkSender>,
    frame: Vec<u8>,
}

impl std::fmt::Debug for SwitchPort {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SwitchPort").finish_non_exhaustive()
    }
}

impl SwitchPort {
    /// A port whose other end is `interface`, which says `says` of itself. It is made in the network namespace that the calling
    /// thread is in, and stays there.
    ///
    /// # Errors
    /// That there is no such interface, or this process has not the right.
    pub fn open(interface: &str, says: &Neighbour) -> io::Result<Self> {
        let found = interfaces().into_iter().find(|found| found.name == interface);
        let found = found.ok_or_else(|| io::Error::other(format!("there is no interface {interface}")))?;
        let Channel::Ethernet(sender, _) = channel(&found, Config::default())? else {
            return Err(io::Error::other(format!("{interface} is no Ethernet")));
        };
        let frame = [&NEAREST_BRIDGE[..], &SWITCH, &LLDP, &says.emit()].concat();
        Ok(Self { sender, frame })
    }

    /// Says it every other second until `stop` is set.
    ///
    /// # Errors
    /// That the socket failed.
    pub fn run(mut self, stop: &AtomicBool) -> io::Result<()> {
        let mut due = Instant::now();
        while !stop.load(Ordering::Relaxed) {
            if Instant::now() >= due {
                self.sender.send_to(&self.frame, None).unwrap_or(Ok(()))?;
                due += EVERY;
            }
            std::thread::sleep(LOOK);
        }
        Ok(())
    }
}
