//! Webhooks: signed webhooks that tell others when an install ends.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
pub use signature::{Signed, sign};

use crate::{
    base::{Fault, Faults, name},
    model::{answers::Sealed, install::InstallState},
};

mod signature;

/// Longest URL that is taken.
const MOST_URL: usize = 2000;
/// Shortest signing key that is taken, in bytes (RFC 2104, section 3: no shorter than the hash's output).
const LEAST_KEY: usize = 32;
/// How long after each failed attempt the next is made; after the last of them, always so long.
const PAUSES: [SignedDuration; 6] = [
    SignedDuration::from_secs(5),
    SignedDuration::from_secs(15),
    SignedDuration::from_mins(1),
    SignedDuration::from_mins(5),
    SignedDuration::from_mins(15),
    SignedDuration::from_hours(1),
];

/// What is told.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
#[strum(parse_err_ty = String, parse_err_fn = unknown_event)]
pub enum WebhookEvent {
    /// An install reached its end well.
    Installed,
    /// An install failed.
    Failed,
    /// An install stalled.
    Stalled,
    /// An install was cancelled.
    Cancelled,
    /// The host that an install made started, and said what it is.
    Booted,
    /// Somebody tries whether deliveries arrive.
    Trial,
}

fn unknown_event(text: &str) -> String {
    format!("'{text}' is no event of an install")
}

impl WebhookEvent {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }

    /// What an install's end is told as; `None` while it goes on.
    #[must_use]
    pub const fn of_end(state: InstallState) -> Option<Self> {
        match state {
            InstallState::Installed => Some(Self::Installed),
            InstallState::Failed => Some(Self::Failed),
            InstallState::Stalled => Some(Self::Stalled),
            InstallState::Cancelled => Some(Self::Cancelled),
            InstallState::Armed | InstallState::Booting | InstallState::Installing => None,
        }
    }
}

/// Where ends of installs are told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Webhook {
    /// Its name.
    pub name: String,
    /// Where to and what; without its key.
    pub draft: WebhookDraft,
    /// The key that deliveries are signed with, sealed.
    pub key: Sealed,
}

/// Where a webhook goes, as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WebhookDraft {
    /// Where to, by HTTP or HTTPS.
    pub url: String,
    /// What is told; everything but trials if it is left out.
    #[serde(default = "WebhookDraft::all_events")]
    pub events: Vec<WebhookEvent>,
    /// The key that deliveries are signed with, at least 32 characters. Left out, the one it has stays; for a new
    /// webhook one is made and shown once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

impl WebhookDraft {
    /// Everything that is told of installs.
    #[must_use]
    pub fn all_events() -> Vec<WebhookEvent> {
        use WebhookEvent::{Booted, Cancelled, Failed, Installed, Stalled};
        vec![Installed, Failed, Stalled, Cancelled, Booted]
    }

    /// Checks it under `name`.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, name: &str) -> Result<(), Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(name), name::THING_NAME_FIX);
        let rest = self.url.strip_prefix("https://").or_else(|| self.url.strip_prefix("http://"));
        let is_plain = |c: char| c.is_ascii_graphic() && c != '#';
        let host = rest.map(|rest| rest.split(['/', '?']).next().unwrap_or_default());
        if host.is_none_or(|host| host.is_empty() || host.contains('@'))
            || !self.url.chars().all(is_plain)
            || self.url.len() > MOST_URL
        {
            let fix = "Give http:// or https:// with a host, as in https://records.gannet.example/installs; no user, \
                        no fragment.";
            faults.add("url", format!("'{}' is no URL to send to", self.url), fix);
        }
        if self.events.is_empty() || self.events.contains(&WebhookEvent::Trial) {
            let fix = "Name some of installed, failed, stalled, cancelled, booted.";
            faults.add("events", "nothing would ever be told by it", fix);
        }
        if self.key.as_ref().is_some_and(|key| key.len() < LEAST_KEY || !key.chars().all(is_plain)) {
            let fix =
                "Give at least 32 characters of letters, digits and signs, or leave it out to have one made.";
            faults.add("key", "the key is too short, or has blanks", fix);
        }
        faults.into_result(|| Some(()))
    }
}

/// When a delivery is tried again that failed `attempts` times, the last time at `now`. It is never abandoned: who keeps
/// the books on the other side gets them whole.
#[must_use]
pub fn next_attempt(attempts: u32, now: Timestamp) -> Timestamp {
    let place = usize::try_from(attempts.saturating_sub(1)).unwrap_or(usize::MAX).min(PAUSES.len() - 1);
    now + PAUSES[place]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attempts_grow_rarer_and_never_end() {
        let after = |attempts| next_attempt(attempts, Timestamp::UNIX_EPOCH).as_second();
        assert_eq!([1, 2, 3, 6, 7, 900].map(after), [5, 15, 60, 3600, 3600, 3600]);
    }

    #[test]
    fn all_that_is_wrong_is_said_at_once() {
        let draft = WebhookDraft { url: "ftp://x".into(), events: vec![], key: Some("short".into()) };
        let faults = draft.check("no name").unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        assert_eq!(places, ["name", "url", "events", "key"]);
        let with =
            |url: &str| WebhookDraft { url: url.into(), events: WebhookDraft::all_events(), key: None };
        for url in
            ["http://", "https:///x", "https://ada@records.gannet.example/", "http://a b/", "http://a/#x"]
        {
            assert_eq!(with(url).check("records").unwrap_err()[0].place, "url", "{url}");
        }
        with("https://records.gannet.example:8443/installs?site=quay").check("records").unwrap();
    }
}
