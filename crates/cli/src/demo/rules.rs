//! The demo's rules: what becomes of the machines that are surveyed at Tern Bay, and in which rack they are.

use std::collections::BTreeMap;

use lastmile_api::{BurnIn, LocationsImport, RuleDraft, RuleMode, Task};
use lastmile_client::Client;

use super::scenario::Site;
use crate::output::Failure;

/// Where the ports of the switch at Tern Bay end: kiosks on the bench's shelves, servers in the rack above them.
const LOCATIONS: &str = "\
switch,port,hall,row,rack,unit
sw-tern-1,Ethernet1/1,Tern Bay,A,r12,2-3
sw-tern-1,Ethernet1/2,Tern Bay,A,r12,4-5
sw-tern-1,Ethernet1/3,Tern Bay,A,r12,6-7
sw-tern-1,Ethernet1/4,Tern Bay,A,r12,20-21
sw-tern-1,Ethernet1/5,Tern Bay,A,r12,22-23
sw-tern-1,Ethernet1/6,Tern Bay,A,r12,24-25
sw-tern-1,Ethernet1/7,Tern Bay,A,r12,26-27
sw-tern-1,Ethernet1/48,Tern Bay,A,r12,40
";

/// Details of machines that somebody typed: they are in racks without a switch that says so.
pub(super) const PLACES: [(&str, [&str; 4]); 3] = [
    ("tern-gate-1", ["Tern Bay", "A", "r12", "40"]),
    ("holm-quay-server", ["Holm Quay", "A", "r01", "10-11"]),
    ("auklet-chart", ["Holm Quay", "A", "r01", "14"]),
];

/// Names, labels and places of what is surveyed. Servers are registered at once and do a burn-in, kiosks wait until somebody agrees.
pub(super) async fn fill(client: &Client) -> Result<(), Failure> {
    client.locations_import(&LocationsImport { csv: LOCATIONS.into(), replace: false }).await?;
    let servers = RuleDraft {
        mode: RuleMode::Apply,
        condition: "product == 'MS-40 server' and memory_gib >= 64 and location.rack == 'r12'".into(),
        labels: vec!["server".into()],
        details: BTreeMap::from([("switch_port".into(), "{{ switch }} {{ port }}".into())]),
        name: Some("tern-server-{{ counter }}".into()),
        address: Some(address(Site::TernBay, "{{ 20 + counter }}")),
        jobs: vec![Task::BurnIn(BurnIn { minutes: 5, ..BurnIn::default() })],
        ..RuleDraft::default()
    };
    let kiosks = RuleDraft {
        condition: "product == 'MK-8 kiosk' and memory_gib >= 8".into(),
        labels: vec!["kiosk".into()],
        name: Some("tern-kiosk-{{ counter | pad(2) }}".into()),
        ..RuleDraft::default()
    };
    let places = RuleDraft {
        rank: 50,
        mode: RuleMode::Apply,
        condition: "location.rack".into(),
        location: true,
        ..RuleDraft::default()
    };
    for (name, rule) in [("quay-servers", servers), ("ticket-kiosks", kiosks), ("places", places)] {
        client.rules_save(name, &rule).await?;
    }
    Ok(())
}

/// An address of a subnet whose last number is a pattern.
fn address(site: Site, last: &str) -> String {
    let network = site.host(0).to_string();
    format!("{}{last}", network.trim_end_matches('0'))
}
