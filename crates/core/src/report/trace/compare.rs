//! Two boots beside each other: one that failed, one that worked.

use std::sync::Arc;

use lastmile_formats::dhcp::Message;
use serde::{Deserialize, Serialize};
use similar::{Algorithm, DiffOp, capture_diff_slices};

use super::{Role, Seen, TraceEvent, TransferEnd};

/// One line of the comparison: an event of each, or of one only.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pair {
    /// The number of the event on the left.
    pub left: Option<u64>,
    /// The number of the event on the right.
    pub right: Option<u64>,
    /// Whether both did the same.
    pub same: bool,
}

/// Two boots beside each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Comparison {
    /// The lines in order.
    pub pairs: Vec<Pair>,
    /// The first line on which they differ.
    pub first_difference: Option<usize>,
    /// That difference, in words.
    pub says: String,
}

/// Lays two boots beside each other. What differs between any two machines does not count: addresses, names, times,
/// the number of tries.
#[must_use]
pub fn compare(left: &[Arc<TraceEvent>], right: &[Arc<TraceEvent>]) -> Comparison {
    let (left, right) = (once(left), once(right));
    let keys =
        |events: &[(&TraceEvent, String)]| events.iter().map(|(_, key)| key.clone()).collect::<Vec<_>>();
    let (left_keys, right_keys) = (keys(&left), keys(&right));
    let mut pairs = Vec::new();
    let number =
        |events: &[(&TraceEvent, String)], index: usize| events.get(index).map(|(event, _)| event.number);
    for op in capture_diff_slices(Algorithm::Myers, &left_keys, &right_keys) {
        match op {
            DiffOp::Equal { old_index, new_index, len } => pairs.extend((0..len).map(|step| Pair {
                left: number(&left, old_index + step),
                right: number(&right, new_index + step),
                same: true,
            })),
            DiffOp::Delete { old_index, old_len, .. } => pairs.extend((0..old_len).map(|step| Pair {
                left: number(&left, old_index + step),
                right: None,
                same: false,
            })),
            DiffOp::Insert { new_index, new_len, .. } => pairs.extend((0..new_len).map(|step| Pair {
                left: None,
                right: number(&right, new_index + step),
                same: false,
            })),
            DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                pairs.extend((0..old_len.max(new_len)).map(|step| Pair {
                    left: (step < old_len).then(|| number(&left, old_index + step)).flatten(),
                    right: (step < new_len).then(|| number(&right, new_index + step)).flatten(),
                    same: false,
                }));
            }
        }
    }
    let first_difference = pairs.iter().position(|pair| !pair.same);
    let text = |events: &[(&TraceEvent, String)], number: Option<u64>| {
        let event = events.iter().find(|(event, _)| Some(event.number) == number);
        event.map_or_else(
            || "nothing more".into(),
            |(event, _)| format!("{} → {}", event.asked(), event.got()),
        )
    };
    let says = match first_difference.and_then(|index| pairs.get(index)) {
        Some(pair) => format!("left: {}\nright: {}", text(&left, pair.left), text(&right, pair.right)),
        None if pairs.is_empty() => "there is nothing to compare".into(),
        None => "both did the same".into(),
    };
    Comparison { pairs, first_difference, says }
}

/// The events, repeated ones once: tries are a matter of timing.
fn once(events: &[Arc<TraceEvent>]) -> Vec<(&TraceEvent, String)> {
    let mut kept: Vec<(&TraceEvent, String)> = Vec::new();
    for event in events {
        let key = key(event);
        if kept.last().is_none_or(|(_, last)| *last != key) {
            kept.push((event, key));
        }
    }
    kept
}

/// What an event was, without what differs between machines.
fn key(event: &TraceEvent) -> String {
    match &event.seen {
        Seen::Dhcp(dhcp) => {
            let kind = |message: Option<Message>| {
                message.map_or_else(String::new, |message| message.kind.to_string())
            };
            let firmware = dhcp.request().and_then(|request| request.firmware());
            let class = match firmware {
                Some(firmware) => firmware.to_string(),
                None => dhcp.request().and_then(|request| request.class()).unwrap_or_default(),
            };
            let relayed = dhcp.request().is_some_and(|request| !request.giaddr.is_unspecified());
            let told = dhcp.reply().is_some_and(|reply| !reply.file.is_empty());
            format!("dhcp {} {class} {relayed} {} {told}", kind(dhcp.request()), kind(dhcp.reply()))
        }
        Seen::Foreign(foreign) => format!("foreign {}", foreign.expected),
        Seen::File(file) => {
            let name = match &file.role {
                Role::Menu | Role::Answers => String::new(),
                _ => file.path.rsplit('/').next().unwrap_or_default().to_lowercase(),
            };
            let end = match &file.end {
                TransferEnd::Done => "done",
                TransferEnd::Probed => "probed",
                TransferEnd::NotFound { .. } => "not found",
                TransferEnd::Refused(_) => "refused",
                TransferEnd::BrokenOff(_) => "broken off",
                TransferEnd::Stalled => "stalled",
                TransferEnd::Unreadable(_) => "unreadable",
            };
            format!("file {:?} {} {name} {end}", file.wire, file.role.word())
        }
        Seen::Report(report) => format!("report {}", report.stage),
        Seen::Agent(agent) => format!("survey {:?}", agent.what),
    }
}

#[cfg(test)]
mod tests {
    use super::{super::diagnosis::stories::Story, *};

    #[test]
    fn the_first_difference_is_marked_and_said() {
        let mut failed = Story::new();
        failed.discover().after(4).discover().request().loader();
        failed.file("linux", Role::Kernel, TransferEnd::Stalled);
        let mut worked = Story::new();
        worked.after(1000).discover().request().loader().menu().kernel();
        let comparison = compare(&failed.events, &worked.events);
        let same: Vec<bool> = comparison.pairs.iter().map(|pair| pair.same).collect();
        assert_eq!(same, [true, true, true, false, false], "{comparison:?}");
        assert_eq!(comparison.first_difference, Some(3));
        assert!(
            comparison.says.contains("left: TFTP linux")
                && comparison.says.contains("right: TFTP grub/grub.cfg")
        );
    }

    #[test]
    fn two_machines_that_did_the_same_are_the_same() {
        let mut one = Story::new();
        one.discover().request().loader().menu();
        let mut other = Story::new();
        other.after(50).discover().after(4).discover().request().loader().menu();
        let comparison = compare(&one.events, &other.events);
        assert_eq!((comparison.first_difference, comparison.says.as_str()), (None, "both did the same"));
    }
}
