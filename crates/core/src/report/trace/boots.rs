//! A machine's events, cut into power-ons.

use std::sync::Arc;

use jiff::SignedDuration;
use lastmile_formats::dhcp::Kind;

use super::{Seen, TraceEvent};

/// Firmware asks again within this time, after ever longer pauses (4, 8, 16, 32 s); later it is another power-on.
const SAME_QUESTION: SignedDuration = SignedDuration::from_secs(60);

/// Another server's answer may be on record so long before the question that it is to: both are heard at once, on sockets
/// of their own.
const AHEAD: SignedDuration = SignedDuration::from_secs(1);

/// Cuts events, oldest first, where firmware begins anew: at a DHCPDISCOVER of firmware that does not merely repeat
/// the one before it. What came before the first is a part of its own.
#[must_use]
pub fn boots(events: &[Arc<TraceEvent>]) -> Vec<&[Arc<TraceEvent>]> {
    let mut parts = Vec::new();
    let mut begin = 0;
    let mut asking: Option<&TraceEvent> = None;
    for (index, event) in events.iter().enumerate() {
        let discovers = is_firmware_discover(event);
        if discovers {
            let repeats = asking.is_some_and(|before| event.at.duration_since(before.at) < SAME_QUESTION);
            if !repeats {
                let ahead = events[begin..index].iter().rev().take_while(|earlier| {
                    matches!(earlier.seen, Seen::Foreign(_)) && event.at.duration_since(earlier.at) < AHEAD
                });
                let first = index - ahead.count();
                if first > begin {
                    parts.push(&events[begin..first]);
                    begin = first;
                }
            }
        }
        asking = match &event.seen {
            _ if discovers => Some(event),
            // Another server's word on the same question.
            Seen::Foreign(_) => asking,
            _ => None,
        };
    }
    if begin < events.len() {
        parts.push(&events[begin..]);
    }
    parts
}

/// The events since the machine was last switched on.
#[must_use]
pub fn last_boot(events: &[Arc<TraceEvent>]) -> &[Arc<TraceEvent>] {
    boots(events).pop().unwrap_or_default()
}

fn is_firmware_discover(event: &TraceEvent) -> bool {
    let Seen::Dhcp(dhcp) = &event.seen else { return false };
    dhcp.request().is_some_and(|request| request.kind == Kind::Discover && request.firmware().is_some())
}

#[cfg(test)]
mod tests {
    use super::{super::diagnosis::stories::*, *};

    #[test]
    fn a_repeated_question_is_the_same_boot_and_a_later_one_another() {
        let mut story = Story::new();
        story.discover().after(4).discover().after(8).discover().after(1).request().loader().menu();
        story.after(300).discover().request();
        let lengths: Vec<usize> = boots(&story.events).iter().map(|part| part.len()).collect();
        assert_eq!(lengths, [6, 2]);
        assert_eq!(last_boot(&story.events).len(), 2);
        assert!(last_boot(&[]).is_empty());
    }

    #[test]
    fn another_servers_answer_belongs_to_the_question_that_it_was_heard_just_before() {
        let mut story = Story::new();
        story.discover().request().after(300).discover().foreign(false);
        let last = story.events.len() - 1;
        story.events.swap(last, last - 1);
        assert_eq!(last_boot(&story.events).len(), 2, "both, in whichever order they came");
        let at = story.events[0].at;
        Arc::make_mut(&mut story.events[last - 1]).at = at;
        assert_eq!(last_boot(&story.events).len(), 1, "an answer of long ago is of another boot");
    }
}
