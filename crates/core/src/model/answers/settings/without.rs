//! Which settings of the layers below a layer removes.

use crate::base::Fault;

/// Checks the paths that a layer takes away: each is one that settings can have.
pub(crate) fn check_without(without: &[String]) -> Vec<Fault> {
    const KEYS: [&str; 19] = [
        "locale",
        "keyboard",
        "time_zone",
        "ntp",
        "host_name",
        "domain",
        "proxy",
        "network",
        "root",
        "users",
        "storage",
        "software",
        "security",
        "kernel_parameters",
        "last_steps",
        "first_boot",
        "at_end",
        "questions",
        "formats",
    ];
    let unknown = without.iter().enumerate().filter(|(_, path)| {
        let head = path.split('.').next().unwrap_or_default();
        !KEYS.contains(&head) || path.split('.').any(str::is_empty)
    });
    let fault = |(index, path): (usize, &String)| Fault {
        place: format!("without[{index}]"),
        what: format!("'{path}' is no path of a setting"),
        fix: "Write the keys joined by dots, as in users.purser or network.dns.".into(),
    };
    unknown.map(fault).collect()
}
