//! The address of a packet socket.
//!
//! The one module with `unsafe`: the standard library and the packages used have no safe way to write
//! `struct sockaddr_ll` (packet(7)).

use std::io;

use socket2::SockAddr;

/// The packet-socket address of `mac` on interface `index`, for frames of `protocol` (an EtherType).
#[allow(unsafe_code)]
pub(super) fn link_address(index: u32, mac: [u8; 6], protocol: u16) -> io::Result<SockAddr> {
    let index = i32::try_from(index).map_err(io::Error::other)?;
    // SAFETY: `try_init` hands out a zeroed `sockaddr_storage`, which is at least as large and as strictly
    // aligned as `sockaddr_ll` (both hold for every address family by POSIX), and all-zero is a valid
    // `sockaddr_ll`. The length set is that of the structure written.
    let made = unsafe {
        SockAddr::try_init(|storage, length| {
            let address = &mut *storage.cast::<libc::sockaddr_ll>();
            address.sll_family = libc::AF_PACKET as libc::sa_family_t;
            address.sll_protocol = protocol.to_be();
            address.sll_ifindex = index;
            address.sll_halen = 6;
            address.sll_addr[..6].copy_from_slice(&mac);
            *length = size_of::<libc::sockaddr_ll>() as libc::socklen_t;
            Ok(())
        })
    };
    made.map(|((), address)| address)
}
