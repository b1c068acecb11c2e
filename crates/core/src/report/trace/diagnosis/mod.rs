//! What a machine's events mean: the faults that practitioners hit, recognised from the packets.
//!
//! A case is a function from one boot to what was found in it; [`CASES`] lists them in the order in which a person
//! should read them. To add one: a variant of [`Case`], a function in `address.rs`, `files.rs` or `system.rs`, a line in [`CASES`], and a test with
//! packets made for it.

use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use lastmile_formats::dhcp::Message;
use serde::{Deserialize, Serialize};

use super::{DhcpExchange, FileRequest, Role, Seen, TraceEvent, TransferEnd, last_boot};

mod address;
mod files;
#[cfg(test)]
#[path = "stories_tests.rs"]
pub(in crate::report::trace) mod stories;
mod system;

/// What was recognised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Case {
    /// Questions reach the service and get no answer.
    NotAnswered,
    /// Nobody registered the machine, and its subnet leaves newcomers alone.
    NewcomerIgnored,
    /// No loader is there for its architecture.
    NoLoader,
    /// Offers are sent and never requested.
    OffersNeverRequested,
    /// The machine takes another server's offer.
    OtherServerChosen,
    /// A second DHCP server answers on the wire.
    SecondServer,
    /// What the machine asks for is refused.
    Refused,
    /// The address it was given is in use by somebody else.
    AddressInUse,
    /// It fetches a loader of another architecture.
    WrongLoader,
    /// A file that it needs is not there.
    FileNotFound,
    /// A transfer stopped in the middle.
    TransferStalled,
    /// The loader was fetched, and no menu was asked for.
    NoMenuAsked,
    /// The kernel was fetched, and its system never asked for an address.
    NoSecondLease,
    /// The survey's agent has its address, and is not connected: it never was, or was refused.
    AgentNotConnected,
    /// The installer has its address, and never fetched its answers.
    AnswersNeverFetched,
    /// The same install begins again and again.
    InstallRepeats,
}

/// What was seen, what it means, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Diagnosis {
    /// What was recognised.
    pub case: Case,
    /// When the event was that shows it.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// The number of that event.
    pub event: u64,
    /// What was seen.
    pub seen: String,
    /// What it means.
    pub means: String,
    /// What to do.
    pub fix: String,
}

impl Diagnosis {
    /// All of it in one line.
    #[must_use]
    pub fn sentence(&self) -> String {
        format!("{}; {}. {}", self.seen, self.means, self.fix)
    }
}

/// One case's search.
type Search = fn(&Boot<'_>) -> Option<Diagnosis>;

/// Every case, what stops a boot earlier before what stops it later.
const CASES: [Search; 16] = [
    address::not_answered,
    address::newcomer_ignored,
    address::second_server,
    address::other_server_chosen,
    address::no_loader,
    address::address_in_use,
    address::refused,
    address::offers_never_requested,
    files::wrong_loader,
    files::file_not_found,
    files::transfer_stalled,
    files::no_menu_asked,
    system::no_second_lease,
    system::agent_not_connected,
    system::answers_never_fetched,
    system::install_repeats,
];

/// Explains the last boot in `events` (oldest first), as it stands at `now`. Nothing found is no promise that all is
/// well.
#[must_use]
pub fn diagnose(events: &[Arc<TraceEvent>], now: Timestamp) -> Vec<Diagnosis> {
    let boot = Boot { events: last_boot(events), all: events, now };
    CASES.iter().filter_map(|search| search(&boot)).collect()
}

/// What a case looks at.
struct Boot<'a> {
    /// The events since the last power-on.
    events: &'a [Arc<TraceEvent>],
    /// All events of the machine.
    all: &'a [Arc<TraceEvent>],
    now: Timestamp,
}

/// A DHCP exchange with its messages read.
struct Exchange<'a> {
    event: &'a TraceEvent,
    dhcp: &'a DhcpExchange,
    request: Message,
    reply: Option<Message>,
}

impl<'a> Boot<'a> {
    fn exchanges(&self) -> impl Iterator<Item = Exchange<'a>> {
        self.events.iter().filter_map(|event| match &event.seen {
            Seen::Dhcp(dhcp) => Some(Exchange { event, dhcp, request: dhcp.request()?, reply: dhcp.reply() }),
            _ => None,
        })
    }

    fn files(&self) -> impl DoubleEndedIterator<Item = (&'a TraceEvent, &'a FileRequest)> {
        self.events.iter().map(|event| &**event).filter_map(|event: &TraceEvent| match &event.seen {
            Seen::File(file) => Some((event, file.as_ref())),
            _ => None,
        })
    }

    /// The last file of a role that the machine has whole.
    fn delivered(&self, role: fn(&Role) -> bool) -> Option<(&'a TraceEvent, &'a FileRequest)> {
        self.files().rev().find(|(_, file)| role(&file.role) && file.end == TransferEnd::Done)
    }

    /// The events after one of them.
    fn after(&self, event: &TraceEvent) -> impl Iterator<Item = &'a TraceEvent> {
        let place = self.events.iter().position(|other| other.number == event.number);
        self.events.iter().skip(place.map_or(usize::MAX, |place| place + 1)).map(AsRef::as_ref)
    }

    /// How long ago an event was.
    fn since(&self, event: &TraceEvent) -> SignedDuration {
        self.now.duration_since(event.at)
    }
}

impl Diagnosis {
    fn new(
        case: Case,
        event: &TraceEvent,
        seen: impl Into<String>,
        means: impl Into<String>,
        fix: impl Into<String>,
    ) -> Self {
        Self {
            case,
            at: event.at,
            event: event.number,
            seen: seen.into(),
            means: means.into(),
            fix: fix.into(),
        }
    }
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
