//! The driver: a log-in for each thing that is to be done, over UDP, where anything may be lost.

use std::{net::SocketAddr, time::Duration};

use lastmile_formats::ipmi::{
    BootDevice, BootFlags, Control, Request, chassis_is_on, done, speaks_rmcp_plus,
};
use tokio::{
    net::UdpSocket,
    time::{Instant, timeout_at},
};

use super::{
    cipher::Suite,
    packet::{Answer, Packet, PacketError, message, outside_as_before},
    session::{LogIn, OPERATOR, Session, Step},
};
use crate::{Account, Driver, Failure, NextBoot, Power, Switch};

/// Largest datagram that is taken.
const MOST: usize = 2048;
/// How long an answer is waited for before the question is sent again: slow controllers take a second or two. After the last of these it
/// is given up.
const WAITS: [Duration; 4] = [
    Duration::from_millis(1000),
    Duration::from_millis(1500),
    Duration::from_millis(2500),
    Duration::from_millis(4000),
];

/// A controller that speaks IPMI 2.0.
#[derive(Debug, Clone)]
pub struct Ipmi {
    address: SocketAddr,
    account: Account,
}

impl Ipmi {
    /// The controller at an address, by one of its accounts.
    #[must_use]
    pub const fn new(address: SocketAddr, account: Account) -> Self {
        Self { address, account }
    }

    /// Logs in by the strongest suite that the controller has.
    async fn log_in(&self) -> Result<Connection, Failure> {
        // One that is not there is not waited for twice.
        self.greet().await?;
        match Connection::open(self, Suite::Seventeen).await {
            // Some say nothing at all of a suite that they do not know.
            Err(Failure::Unsupported(_) | Failure::Silent(_)) => Connection::open(self, Suite::Three).await,
            other => other,
        }
    }

    /// Asks, before anybody is named, whether it is a controller that speaks IPMI 2.0.
    async fn greet(&self) -> Result<(), Failure> {
        let answer =
            exchange(&connect(self.address).await?, &mut Greeting(Request::capabilities(OPERATOR))).await?;
        match done(&answer.body) {
            Some(data) if speaks_rmcp_plus(data) => Ok(()),
            Some(_) => Err(Failure::Unsupported("it speaks IPMI 1.5, which sends passwords in clear".into())),
            None => Err(Failure::Refused("to say how one logs in".into())),
        }
    }

    /// Asks one thing, in a session of its own.
    async fn ask(&self, request: &Request) -> Result<Vec<u8>, Failure> {
        let mut connection = self.log_in().await?;
        let answer = connection.ask(request).await;
        connection.close().await;
        answer
    }
}

/// A session with a controller.
struct Connection {
    socket: UdpSocket,
    session: Session,
    user: String,
    number: u8,
}

impl Connection {
    async fn open(to: &Ipmi, suite: Suite) -> Result<Self, Failure> {
        let socket = connect(to.address).await?;
        let (log_in, says) = LogIn::begin(suite, to.account.clone(), random_number()?, random()?)?;
        let mut step = LoggingIn { log_in, says };
        let session = loop {
            match exchange(&socket, &mut step).await? {
                Step::Send(next) => step.says = next,
                Step::In(session) => break session,
                Step::Nothing => {}
            }
        };
        let mut connection = Self { socket, session, user: to.account.user.clone(), number: 0 };
        match connection.ask(&Request::privilege(OPERATOR)).await {
            Ok(_) => Ok(connection),
            Err(failure) => {
                connection.close().await;
                Err(failure)
            }
        }
    }

    /// Asks; gives what follows the completion code.
    async fn ask(&mut self, request: &Request) -> Result<Vec<u8>, Failure> {
        self.number = self.number.wrapping_add(1);
        let question = &mut Question { session: &mut self.session, request, number: self.number };
        let answer = exchange(&self.socket, question).await?;
        match done(&answer.body) {
            Some(data) => Ok(data.to_vec()),
            None => Err(self.refused(answer.body.first().copied().unwrap_or_default())),
        }
    }

    /// Ends the session: a controller has room for few.
    async fn close(mut self) {
        if let Ok(begin) = random() {
            let ends = Request::close_session(self.session.id());
            let datagram = self.session.seal(&ends, self.number.wrapping_add(1), begin);
            // It ends by itself otherwise, after a minute.
            let _ = self.socket.send(&datagram).await;
        }
    }

    /// What a completion code means (table 5-2).
    fn refused(&self, code: u8) -> Failure {
        match code {
            0xc0 | 0xc3 | 0xce | 0xcf | 0xd0 | 0xd1 | 0xd2 => {
                Failure::Busy(format!("completion code {code:#04x}"))
            }
            0xc1 | 0xc2 | 0xc9 | 0xcc | 0xcd | 0xd6 => {
                Failure::Unsupported(format!("completion code {code:#04x}"))
            }
            0xd4 => {
                Failure::LogIn { user: self.user.clone(), why: "it may not do this over the network".into() }
            }
            0xd5 => Failure::Refused("not in the state in which it is (completion code 0xd5)".into()),
            other => Failure::Refused(format!("completion code {other:#04x}")),
        }
    }
}

/// A socket that hears that address alone.
async fn connect(to: SocketAddr) -> Result<UdpSocket, Failure> {
    let any = if to.is_ipv4() { [0; 4].into() } else { [0; 16].into() };
    let socket = UdpSocket::bind(SocketAddr::new(any, 0)).await.map_err(unreachable)?;
    socket.connect(to).await.map_err(unreachable)?;
    Ok(socket)
}

/// One exchange with a controller.
trait Talk {
    /// What comes of it.
    type Outcome;

    /// What is sent, at each try.
    fn says(&mut self) -> Result<Vec<u8>, Failure>;

    /// What a packet that arrived makes of it; nothing if it is of something else.
    fn takes(&mut self, packet: &Packet<'_>) -> Result<Option<Self::Outcome>, Failure>;
}

/// A question outside of any session.
struct Greeting(Request);

impl Talk for Greeting {
    type Outcome = Answer;

    fn says(&mut self) -> Result<Vec<u8>, Failure> {
        Ok(outside_as_before(&message(&self.0, 0)))
    }

    fn takes(&mut self, packet: &Packet<'_>) -> Result<Option<Answer>, Failure> {
        Ok(Answer::parse(packet.payload).ok().filter(|answer| answer.is_to(&self.0, 0)))
    }
}

/// A step of the log-in.
struct LoggingIn {
    log_in: LogIn,
    says: Vec<u8>,
}

impl Talk for LoggingIn {
    type Outcome = Step;

    fn says(&mut self) -> Result<Vec<u8>, Failure> {
        Ok(self.says.clone())
    }

    fn takes(&mut self, packet: &Packet<'_>) -> Result<Option<Step>, Failure> {
        Ok(match self.log_in.handle(packet)? {
            Step::Nothing => None,
            step => Some(step),
        })
    }
}

/// A question within a session. One that is repeated has its number again: a controller that did it already need not do it twice.
struct Question<'a> {
    session: &'a mut Session,
    request: &'a Request,
    number: u8,
}

impl Talk for Question<'_> {
    type Outcome = Answer;

    fn says(&mut self) -> Result<Vec<u8>, Failure> {
        Ok(self.session.seal(self.request, self.number, random()?))
    }

    fn takes(&mut self, packet: &Packet<'_>) -> Result<Option<Answer>, Failure> {
        Ok(self.session.open(packet).filter(|answer| answer.is_to(self.request, self.number)))
    }
}

/// Says it until something comes of it, or for too long.
async fn exchange<T: Talk>(socket: &UdpSocket, talk: &mut T) -> Result<T::Outcome, Failure> {
    let mut garbled: Option<PacketError> = None;
    let mut buffer = vec![0; MOST];
    for wait in WAITS {
        socket.send(&talk.says()?).await.map_err(unreachable)?;
        let until = Instant::now() + wait;
        while let Ok(received) = timeout_at(until, socket.recv(&mut buffer)).await {
            let length = received.map_err(unreachable)?;
            match Packet::parse(&buffer[..length]) {
                Ok(packet) => {
                    if let Some(taken) = talk.takes(&packet)? {
                        return Ok(taken);
                    }
                }
                Err(error) => garbled = Some(error),
            }
        }
    }
    Err(match garbled {
        Some(error) => Failure::Garbled(error.to_string()),
        None => Failure::Silent(WAITS.iter().sum()),
    })
}

fn unreachable(error: std::io::Error) -> Failure {
    Failure::Unreachable(error.to_string())
}

fn random() -> Result<[u8; 16], Failure> {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(|error| Failure::Unreachable(error.to_string()))?;
    Ok(bytes)
}

/// A number of a session, which is not 0.
fn random_number() -> Result<u32, Failure> {
    let [a, b, c, d, ..] = random()?;
    Ok(u32::from_le_bytes([a | 1, b, c, d]))
}

impl Driver for Ipmi {
    async fn power(&self) -> Result<Power, Failure> {
        let status = self.ask(&Request::chassis_status()).await?;
        let is_on =
            chassis_is_on(&status).ok_or_else(|| Failure::Garbled("the state of its power".into()))?;
        Ok(if is_on { Power::On } else { Power::Off })
    }

    async fn switch(&self, switch: Switch) -> Result<(), Failure> {
        let control = match switch {
            Switch::On => Control::On,
            Switch::Off => Control::Off,
            Switch::ShutDown => Control::ShutDown,
            // Off and on of what is off is refused by some.
            Switch::Cycle => match self.power().await? {
                Power::On => Control::Cycle,
                Power::Off => Control::On,
            },
        };
        self.ask(&Request::chassis_control(control)).await.map(drop)
    }

    async fn boot_next(&self, next: Option<NextBoot>, is_uefi: bool) -> Result<(), Failure> {
        let device = match next {
            None => None,
            Some(NextBoot::Network) => Some(BootDevice::Network),
            Some(NextBoot::Disk) => Some(BootDevice::Disk),
            Some(NextBoot::Disc) => Some(BootDevice::Disc),
            Some(NextBoot::Setup) => Some(BootDevice::Setup),
            Some(NextBoot::Http) => {
                return Err(Failure::Unsupported("IPMI has no word for HTTP boot; Redfish has".into()));
            }
        };
        let mut connection = self.log_in().await?;
        // It holds until the machine starts, also if that takes more than a minute, and by whatever hand. Not every controller has this.
        let kept = connection.ask(&Request::keep_boot_flags()).await;
        let set = match kept {
            Err(error @ Failure::Silent(_)) => Err(error),
            _ => connection.ask(&Request::set_boot(BootFlags { device, is_uefi })).await,
        };
        connection.close().await;
        set.map(drop)
    }

    async fn next_boot(&self) -> Result<Option<NextBoot>, Failure> {
        let said = self.ask(&Request::boot()).await?;
        let flags = BootFlags::read(&said).ok_or_else(|| Failure::Garbled("its boot flags".into()))?;
        Ok(flags.device.map(|device| match device {
            BootDevice::Network => NextBoot::Network,
            BootDevice::Disk => NextBoot::Disk,
            BootDevice::Disc => NextBoot::Disc,
            BootDevice::Setup => NextBoot::Setup,
        }))
    }
}
