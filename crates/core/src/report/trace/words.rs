//! An event in words: what the machine asked, what it got, and why.

use std::fmt::Write;

use lastmile_formats::{
    architecture::Fetches,
    dhcp::{Kind, Message, code},
};
use serde::{Deserialize, Serialize};

use super::{AgentEvent, DhcpExchange, FileRequest, Role, Seen, Silence, TraceEvent, TransferEnd, Wire};
use crate::{
    base::size_text,
    decide::dhcp::{BOOT_SERVER_PORT, NoReply},
};

/// How an event stands in its story.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Mark {
    /// As it should be.
    Good,
    /// Nothing came of it, and nothing should.
    Quiet,
    /// Somebody should look.
    Trouble,
}

impl TraceEvent {
    /// What the machine asked.
    #[must_use]
    pub fn asked(&self) -> String {
        match &self.seen {
            Seen::Dhcp(dhcp) => {
                dhcp.request().map_or_else(|| "DHCP".into(), |request| dhcp_asked(dhcp, &request))
            }
            Seen::Foreign(foreign) => format!("DHCP server {} answers it", foreign.server),
            Seen::File(file) => match (&file.method, file.wire) {
                (Some(method), _) => {
                    let scheme = if file.secure { " by HTTPS" } else { "" };
                    format!("{method} {}{scheme}", file.path)
                }
                (None, Wire::Tftp) => format!("TFTP {}", file.path),
                (None, _) => file.path.clone(),
            },
            Seen::Report(report) => format!("report {}", report.stage),
            Seen::Agent(agent) => match agent.what {
                AgentEvent::Connected | AgentEvent::Refused => "survey's agent connects".into(),
                AgentEvent::Surveyed => "report of a survey".into(),
                AgentEvent::Job => "job of the survey's agent".into(),
                AgentEvent::Finished => "survey's agent waits".into(),
                AgentEvent::Gone => "survey's agent goes".into(),
            },
        }
    }

    /// What it got, or why it got nothing.
    #[must_use]
    pub fn got(&self) -> String {
        match &self.seen {
            Seen::Dhcp(dhcp) => dhcp_got(dhcp),
            Seen::Foreign(foreign) => match Message::parse(&foreign.reply.payload) {
                Ok(reply) if reply.yiaddr.is_unspecified() => reply.kind.to_string(),
                Ok(reply) => format!("{} of {}{}", reply.kind, reply.yiaddr, told(&reply)),
                Err(_) => "a reply that cannot be read".into(),
            },
            Seen::File(file) => file_got(file),
            Seen::Report(report) => match &report.text {
                Some(text) => format!("taken, install {}: {text}", report.install),
                None => format!("taken, install {}", report.install),
            },
            Seen::Agent(agent) => agent.text.clone(),
        }
    }

    /// Why: the boot plan's reason, where one was asked for.
    #[must_use]
    pub fn why(&self) -> Option<String> {
        let decision = match &self.seen {
            Seen::Dhcp(dhcp) => dhcp.decision.as_ref(),
            Seen::File(file) => file.decision.as_ref(),
            Seen::Foreign(_) | Seen::Report(_) | Seen::Agent(_) => None,
        };
        decision.map(|decision| format!("{}: {}", decision.gets, decision.why))
    }

    /// How it stands in its story.
    #[must_use]
    pub fn mark(&self) -> Mark {
        match &self.seen {
            Seen::Dhcp(dhcp) => match &dhcp.silence {
                Some(silence) if silence.is_expected() => Mark::Quiet,
                Some(_) => Mark::Trouble,
                None if dhcp.lacks_loader.is_some() => Mark::Trouble,
                None => {
                    match (dhcp.request().map(|request| request.kind), dhcp.reply().map(|reply| reply.kind)) {
                        (Some(Kind::Decline), _) | (_, Some(Kind::Nak)) => Mark::Trouble,
                        _ => Mark::Good,
                    }
                }
            },
            Seen::Foreign(foreign) if foreign.expected => Mark::Quiet,
            Seen::Foreign(_) => Mark::Trouble,
            Seen::File(file) => match &file.end {
                TransferEnd::Done => Mark::Good,
                TransferEnd::Probed | TransferEnd::NotFound { optional: true, .. } => Mark::Quiet,
                TransferEnd::NotFound { .. }
                | TransferEnd::Refused(_)
                | TransferEnd::BrokenOff(_)
                | TransferEnd::Stalled
                | TransferEnd::Unreadable(_) => Mark::Trouble,
            },
            Seen::Report(report) if report.stage == crate::model::install::ReportStage::Failed => {
                Mark::Trouble
            }
            Seen::Report(_) => Mark::Good,
            Seen::Agent(agent) => match agent.what {
                AgentEvent::Refused => Mark::Trouble,
                AgentEvent::Gone => Mark::Quiet,
                AgentEvent::Connected | AgentEvent::Surveyed | AgentEvent::Job | AgentEvent::Finished => {
                    Mark::Good
                }
            },
        }
    }
}

impl Silence {
    /// Whether silence is right there, so that nobody need look.
    #[must_use]
    pub fn is_expected(&self) -> bool {
        matches!(
            self,
            Self::Reply(
                NoReply::OtherHandsOut { .. }
                    | NoReply::NothingToAdd { .. }
                    | NoReply::NotAuthoritative { .. }
            )
        )
    }
}

impl std::fmt::Display for Silence {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Subnet(why) => write!(f, "{why}"),
            Self::Reply(why) => write!(f, "{why}"),
            Self::NotKept(why) => write!(f, "the lease could not be kept: {why}"),
            Self::AllInUse(tried) => write!(f, "all of {tried} addresses that were tried for are in use"),
        }
    }
}

fn dhcp_asked(dhcp: &DhcpExchange, request: &Message) -> String {
    let mut text = request.kind.to_string();
    if let Some(firmware) = request.firmware() {
        let _ = write!(text, " from {firmware} firmware");
    } else if let Some(class) = request.class() {
        let _ = write!(text, " from {class}");
    }
    if dhcp.request.to.port() == BOOT_SERVER_PORT {
        text.push_str(" to the boot server");
    }
    let wanted = request.options.address(code::REQUESTED_ADDRESS);
    let has = Some(request.ciaddr).filter(|address| !address.is_unspecified());
    if let Some(address) = wanted {
        let _ = write!(text, " for {address}");
    } else if let Some(address) = has {
        let _ = write!(text, " at {address}");
    }
    if !request.giaddr.is_unspecified() {
        let _ = write!(text, " by relay {}", request.giaddr);
        if let Some(circuit) = request.relay_info().and_then(|info| info.circuit_id) {
            let _ = write!(text, ", circuit {}", printable(&circuit));
        }
    }
    text
}

/// Text as it is, other bytes in hexadecimal.
fn printable(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) if !text.chars().any(char::is_control) => text.into(),
        _ => hex::encode(bytes),
    }
}

fn told(reply: &Message) -> String {
    let file = match reply.options.text(code::BOOT_FILE_NAME) {
        Some(file) => file,
        None => String::from_utf8_lossy(&reply.file).into_owned(),
    };
    if file.is_empty() { String::new() } else { format!(", to fetch {file}") }
}

fn dhcp_got(dhcp: &DhcpExchange) -> String {
    let mut text = match (&dhcp.silence, dhcp.reply()) {
        (Some(silence), _) => format!("no answer: {silence}"),
        (None, None) => match dhcp.request().map(|request| (request.kind, request)) {
            Some((Kind::Decline, request)) => {
                let address = request.options.address(code::REQUESTED_ADDRESS);
                format!("{} is left alone: the machine found it in use", address.unwrap_or(request.ciaddr))
            }
            Some((_, request)) => format!("{} given back", request.ciaddr),
            None => "noted".into(),
        },
        (None, Some(reply)) => {
            let on = dhcp.subnet.as_ref().map(|subnet| format!(" on {subnet}")).unwrap_or_default();
            match reply.kind {
                Kind::Nak => {
                    format!("{}: {}", reply.kind, reply.options.text(code::MESSAGE).unwrap_or_default())
                }
                kind if reply.yiaddr.is_unspecified() => {
                    format!("{kind} without an address{on}{}", told(&reply))
                }
                kind => format!("{kind} of {}{on}{}", reply.yiaddr, told(&reply)),
            }
        }
    };
    if let Some(remark) = &dhcp.remark {
        let _ = write!(text, "; {remark}");
    }
    text
}

fn file_got(file: &FileRequest) -> String {
    match &file.end {
        TransferEnd::Done => {
            let mut text = format!("{}, {}", file.what, size_text(file.size));
            if let Some(terms) = file.terms {
                let _ = write!(text, ", blksize {}, windowsize {}", terms.blksize, terms.windowsize);
            }
            if let Some(rate) = file.rate().filter(|_| file.size >= 10_000) {
                let _ = write!(text, ", {:.1} MB/s", rate / 1e6);
            }
            if file.retransmitted > 0 {
                let _ = write!(text, ", {} blocks sent again", file.retransmitted);
            }
            text
        }
        TransferEnd::Probed => format!("{}: only its size was asked, {}", file.what, size_text(file.size)),
        TransferEnd::NotFound { optional: true, .. } => "not there, and not needed".into(),
        TransferEnd::NotFound { nearest: Some(nearest), .. } => {
            format!("nothing is served by that name; the nearest is {nearest}")
        }
        TransferEnd::NotFound { nearest: None, .. } => "nothing is served by that name".into(),
        TransferEnd::Refused(why) => format!("refused: {why}"),
        TransferEnd::BrokenOff(why) => {
            format!(
                "{}: broken off after {} of {}: {why}",
                file.what,
                size_text(file.delivered),
                size_text(file.size)
            )
        }
        TransferEnd::Stalled => {
            let mut text = format!(
                "{}: the machine fell silent after {} of {}",
                file.what,
                size_text(file.delivered),
                size_text(file.size)
            );
            if let Some(terms) = file.terms {
                let _ = write!(
                    text,
                    " (blksize {}, windowsize {}, {} blocks sent again)",
                    terms.blksize, terms.windowsize, file.retransmitted
                );
            }
            text
        }
        TransferEnd::Unreadable(why) => format!("{}: cannot be read: {why}", file.what),
    }
}

impl Role {
    /// What it is, for a person.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::Loader(_) => "loader",
            Self::BesideLoader => "file beside the loader",
            Self::Menu => "menu",
            Self::Kernel => "kernel",
            Self::Initrd => "initrd",
            Self::ImageFile => "file of the image",
            Self::Answers => "answer file",
            Self::Unknown => "unknown file",
        }
    }
}

impl DhcpExchange {
    /// Whether it is firmware that asks, by whatever way it fetches.
    #[must_use]
    pub fn is_from_firmware(&self) -> bool {
        self.request().is_some_and(|request| request.firmware().is_some())
    }

    /// Whether firmware asks that boots by HTTP.
    #[must_use]
    pub fn boots_by_http(&self) -> bool {
        let firmware = self.request().and_then(|request| request.firmware());
        firmware.is_some_and(|firmware| firmware.fetches == Fetches::Http)
    }
}
