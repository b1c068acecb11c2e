use jiff::Timestamp;

use super::{super::hosts, *};
use crate::{base::Id, decide::machine::MachineDraft, report::history::Left, site::Site};

fn at(secs: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + secs).unwrap()
}

/// An install of `image` that took so many seconds, `hours` after the first.
fn install(number: i64, image: &str, state: InstallState, hours: i64, took: i64) -> Recorded {
    let began = at(hours * 3600);
    Recorded {
        number,
        machine: Id::generate(),
        machine_name: format!("skerry-kiosk-{number}"),
        image: image.into(),
        image_revision: 1,
        answers: "kiosk".into(),
        answers_version: 1,
        state,
        armed_by: "ada".into(),
        armed_at: began,
        booting_at: Some(began),
        ended_at: (!state.is_open()).then(|| at(hours * 3600 + took)),
        labels: vec!["kiosk".into(), "skerry".into()],
        subnet: Some("holm-quay".into()),
        is_stateless: false,
    }
}

#[test]
fn what_was_cancelled_counts_neither_for_nor_against() {
    use InstallState::{Booting, Cancelled, Failed, Installed, Stalled};
    let mut all: Vec<Recorded> =
        (1..=10).map(|number| install(number, "tidewrack-12", Installed, number, number * 60)).collect();
    all.extend([
        install(11, "tidewrack-12", Failed, 30, 10),
        install(12, "tidewrack-12", Stalled, 30, 10),
        install(13, "tidewrack-12", Cancelled, 30, 10),
        install(14, "bollard-9", Booting, 31, 0),
    ]);
    let found = rates(&all, GroupBy::Image);
    let [tidewrack, bollard] = &found.groups[..] else { panic!("{found:#?}") };
    assert_eq!((tidewrack.group.as_str(), tidewrack.armed, tidewrack.installed), ("tidewrack-12", 13, 10));
    assert_eq!(tidewrack.success_percent, Some(83.3));
    assert_eq!((tidewrack.shortest_secs, tidewrack.median_secs), (Some(60), Some(300)));
    assert_eq!((tidewrack.ninth_decile_secs, tidewrack.longest_secs), (Some(540), Some(600)));
    assert_eq!((bollard.open, bollard.success_percent, bollard.median_secs), (1, None, None));
    assert_eq!(found.all.armed, 14);
    let ended: u32 =
        found.days.iter().map(|day| day.installed + day.failed + day.stalled + day.cancelled).sum();
    assert_eq!((found.days.len(), ended), (2, 13));
    // Whoever has two labels counts for both.
    let by_label = rates(&all[10..13], GroupBy::Label);
    let groups: Vec<_> = by_label.groups.iter().map(|tally| (tally.group.as_str(), tally.armed)).collect();
    assert_eq!(groups, [("kiosk", 3), ("skerry", 3)]);
    assert_eq!(rates(&all, GroupBy::Subnet).groups[0].group, "holm-quay");
}

#[test]
fn who_left_stays_under_the_last_name() {
    let machine = MachineDraft::new("skerry-kiosk-9", vec!["02:00:5e:00:53:01".into()]);
    let machine = machine.check(&Site::default(), None, at(0)).unwrap();
    let site = Site::default().with_machine(machine.clone());
    let of_machine =
        Recorded { machine: machine.id, ..install(2, "tidewrack-12", InstallState::Installed, 3, 60) };
    let gone = install(3, "tidewrack-12", InstallState::Installed, 5, 60);
    let left = Left { machine: gone.machine, name: "petrel-display-2".into(), at: at(99_999) };
    let hosts = hosts(&site, &[of_machine, gone], &[left]);
    let said: Vec<_> =
        hosts.iter().map(|host| (host.machine.as_str(), host.install, host.left.is_some())).collect();
    assert_eq!(said, [("petrel-display-2", 3, true), ("skerry-kiosk-9", 2, false)]);
    assert_eq!((hosts[1].current, hosts[1].is_behind), (None, false));
}
