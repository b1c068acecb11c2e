//! Hears what is on the other end of each cable: LLDP (IEEE 802.1AB).

use std::{
    collections::BTreeMap,
    io,
    os::fd::AsRawFd,
    sync::{Arc, Mutex, PoisonError},
    thread,
    time::Duration,
};

use lastmile_formats::lldp::Neighbour;
use nix::sys::socket::{LinkAddr, recvfrom};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::sync::Notify;

/// The kind of frame (IEEE 802.1AB, section 8.3), and the bytes of a frame's head before what it carries.
const LLDP: u16 = 0x88cc;
const HEAD: usize = 14;
/// Largest frame: Ethernet's, with a VLAN tag.
const MOST_FRAME: usize = 1600;
/// How long nothing is heard after the socket said that it cannot.
const PAUSE: Duration = Duration::from_secs(1);

/// Who was heard on which card.
#[derive(Debug, Default)]
pub struct Neighbours {
    heard: Mutex<BTreeMap<u32, Neighbour>>,
    changed: Notify,
}

impl Neighbours {
    /// Who was heard last on the card with this number.
    #[must_use]
    pub fn on(&self, index: u32) -> Option<Neighbour> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).get(&index).cloned()
    }

    /// Waits until somebody else is heard.
    pub async fn changed(&self) {
        self.changed.notified().await;
    }

    /// Hears on every card, on a thread of its own.
    ///
    /// # Errors
    /// If the kernel has no such sockets.
    pub fn listen(self: &Arc<Self>) -> io::Result<()> {
        let protocol = Protocol::from(i32::from(LLDP.to_be()));
        let socket = Socket::new(Domain::PACKET, Type::RAW, Some(protocol))?;
        let here = Arc::clone(self);
        thread::Builder::new().name("neighbours".into()).spawn(move || here.hear(&socket)).map(drop)
    }

    fn hear(&self, socket: &Socket) {
        let mut frame = [0; MOST_FRAME];
        loop {
            let Ok((length, from)) = recvfrom::<LinkAddr>(socket.as_raw_fd(), &mut frame) else {
                // Of a card that went down just now.
                thread::sleep(PAUSE);
                continue;
            };
            let index = from.and_then(|from| u32::try_from(from.ifindex()).ok());
            let neighbour = frame.get(HEAD..length).map(Neighbour::parse);
            if let (Some(Ok(neighbour)), Some(index)) = (neighbour, index) {
                self.note(index, neighbour);
            }
        }
    }

    fn note(&self, index: u32, neighbour: Neighbour) {
        let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        if heard.get(&index) != Some(&neighbour) {
            heard.insert(index, neighbour);
            self.changed.notify_one();
        }
    }
}
