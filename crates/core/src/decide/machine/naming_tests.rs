use jiff::Timestamp;

use super::*;
use crate::decide::{machine::MachineDraft, subnet::SubnetDraft};

/// Three kiosks, one other machine, and a subnet with the pool .100 to .199.
fn site() -> Site {
    let mut site = Site::default();
    let subnet: SubnetDraft = serde_json::from_value(serde_json::json!({
        "name": "holm-quay", "network": "192.0.2.0/24", "mode": "lease", "router": "192.0.2.1", "interface": "quay0",
        "pools": ["192.0.2.100-192.0.2.199"],
    }))
    .unwrap();
    site = site.with_subnet(subnet.check(crate::base::Id::generate(), &site, &[]).unwrap());
    for (name, mac, hall) in [
        ("b", "02:00:5e:00:53:03", "Holm Quay"),
        ("c", "02:00:5e:00:53:01", "Skerry / Point"),
        ("a", "02:00:5e:00:53:02", ""),
        ("auklet-chart", "02:00:5e:00:53:09", ""),
    ] {
        let mut draft = MachineDraft::new(name, vec![mac.into()]);
        draft.labels = if name.len() == 1 { vec!["kiosk".into()] } else { vec![] };
        draft.details.insert("hall".into(), hall.into());
        site = site.with_machine(draft.check(&site, None, Timestamp::UNIX_EPOCH).unwrap());
    }
    site
}

fn values(machine: &Machine) -> Values {
    Values {
        name: machine.name.clone(),
        mac: machine.macs.first().copied(),
        labels: machine.labels.clone(),
        details: machine.details.clone(),
        ..Values::example()
    }
}

fn draft(name: &str) -> NamingDraft {
    NamingDraft { labels: vec!["kiosk".into()], name: Some(name.into()), ..NamingDraft::default() }
}

fn apply(draft: &NamingDraft, site: &Site) -> Naming {
    draft.apply(site, values, &[Ipv4Addr::new(192, 0, 2, 2)]).unwrap()
}

fn names(naming: &Naming) -> Vec<(&str, &str)> {
    naming.rows.iter().map(|row| (row.machine.as_str(), row.name.as_str())).collect()
}

#[test]
fn machines_are_counted_in_the_order_that_is_asked_for() {
    let site = site();
    let by_name = apply(&draft("kiosk-{{ counter | pad(2) }}"), &site);
    assert_eq!(names(&by_name), [("a", "kiosk-01"), ("b", "kiosk-02"), ("c", "kiosk-03")]);
    assert!(by_name.is_fit());
    let by_mac =
        NamingDraft { count_by: CountBy::Mac, first: Some(10), step: Some(10), ..draft("k{{ counter }}") };
    assert_eq!(names(&apply(&by_mac, &site)), [("c", "k10"), ("a", "k20"), ("b", "k30")]);
    let given = NamingDraft {
        machines: vec!["c".into(), "a".into(), "c".into()],
        labels: vec![],
        count_by: CountBy::Given,
        ..draft("{{ name }}-{{ counter }}")
    };
    assert_eq!(names(&apply(&given, &site)), [("c", "c-1"), ("a", "a-2")]);
}

#[test]
fn clashes_and_names_that_are_none_are_marked_on_every_machine() {
    let site = site();
    let by_hall = apply(&draft("kiosk-{{ details.hall | slug }}"), &site);
    let problems: Vec<_> = by_hall.rows.iter().map(|row| row.problems.join("; ")).collect();
    assert_eq!(names(&by_hall)[2], ("c", "kiosk-skerry-point"));
    assert_eq!(problems, ["'kiosk-' has a part that begins or ends with a hyphen", "", ""]);
    assert!(by_hall.rows[2].notes[0].starts_with("longer than 15"));
    let same = apply(&draft("KIOSK"), &site);
    assert_eq!(same.rows[0].problems, ["b, c would be called so, too"]);
    let taken = apply(&draft("auklet-chart"), &site);
    assert_eq!(taken.rows[0].problems[0], "another machine is called auklet-chart");
    assert!(!taken.is_fit());
    let long = "x".repeat(64);
    assert!(apply(&draft(&long), &site).rows[0].problems[0].contains("more than 63"));
    let wrong = draft("{{ rack }}").apply(&site, values, &[]).unwrap_err();
    assert!(wrong[0].place == "name" && wrong[0].what.contains("at column 4"), "{wrong:?}");
    let nobody = NamingDraft::default().apply(&site, values, &[]).unwrap_err();
    assert_eq!(nobody[0].place, "name");
}

#[test]
fn names_may_change_hands_among_those_that_are_meant() {
    let site = site();
    // a gets b's name, b gets c's, c gets a's.
    let pattern = "{{ {'a': 'b', 'b': 'c', 'c': 'a'}[name] }}";
    let naming = apply(&draft(pattern), &site);
    assert!(naming.is_fit(), "{:#?}", naming.rows);
    let renamed = site.with_machines(naming.machines.clone());
    assert_eq!(renamed.machine_count(), 4);
    for machine in &naming.machines {
        assert_eq!(renamed.machine(&machine.name).unwrap().id, machine.id);
        assert_eq!(renamed.machine_by_mac(machine.macs[0]).unwrap().name, machine.name);
    }
}

#[test]
fn addresses_are_held_against_their_subnet_and_each_other() {
    let site = site();
    let with = |address: &str| NamingDraft { name: None, address: Some(address.into()), ..draft("") };
    let naming = apply(&with("192.0.2.{{ 19 + counter }}"), &site);
    assert!(naming.is_fit(), "{:#?}", naming.rows);
    let addresses: Vec<_> = naming.reservations.iter().map(|held| held.address.octets()[3]).collect();
    assert_eq!(addresses, [20, 21, 22]);
    let problem = |address: &str| apply(&with(address), &site).rows[1].problems.join("; ");
    assert!(problem("192.0.2.{{ 99 + counter }}").contains("in the pool"));
    assert!(problem("192.0.2.{{ counter }}").contains("this service's own address"));
    assert!(problem("192.0.2.20").contains("reserved for 02:00:5e:00:53:02 already"));
    assert!(problem("198.51.100.{{ counter }}").contains("lies in no subnet"));
    assert!(problem("quay").contains("no IPv4 address"));
    // What they have now is theirs to give away.
    let site = naming.reservations.iter().fold(site, |site, held| site.with_reservation(held.clone()));
    let turned = apply(&with("192.0.2.{{ 23 - counter }}"), &site);
    assert!(turned.is_fit(), "{:#?}", turned.rows);
    assert_eq!((turned.rows[0].former_address.as_deref(), turned.replaced.len()), (Some("192.0.2.20"), 3));
}
