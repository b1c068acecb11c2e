//! A DHCP server of somebody else: hands out one address, and perhaps a boot file of its own.

use std::{
    io,
    net::{Ipv4Addr, UdpSocket},
    sync::atomic::{AtomicBool, Ordering},
};

use lastmile_formats::dhcp::{Kind, Message, Op, code};

use crate::relay::{receive, socket};

/// A DHCP server of somebody else.
#[derive(Debug)]
pub struct ForeignServer {
    socket: UdpSocket,
    /// Its own address.
    pub address: Ipv4Addr,
    /// The address it hands out.
    pub lends: Ipv4Addr,
    /// The next server and the boot file that it names.
    pub boot: Option<(Ipv4Addr, String)>,
}

impl ForeignServer {
    /// A server on the wire of `interface`, on which it has `address`. It is made in the network namespace that the
    /// calling thread is in, and stays there.
    ///
    /// # Errors
    /// That the port cannot be had; it needs root.
    pub fn open(interface: &str, address: Ipv4Addr, lends: Ipv4Addr) -> io::Result<Self> {
        Ok(Self { socket: socket(Ipv4Addr::UNSPECIFIED, 67, Some(interface))?, address, lends, boot: None })
    }

    /// Answers until `stop` is set.
    ///
    /// # Errors
    /// That the socket failed.
    pub fn run(&self, stop: &AtomicBool) -> io::Result<()> {
        let mut buffer = [0; 2048];
        while !stop.load(Ordering::Relaxed) {
            let Some(length) = receive(&self.socket, &mut buffer)? else { continue };
            let Ok(request) = Message::parse(&buffer[..length]) else { continue };
            if let Some(reply) = self.answer(&request) {
                self.socket.send_to(&reply.emit(), (Ipv4Addr::BROADCAST, 68))?;
            }
        }
        Ok(())
    }

    fn answer(&self, request: &Message) -> Option<Message> {
        let kind = match request.kind {
            Kind::Discover => Kind::Offer,
            Kind::Request => Kind::Ack,
            _ => return None,
        };
        let chosen = request.options.address(code::SERVER_IDENTIFIER);
        if request.op != Op::Request || chosen.is_some_and(|chosen| chosen != self.address) {
            return None;
        }
        let mut reply = Message::reply_to(request, kind);
        reply.yiaddr = self.lends;
        let options = &mut reply.options;
        options.set(code::SERVER_IDENTIFIER, self.address.octets());
        options.set(code::SUBNET_MASK, [255, 255, 255, 0]);
        options.set(code::LEASE_TIME, 3600_u32.to_be_bytes());
        if let Some((next_server, file)) = &self.boot {
            reply.siaddr = *next_server;
            reply.file = file.clone().into_bytes();
        }
        Some(reply)
    }
}
