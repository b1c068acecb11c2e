//! What the machine's screens show: who it is, where it is, what it is doing, what it is waiting for.

use std::fmt;

use tokio::sync::watch;

use crate::network::Addressed;

/// What is shown.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Shown {
    /// What is said to people who look for the machine.
    pub here: Option<String>,
    /// What people call the machine.
    pub machine: Option<String>,
    /// What it is: vendor, product, serial number.
    pub hardware: Option<String>,
    /// The card that is used.
    pub card: Option<String>,
    /// Its address, and whom it is from.
    pub address: Option<Addressed>,
    /// What an address waits for.
    pub network: Option<String>,
    /// Where the service is, and whether it is connected.
    pub service: Option<String>,
    /// What is going on.
    pub doing: String,
    /// What is waited for.
    pub waits_for: Option<String>,
    /// What is in the machine, a line each.
    pub listing: Vec<String>,
    /// What went wrong, and is worth a look.
    pub faults: Vec<String>,
}

/// Lines of what is in the machine that are shown: a screen has 25.
const MOST_LISTED: usize = 11;

/// Faults that are shown: the last ones.
const MOST_FAULTS: usize = 5;

/// The one place that everything tells how it is; the screens follow it.
#[derive(Debug, Clone)]
pub struct Status(watch::Sender<Shown>);

impl Default for Status {
    fn default() -> Self {
        Self(watch::Sender::new(Shown::default()))
    }
}

impl Status {
    /// Follows what is shown.
    #[must_use]
    pub fn follow(&self) -> watch::Receiver<Shown> {
        self.0.subscribe()
    }

    /// Who the machine is.
    pub fn machine(&self, machine: Option<String>) {
        self.set(|shown| shown.machine = machine);
    }

    /// What it is.
    pub fn hardware(&self, hardware: String) {
        self.set(|shown| shown.hardware = Some(hardware));
    }

    pub(crate) fn card(&self, name: &str) {
        self.set(|shown| shown.card = Some(name.into()));
    }

    pub(crate) fn address(&self, address: Option<Addressed>) {
        self.set(|shown| shown.address = address);
    }

    pub(crate) fn network(&self, waits_for: &str) {
        self.set(|shown| shown.network = Some(waits_for.into()));
    }

    pub(crate) fn service(&self, service: String) {
        self.set(|shown| shown.service = Some(service));
    }

    /// What is going on.
    pub fn doing(&self, what: &str) {
        self.set(|shown| shown.doing = what.into());
    }

    /// What is said to people who look for the machine, while they do.
    pub fn here(&self, text: Option<String>) {
        self.set(|shown| shown.here = text);
    }

    /// What is waited for.
    pub fn waits_for(&self, what: &str) {
        self.set(|shown| shown.waits_for = Some(what.into()));
    }

    /// What is in the machine.
    pub fn listing(&self, mut lines: Vec<String>) {
        if lines.len() > MOST_LISTED {
            let more = lines.len() - (MOST_LISTED - 1);
            lines.truncate(MOST_LISTED - 1);
            lines.push(format!("and {more} more, which the service shows"));
        }
        self.set(|shown| shown.listing = lines);
    }

    /// What went wrong.
    pub fn fault(&self, what: String) {
        self.set(|shown| {
            if shown.faults.last() != Some(&what) {
                shown.faults.push(what);
            }
            let old = shown.faults.len().saturating_sub(MOST_FAULTS);
            shown.faults.drain(..old);
        });
    }

    fn set(&self, change: impl FnOnce(&mut Shown)) {
        self.0.send_if_modified(|shown| {
            let before = shown.clone();
            change(shown);
            *shown != before
        });
    }
}

/// Lines without anything but text: a serial line shows them as a screen does.
impl fmt::Display for Shown {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(here) = &self.here {
            let line = "#".repeat(here.chars().count() + 6);
            writeln!(f, "{line}\n## {here} ##\n{line}")?;
        }
        writeln!(f, "Last Mile survey")?;
        let mut row = |name: &str, value: &str| writeln!(f, "  {name:<10}{value}");
        row("machine", self.machine.as_deref().unwrap_or("not registered yet"))?;
        if let Some(hardware) = &self.hardware {
            row("hardware", hardware)?;
        }
        let on = self.card.as_ref().map(|card| format!(" on {card}")).unwrap_or_default();
        match (&self.address, &self.network) {
            (Some((address, from)), _) => row("address", &format!("{address}{on}, {from}"))?,
            (None, Some(waits_for)) => row("address", &format!("none{on} yet, waits for {waits_for}"))?,
            (None, None) => row("address", "none yet")?,
        }
        if let Some(service) = &self.service {
            row("service", service)?;
        }
        row("now", &self.doing)?;
        if let Some(waits_for) = &self.waits_for {
            row("waits for", waits_for)?;
        }
        for fault in &self.faults {
            row("fault", fault)?;
        }
        self.listing.iter().try_for_each(|line| writeln!(f, "  {line}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_person_at_the_machine_reads_who_it_is_and_what_it_waits_for() {
        let status = Status::default();
        let mut follows = status.follow();
        status.hardware("Marram Systems MS-20, serial 4711".into());
        status.card("eth0");
        status.doing("starting");
        status.network("an answer of a DHCP server");
        status.waits_for("orders");
        assert!(follows.has_changed().unwrap());
        assert_eq!(
            follows.borrow_and_update().to_string(),
            "Last Mile survey\n  machine   not registered yet\n  hardware  Marram Systems MS-20, serial 4711\n  \
             address   none on eth0 yet, waits for an answer of a DHCP server\n  now       starting\n  waits for orders\n"
        );
        status.listing(vec!["memory    512 MiB".into()]);
        assert!(
            follows.borrow_and_update().to_string().ends_with("  waits for orders\n  memory    512 MiB\n")
        );
        status.listing((0..30).map(|number| format!("disk      sd{number}")).collect());
        assert_eq!(follows.borrow_and_update().listing.len(), MOST_LISTED);
        assert_eq!(follows.borrow().listing.last().unwrap(), "and 20 more, which the service shows");
        status.waits_for("orders");
        assert!(!follows.has_changed().unwrap(), "nothing new is nothing to draw");
        for number in 0..9 {
            status.fault(format!("fault {number}"));
        }
        assert_eq!(follows.borrow().faults.len(), MOST_FAULTS);
    }
}
