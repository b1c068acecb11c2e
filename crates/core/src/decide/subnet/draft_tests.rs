use super::*;
use crate::{decide::subnet::ReservationDraft, model::reservation::ReservedFor};

fn draft() -> SubnetDraft {
    SubnetDraft {
        router: Some("192.0.2.1".into()),
        pools: vec!["192.0.2.50-192.0.2.99".into()],
        interface: Some("eno1".into()),
        ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
    }
}

fn places(draft: &SubnetDraft, own: &[Ipv4Addr]) -> Vec<String> {
    let faults = draft.check(Id::generate(), &Site::default(), own).unwrap_err();
    faults.into_iter().map(|fault| format!("{} {}", fault.place, fault.what)).collect()
}

#[test]
fn a_good_draft_becomes_a_subnet() {
    let subnet = draft().check(Id::generate(), &Site::default(), &[]).unwrap();
    assert_eq!(subnet.pools[0].size(), 50);
    assert_eq!(subnet.lease, SignedDuration::from_hours(8));
}

#[test]
fn all_faults_come_at_once() {
    let bad = SubnetDraft {
        name: "holm quay".into(),
        router: Some("quay-router".into()),
        dns: vec!["192.0.2.53".into(), "192.0.2.300".into()],
        domain: Some("gannet..example".into()),
        lease_secs: 5,
        pools: vec!["192.0.2.0-192.0.2.9".into(), "192.0.2.5-192.0.3.9".into()],
        interface: None,
        ..draft()
    };
    assert_eq!(
        places(&bad, &["192.0.2.2".parse().unwrap()]),
        [
            "name 'holm quay' holds ' '",
            "router 'quay-router' is no IPv4 address",
            "dns[1] '192.0.2.300' is no IPv4 address",
            "domain 'gannet..example' has an empty part",
            "lease_secs a lease of 5 s",
            "pools[0] 192.0.2.0-192.0.2.9 holds 192.0.2.0, the network address",
            "pools[0] 192.0.2.0-192.0.2.9 holds 192.0.2.2, this service's own address",
            "pools[1] 192.0.2.5-192.0.3.9 reaches outside 192.0.2.0/24",
            "pools[1] 192.0.2.5-192.0.3.9 overlaps 192.0.2.0-192.0.2.9",
            "interface neither an interface nor a relay is named, so no machine can reach this subnet",
        ]
    );
}

#[test]
fn a_mask_that_does_not_fit_names_the_network_meant() {
    let bad = SubnetDraft { network: "192.0.2.7/24".into(), ..draft() };
    let faults = bad.check(Id::generate(), &Site::default(), &[]).unwrap_err();
    assert_eq!(faults[0].fix, "Write 192.0.2.0/24 if that is the network meant.");
}

#[test]
fn overlapping_subnets_are_refused() {
    let first = draft().check(Id::generate(), &Site::default(), &[]).unwrap();
    let second = SubnetDraft { name: "tern-bay".into(), network: "192.0.2.0/25".into(), ..draft() };
    let faults = second.check(Id::generate(), &Site::default().with_subnet(first), &[]).unwrap_err();
    assert!(faults[0].what.contains("overlaps subnet 'holm-quay'"), "{faults:?}");
}

#[test]
fn what_is_excluded_is_not_lent() {
    let draft =
        SubnetDraft { exclusions: vec!["192.0.2.60-192.0.2.69".into(), "192.0.2.99".into()], ..draft() };
    let subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
    assert_eq!(subnet.capacity(), 39);
    let lent = |last: u8| subnet.lends(Ipv4Addr::new(192, 0, 2, last));
    assert!(lent(59) && lent(70) && !lent(60) && !lent(99));
    assert_eq!(subnet.nth_lendable(10), Some(Ipv4Addr::new(192, 0, 2, 70)));
    assert_eq!(subnet.nth_lendable(39), None);
}

#[test]
fn what_belongs_to_another_mode_or_to_a_reservation_is_refused() {
    let first = draft().check(Id::generate(), &Site::default(), &[]).unwrap();
    let site = Site::default().with_subnet(first.clone());
    let reserve = ReservationDraft::new("192.0.2.20", ReservedFor::Mac("02:00:5e:00:53:07".parse().unwrap()));
    let site = site.with_reservation(reserve.check(&first, &site, &[]).unwrap());
    let bad = SubnetDraft {
        mode: Mode::Proxy,
        pools: vec!["192.0.2.10-192.0.2.30".into()],
        exclusions: vec!["192.0.2.40".into()],
        vlan: Some(4095),
        head_start_ms: 60_000,
        ..draft()
    };
    let faults = bad.check(first.id, &site, &[]).unwrap_err();
    let whats: Vec<_> = faults.iter().map(|fault| format!("{} {}", fault.place, fault.what)).collect();
    assert_eq!(
        whats,
        [
            "head_start_ms a first answer held back for 60000 ms",
            "pools a subnet in mode 'proxy' has a pool, but somebody else hands out its addresses",
            "exclusions[0] 192.0.2.40 is in no pool, so nothing of it would be lent anyway",
            "pools the pools hold 192.0.2.20, which is reserved for 02:00:5e:00:53:07",
            "vlan VLAN 4095",
        ]
    );
}
