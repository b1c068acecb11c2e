//! Each component of the service uses the parts that it needs, and no other component unless it is written here.

use crate::modules::{ring, uses};

/// What knows of no part of the service; anything may use it.
const TOOLS: [&str; 7] = ["clock", "config", "limits", "link", "random", "surroundings", "sync"];

/// What each part and component may use beside the tools.
const MAY_USE: [(&str, &[&str]); 17] = [
    ("library", &[]),
    ("packaged", &["library"]),
    ("work", &[]),
    ("wire", &[]),
    ("records", &["wire", "library"]),
    ("installs", &["records", "wire"]),
    ("rules", &["records", "installs"]),
    ("jobs", &["records", "rules"]),
    ("webhook", &["records"]),
    ("intake", &["records", "library", "work"]),
    ("dhcp", &["records", "wire"]),
    ("boot", &["records", "wire", "library", "installs"]),
    ("survey", &["records", "wire", "library", "work", "boot", "jobs", "rules"]),
    ("tftp", &["records", "wire", "library", "boot"]),
    // The parts together, for those who get all of them.
    ("app", &["records", "wire", "library", "work", "boot", "dhcp", "intake", "survey"]),
    ("check", &["app", "records", "wire", "library", "start", "boot", "dhcp", "rules"]),
    (
        "admin",
        &[
            "app", "records", "wire", "library", "work", "boot", "check", "installs", "intake", "packaged",
            "jobs", "rules", "start", "survey",
        ],
    ),
];

#[test]
fn each_component_uses_only_its_parts() {
    let uses = uses("server", |module| module.first().cloned());
    let known = |part: &str| {
        TOOLS.contains(&part) || part == "start" || MAY_USE.iter().any(|(name, _)| *name == part)
    };
    for (part, used) in &uses {
        assert!(
            known(part),
            "'{part}' has no place among the parts of the service: see docs/architecture.md"
        );
        let may = MAY_USE.iter().find(|(name, _)| name == part).map(|(_, may)| *may);
        // Whoever starts the service uses all of it; a tool uses only tools.
        let Some(may) = may.or_else(|| TOOLS.contains(&part.as_str()).then_some(&[])) else { continue };
        for (other, file) in used.iter().filter(|(other, _)| known(other)) {
            assert!(
                TOOLS.contains(&other.as_str()) || may.contains(&other.as_str()),
                "{part} uses {other}, which it is not given, in {}",
                file.display()
            );
        }
    }
    assert!(uses.len() > 15, "nothing was looked at: {uses:?}");
    let mut apart = uses;
    // Starting hands out what listens where, and uses everything.
    apart.remove("start");
    assert_eq!(ring(&apart), None, "these use each other in a ring");
}
