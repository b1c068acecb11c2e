//! What machines did on the wire: the story of each, what it means, and its export.
//!
//! An event keeps the packets themselves, and everything that is said about it is read from them when somebody
//! asks. [`TraceBook`] keeps events in bounds, [`boots`] cuts a machine's events into power-ons, [`diagnose`]
//! explains what went wrong, [`compare`] lays two boots beside each other, [`pcapng`] writes them for other tools.

pub use book::{Bounds, TraceBook};
pub use boots::{boots, last_boot};
pub use compare::{Comparison, Pair, compare};
pub use diagnosis::{Case, Diagnosis, diagnose};
pub use event::{
    AgentEvent, AgentSeen, Course, Datagram, Decision, DhcpExchange, FIRST_PACKETS, FileRequest,
    ForeignReply, LAST_PACKETS, PACKET_KEPT, Report, Role, Seen, Silence, TraceEvent, TransferEnd, Wire,
};
pub use pcapng::pcapng;
pub use words::Mark;

mod book;
mod boots;
mod compare;
mod diagnosis;
mod event;
mod pcapng;
mod words;
