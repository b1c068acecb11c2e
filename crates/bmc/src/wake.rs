//! Wake-on-LAN: a frame by which a network card switches its machine on.

use std::net::{Ipv4Addr, UdpSocket};

use lastmile_formats::mac::Mac;

/// The port that is written on the envelope; cards look at the content alone.
const DISCARD: u16 = 9;

/// What the card of that address looks for: six bytes of ones, then its address sixteen times.
#[must_use]
pub fn magic(mac: Mac) -> Vec<u8> {
    [&[0xff; 6][..], &mac.octets().repeat(16)].concat()
}

/// Sends it through the interface that has the address `from`, to everybody on its wire or to the broadcast address of the card's own
/// network, which a router may pass on. Nothing answers.
///
/// # Errors
/// That it could not be sent.
pub fn wake(mac: Mac, from: Ipv4Addr, to: Ipv4Addr) -> std::io::Result<()> {
    let socket = UdpSocket::bind((from, 0))?;
    socket.set_broadcast(true)?;
    socket.send_to(&magic(mac), (to, DISCARD)).map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_card_finds_its_address_sixteen_times() {
        let magic = magic("02:00:5e:00:53:01".parse().unwrap());
        assert_eq!((magic.len(), &magic[..8]), (102, &[255, 255, 255, 255, 255, 255, 2, 0][..]));
        assert_eq!(magic[96..], [2, 0, 0x5e, 0, 0x53, 1]);
    }
}
