//! One thing that happened between a machine and the service.

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    time::Duration,
};

use jiff::Timestamp;
use lastmile_formats::{architecture::Architecture, dhcp::Message, tftp::Terms};
use serde::{Deserialize, Serialize};

use crate::{
    decide::{
        boot::{Action, BootPlan, Why},
        dhcp::{NoReply, NoSubnet},
    },
    model::install::ReportStage,
};

/// Which part of the service saw it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Wire {
    /// DHCP.
    Dhcp,
    /// TFTP.
    Tftp,
    /// The boot listener.
    Http,
}

/// One thing that happened between a machine and the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TraceEvent {
    /// Its place among all events of the service, for whoever follows.
    pub number: u64,
    /// When it began.
    pub at: Timestamp,
    /// What it was.
    pub seen: Seen,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum Seen {
    /// A DHCP message and what came of it.
    Dhcp(Box<DhcpExchange>),
    /// Another DHCP server's reply, heard on the wire.
    Foreign(Box<ForeignReply>),
    /// A file that was asked for.
    File(Box<FileRequest>),
    /// A report.
    Report(Box<Report>),
    /// What happened on the connection of the survey's agent.
    Agent(Box<AgentSeen>),
}

/// What happened on the connection of the survey's agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AgentSeen {
    /// From where.
    pub from: SocketAddrV4,
    /// This service's end.
    pub to: SocketAddrV4,
    /// What.
    pub what: AgentEvent,
    /// More of it, in words.
    pub text: String,
}

/// What can happen on the connection of the survey's agent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum AgentEvent {
    /// It connected.
    Connected,
    /// It was refused.
    Refused,
    /// It reported what it measured.
    Surveyed,
    /// A job began or ended.
    Job,
    /// It was told to end.
    Finished,
    /// The connection broke.
    Gone,
}

/// A UDP datagram as it was on the wire.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Datagram {
    /// When.
    pub at: Timestamp,
    /// From where.
    pub from: SocketAddrV4,
    /// Where to.
    pub to: SocketAddrV4,
    /// Its payload, or the beginning of it.
    pub payload: Box<[u8]>,
    /// How long the payload was on the wire.
    pub length: usize,
}

/// What a boot plan comes to, as far as it matters for what happens next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Course {
    /// An installer, which will fetch its answers.
    Install,
    /// Nothing, because nobody registered the machine.
    NewcomerLeft,
    /// Anything else.
    Other,
}

/// What was decided for the machine, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decision {
    /// What it comes to.
    pub course: Course,
    /// What it gets.
    pub gets: String,
    /// Why.
    pub why: String,
}

impl From<&BootPlan<'_>> for Decision {
    fn from(plan: &BootPlan<'_>) -> Self {
        let course = match (&plan.action, &plan.why) {
            (Action::Install { .. }, _) => Course::Install,
            (Action::Nothing, Why::Newcomer(..)) => Course::NewcomerLeft,
            _ => Course::Other,
        };
        Self { course, gets: plan.summary(), why: plan.why.to_string() }
    }
}

/// Why a message got no answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Silence {
    /// No subnet is there for it.
    Subnet(NoSubnet),
    /// The subnet leaves it unanswered.
    Reply(NoReply),
    /// The lease could not be kept on disk.
    NotKept(String),
    /// Every address that was tried for was in use by somebody else.
    AllInUse(u32),
}

/// A DHCP message and what came of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DhcpExchange {
    /// The message.
    pub request: Datagram,
    /// The reply, if one was sent.
    pub reply: Option<Datagram>,
    /// The subnet it was taken for.
    pub subnet: Option<String>,
    /// What was decided.
    pub decision: Option<Decision>,
    /// What is to be said beside: why there is no loader, which addresses were in use.
    pub remark: Option<String>,
    /// Why there was no reply.
    pub silence: Option<Silence>,
    /// Whether the answer should have named a loader, and none is there for this firmware.
    pub lacks_loader: Option<Architecture>,
}

impl DhcpExchange {
    /// The message, read.
    #[must_use]
    pub fn request(&self) -> Option<Message> {
        Message::parse(&self.request.payload).ok()
    }

    /// The reply, read.
    #[must_use]
    pub fn reply(&self) -> Option<Message> {
        Message::parse(&self.reply.as_ref()?.payload).ok()
    }
}

/// Another DHCP server's reply.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForeignReply {
    /// The reply.
    pub reply: Datagram,
    /// The server that sent it: its identifier, else its address.
    pub server: Ipv4Addr,
    /// Whether another server is expected there: the subnet's mode is `proxy`.
    pub expected: bool,
}

/// What a file is in the boot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Role {
    /// The file that firmware is told to fetch.
    Loader(Architecture),
    /// A file that a loader asks for beside itself.
    BesideLoader,
    /// The menu.
    Menu,
    /// A kernel.
    Kernel,
    /// An initrd.
    Initrd,
    /// Another file of an image.
    ImageFile,
    /// The answer file.
    Answers,
    /// Nothing that is served.
    Unknown,
}

/// How a request for a file ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum TransferEnd {
    /// The whole file, or the part that was asked for, was delivered.
    Done,
    /// The client only wanted to know the size.
    Probed,
    /// Nothing is served by that name.
    NotFound {
        /// The name that is most like it, of those that are served.
        nearest: Option<String>,
        /// The loader asks for it and does without.
        optional: bool,
    },
    /// It was refused.
    Refused(String),
    /// The client broke it off.
    BrokenOff(String),
    /// The client fell silent.
    Stalled,
    /// The service could not read the file.
    Unreadable(String),
}

/// A file that was asked for, and how that ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FileRequest {
    /// By TFTP or HTTP.
    pub wire: Wire,
    /// Who asked.
    pub from: SocketAddrV4,
    /// This service's end.
    pub to: SocketAddrV4,
    /// The name as it was asked for.
    pub path: String,
    /// The HTTP method; `None` by TFTP.
    pub method: Option<String>,
    /// What the HTTP client calls itself.
    pub agent: Option<String>,
    /// Whether it came by HTTPS.
    pub secure: bool,
    /// What it is in the boot.
    pub role: Role,
    /// What was served, for a person.
    pub what: String,
    /// What was decided, where the file depends on the boot plan.
    pub decision: Option<Decision>,
    /// How it ended.
    pub end: TransferEnd,
    /// Bytes of the file, or of the part that was asked for.
    pub size: u64,
    /// Bytes that the client has, as far as it said.
    pub delivered: u64,
    /// How long it took.
    pub took: Duration,
    /// The terms of a TFTP transfer.
    pub terms: Option<Terms>,
    /// Blocks that were sent again.
    pub retransmitted: u64,
    /// The first and last packets of a TFTP transfer, data cut short.
    pub packets: Vec<Datagram>,
    /// How many packets between the first [`FIRST_PACKETS`] and the last ones were not kept.
    pub left_out: u64,
}

/// How many of a transfer's first packets are kept.
pub const FIRST_PACKETS: usize = 6;
/// How many of its last packets are kept.
pub const LAST_PACKETS: usize = 4;
/// Bytes of a packet's payload that are kept.
pub const PACKET_KEPT: usize = 64;

impl FileRequest {
    /// A request for `path` that has just come: nothing is known of it yet, and nothing delivered.
    #[must_use]
    pub fn new(wire: Wire, from: SocketAddrV4, to: SocketAddrV4, path: impl Into<String>) -> Self {
        Self {
            wire,
            from,
            to,
            path: path.into(),
            method: None,
            agent: None,
            secure: false,
            role: Role::Unknown,
            what: String::new(),
            decision: None,
            end: TransferEnd::Done,
            size: 0,
            delivered: 0,
            took: Duration::ZERO,
            terms: None,
            retransmitted: 0,
            packets: Vec::new(),
            left_out: 0,
        }
    }

    /// Bytes a second, once something was delivered.
    #[must_use]
    pub fn rate(&self) -> Option<f64> {
        (self.delivered > 0).then(|| self.delivered as f64 / self.took.as_secs_f64().max(1e-6))
    }
}

/// A report of an installer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// From where.
    pub from: SocketAddrV4,
    /// This service's end.
    pub to: SocketAddrV4,
    /// What it reports.
    pub stage: ReportStage,
    /// What it says beside.
    pub text: Option<String>,
    /// The install it is of.
    pub install: i64,
}

impl TraceEvent {
    /// On which wire it was.
    #[must_use]
    pub fn wire(&self) -> Wire {
        match &self.seen {
            Seen::Dhcp(_) | Seen::Foreign(_) => Wire::Dhcp,
            Seen::File(file) => file.wire,
            Seen::Report(_) | Seen::Agent(_) => Wire::Http,
        }
    }

    /// Bytes that it occupies, about.
    #[must_use]
    pub fn weight(&self) -> usize {
        let datagram = |datagram: &Datagram| size_of::<Datagram>() + datagram.payload.len();
        let decision = |decision: &Option<Decision>| {
            decision.as_ref().map_or(0, |decision| decision.gets.len() + decision.why.len())
        };
        size_of::<Self>()
            + match &self.seen {
                Seen::Dhcp(dhcp) => {
                    size_of::<DhcpExchange>()
                        + datagram(&dhcp.request)
                        + dhcp.reply.as_ref().map_or(0, datagram)
                        + decision(&dhcp.decision)
                        + dhcp.remark.as_ref().map_or(0, String::len)
                }
                Seen::Foreign(foreign) => size_of::<ForeignReply>() + datagram(&foreign.reply),
                Seen::File(file) => {
                    size_of::<FileRequest>()
                        + file.path.len()
                        + file.what.len()
                        + file.agent.as_ref().map_or(0, String::len)
                        + decision(&file.decision)
                        + file.packets.iter().map(datagram).sum::<usize>()
                }
                Seen::Report(report) => size_of::<Report>() + report.text.as_ref().map_or(0, String::len),
                Seen::Agent(agent) => size_of::<AgentSeen>() + agent.text.len(),
            }
    }
}
