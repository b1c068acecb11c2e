//! A DHCP client as behind a relay, both on this host: it needs no right, because the reply comes to the relay's own
//! port (RFC 8357).

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    time::Duration,
};

use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, Op, RelayInfo, code},
    mac::Mac,
};
use tokio::{net::UdpSocket, time::timeout};

use crate::SimError;

/// First wait for an answer; doubled at each further try (RFC 2131, section 4.1).
const PATIENCE: Duration = Duration::from_secs(4);
/// How often one question is asked.
const TRIES: u32 = 4;
/// What firmware asks for.
const PXE_OPTIONS: [u8; 10] = [1, 3, 6, 12, 15, 43, 60, 66, 67, 97];
/// What an installer asks for.
const INSTALLER_OPTIONS: [u8; 7] = [1, 3, 6, 12, 15, 28, 42];

/// Who asks.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Asking {
    /// Firmware of this architecture.
    Firmware(Architecture),
    /// A system that was started, of this vendor class: an installer, what it made, the survey.
    RunningSystem(&'static str),
}

/// What was granted.
#[derive(Debug, Clone)]
pub(crate) struct Grant {
    pub(crate) address: Ipv4Addr,
    pub(crate) next_server: Ipv4Addr,
    pub(crate) file: String,
}

/// A client and its relay.
#[derive(Debug)]
pub(crate) struct Relayed {
    socket: UdpSocket,
    server: SocketAddrV4,
    relay: Ipv4Addr,
    link: Ipv4Addr,
    mac: Mac,
}

impl Relayed {
    /// `relay` is the address of this host that the relay has, `link` its address on the machine's subnet (RFC 3527), `server`
    /// the service's port for relays.
    pub(crate) async fn open(
        mac: Mac,
        server: SocketAddrV4,
        relay: Ipv4Addr,
        link: Ipv4Addr,
    ) -> Result<Self, SimError> {
        let socket = UdpSocket::bind((relay, 0)).await?;
        Ok(Self { socket, server, relay, link, mac })
    }

    /// The four-packet exchange. `xid` tells this exchange from others.
    pub(crate) async fn lease(&self, asking: Asking, xid: u32) -> Result<Grant, SimError> {
        let discover = self.message(Kind::Discover, xid, asking);
        let offer = self.ask(&discover).await?;
        let mut request = self.message(Kind::Request, xid, asking);
        request.options.set(code::REQUESTED_ADDRESS, offer.yiaddr.octets());
        if let Some(server) = offer.options.get(code::SERVER_IDENTIFIER) {
            request.options.set(code::SERVER_IDENTIFIER, server);
        }
        let ack = self.ask(&request).await?;
        if ack.kind == Kind::Nak {
            let why = ack.options.text(code::MESSAGE).unwrap_or_default();
            return Err(SimError::Refused { address: offer.yiaddr, why });
        }
        Ok(Grant {
            address: ack.yiaddr,
            next_server: ack.siaddr,
            file: String::from_utf8_lossy(&ack.file).into_owned(),
        })
    }

    fn message(&self, kind: Kind, xid: u32, asking: Asking) -> Message {
        let mut message = Message::request(kind, xid, self.mac);
        message.hops = 1;
        message.giaddr = self.relay;
        let options = &mut message.options;
        match asking {
            Asking::Firmware(architecture) => {
                let class = format!("PXEClient:Arch:{:05}:UNDI:003000", architecture.code());
                options.set(code::VENDOR_CLASS, class.into_bytes());
                options.set(code::CLIENT_ARCHITECTURE, architecture.code().to_be_bytes());
                options.set(code::CLIENT_INTERFACE, [1, 3, 0]);
                options.set(code::PARAMETER_REQUEST_LIST, PXE_OPTIONS);
                message.set_broadcast();
            }
            Asking::RunningSystem(class) => {
                // Another identifier than the firmware's, as the real one sends.
                let identifier: Vec<u8> = [1].into_iter().chain(self.mac.octets()).collect();
                options.set(code::CLIENT_IDENTIFIER, identifier);
                options.set(code::VENDOR_CLASS, class.as_bytes());
                options.set(code::PARAMETER_REQUEST_LIST, INSTALLER_OPTIONS);
            }
        }
        let info = RelayInfo {
            circuit_id: Some(b"simulated".to_vec()),
            link_selection: Some(self.link),
            uses_source_port: true,
            ..RelayInfo::default()
        };
        message.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
        message
    }

    async fn ask(&self, message: &Message) -> Result<Message, SimError> {
        let bytes = message.emit();
        let mut buffer = vec![0; 4096];
        for attempt in 0..TRIES {
            self.socket.send_to(&bytes, self.server).await?;
            let wait = async {
                loop {
                    let (length, _) = self.socket.recv_from(&mut buffer).await?;
                    match Message::parse(&buffer[..length]) {
                        Ok(reply) if reply.op == Op::Reply && reply.xid == message.xid => {
                            return Ok::<_, std::io::Error>(reply);
                        }
                        _ => {}
                    }
                }
            };
            if let Ok(reply) = timeout(PATIENCE * 2_u32.pow(attempt), wait).await {
                return Ok(reply?);
            }
        }
        Err(SimError::Silence { asked: message.kind, tries: TRIES })
    }
}
