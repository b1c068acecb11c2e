//! The arrows between the crates point one way (docs/architecture.md), and the core stays free of IO.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

mod coverage;
mod layers;
mod modules;
mod parts;
mod ports;

use std::collections::{BTreeMap, BTreeSet, HashMap};

use cargo_metadata::{DependencyKind, MetadataCommand, PackageId};

/// What each crate may use of ours.
const ARROWS: [(&str, &[&str]); 12] = [
    ("lastmile-formats", &[]),
    ("lastmile-survey", &["lastmile-formats"]),
    ("lastmile-core", &["lastmile-formats", "lastmile-survey"]),
    ("lastmile-store", &["lastmile-core", "lastmile-formats"]),
    ("lastmile-api", &["lastmile-core", "lastmile-formats"]),
    ("lastmile-sim", &["lastmile-core", "lastmile-agent", "lastmile-survey", "lastmile-formats"]),
    ("lastmile-agent", &["lastmile-survey", "lastmile-formats"]),
    ("lastmile-bmc", &["lastmile-formats"]),
    ("lastmile-client", &["lastmile-api"]),
    ("lastmile-server", &["lastmile-store", "lastmile-api", "lastmile-core", "lastmile-formats"]),
    (
        "lastmile",
        &[
            "lastmile-server",
            "lastmile-sim",
            "lastmile-client",
            "lastmile-api",
            "lastmile-core",
            "lastmile-agent",
            "lastmile-bmc",
            "lastmile-survey",
            "lastmile-formats",
        ],
    ),
    ("lastmile-fuzz", &["lastmile-sim", "lastmile-bmc", "lastmile-core", "lastmile-formats"]),
];

/// What would bring sockets, disks, databases, threads of an executor or a log into the core.
const NOT_IN_CORE: [&str; 8] = ["tokio", "async-std", "mio", "socket2", "diesel", "hyper", "axum", "tracing"];

#[test]
fn arrows_point_one_way() {
    let metadata = MetadataCommand::new().exec().unwrap();
    let allowed: BTreeMap<&str, BTreeSet<&str>> =
        ARROWS.iter().map(|(name, uses)| (*name, uses.iter().copied().collect())).collect();
    for package in metadata.workspace_packages() {
        let name = package.name.as_str();
        let may = allowed.get(name).unwrap_or_else(|| panic!("{name} has no place in the architecture"));
        for dependency in package.dependencies.iter().filter(|d| d.name.starts_with("lastmile")) {
            assert!(may.contains(dependency.name.as_str()), "{name} must not use {}", dependency.name);
        }
    }
    assert_eq!(metadata.workspace_packages().len(), ARROWS.len());
}

#[test]
fn the_core_is_free_of_io() {
    let metadata = MetadataCommand::new().exec().unwrap();
    let names: HashMap<&PackageId, &str> =
        metadata.packages.iter().map(|package| (&package.id, package.name.as_str())).collect();
    let nodes: HashMap<_, _> = metadata.resolve.as_ref().unwrap().nodes.iter().map(|n| (&n.id, n)).collect();
    let core = metadata.packages.iter().find(|package| package.name.as_str() == "lastmile-core").unwrap();
    let mut waiting = vec![&core.id];
    let mut seen = BTreeSet::new();
    while let Some(id) = waiting.pop() {
        if !seen.insert(id) {
            continue;
        }
        assert!(!NOT_IN_CORE.contains(&names[id]), "the core uses {}", names[id]);
        let normal = nodes[id]
            .deps
            .iter()
            .filter(|dependency| dependency.dep_kinds.iter().any(|kind| kind.kind == DependencyKind::Normal));
        waiting.extend(normal.map(|dependency| &dependency.pkg));
    }
    assert!(seen.len() > 5, "nothing was looked at");
}
