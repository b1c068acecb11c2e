//! Rules on small sites: what they say, what they leave to people, and what comes of it.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::Ipv4Addr,
};

use jiff::Timestamp;
use lastmile_formats::{
    lldp::{Known as Said, Neighbour},
    mac::Mac,
};
use lastmile_survey::{
    facts::{Facts, Nic},
    messages::Survey,
};
use uuid::Uuid;

use super::*;
use crate::{
    base::Id,
    decide::{machine::MachineDraft, subnet::SubnetDraft},
    model::{label::Label, location::Units, rule::RuleMode, survey::SurveyRecord},
    site::Site,
};

const NOW: Timestamp = Timestamp::UNIX_EPOCH;

fn mac(last: u8) -> Mac {
    Mac::documentation(last)
}

/// A survey of whoever has that address, plugged into the port of the same number.
fn survey(last: u8, product: &str) -> SurveyRecord {
    let mut facts = Facts::default();
    facts.system.product = Some(product.into());
    facts.memory.mib = 8192;
    let neighbour = Neighbour {
        chassis: Said::Name("sw-tern-1".into()),
        port: Said::Name(format!("Ethernet1/{last}")),
        lifetime: 120,
        port_description: None,
        system_name: Some("SW-Tern-1".into()),
        system_description: None,
        management: None,
        untagged_vlan: None,
        vlans: Vec::new(),
    };
    facts.nics = vec![Nic {
        name: "eth0".into(),
        mac: mac(last),
        permanent_mac: None,
        driver: None,
        firmware: None,
        link_speed: None,
        link: true,
        pci: None,
        names: Vec::new(),
        neighbour: Some(neighbour),
    }];
    let survey = Survey { facts, ..Survey::default() };
    SurveyRecord::of_report(Uuid::from_u128(last.into()), mac(last), None, survey, None, NOW)
}

const TABLE: &str = "switch,port,hall,row,rack,unit\n\
                     sw-tern-1,Ethernet1/1,Tern Bay,A,r12,4\n\
                     sw-tern-1,ethernet1/2,Tern Bay,A,r12,5-6\n\
                     sw-tern-1,Ethernet1/3,Tern Bay,A,r12,7\n";

/// A subnet, the table of locations, and surveyed newcomers 1 and 2.
fn site() -> Site {
    let subnet = SubnetDraft {
        interface: Some("eno1".into()),
        pools: vec!["192.0.2.50-192.0.2.99".into()],
        ..SubnetDraft::new("tern-bay", "192.0.2.0/24")
    };
    let site = Site::default();
    let site = site.with_subnet(subnet.check(Id::generate(), &site, &[]).unwrap());
    let rows = import_locations(TABLE, &site, false).unwrap();
    let site = site.with_locations(rows.into_iter().map(|row| row.location).collect());
    site.with_survey(survey(1, "MK-8")).with_survey(survey(2, "MK-8"))
}

fn kiosks() -> RuleDraft {
    RuleDraft {
        mode: RuleMode::Apply,
        condition: "product == 'MK-8' and location.rack == 'r12'".into(),
        labels: vec!["kiosk".into()],
        location: true,
        name: Some("tern-kiosk-{{ counter | pad(2) }}".into()),
        address: Some("192.0.2.{{ 100 + counter }}".into()),
        details: BTreeMap::from([("port".into(), "{{ switch }} {{ port }}".into())]),
        ..RuleDraft::default()
    }
}

fn with(site: &Site, name: &str, draft: &RuleDraft) -> Site {
    site.with_rule(draft.check(name, site).unwrap_or_else(|faults| panic!("{faults:?}")))
}

fn outcome_of(site: &Site, last: u8, around: &Surroundings<'_>) -> Outcome {
    evaluate(site, mac(last), &known_at(site, mac(last), None), around)
}

const OWN: [Ipv4Addr; 1] = [Ipv4Addr::new(192, 0, 2, 2)];

fn around<'a>(counters: &'a BTreeMap<String, i64>, spent: &'a BTreeSet<String>) -> Surroundings<'a> {
    Surroundings { own: &OWN, counters, spent, arms_again: false }
}

fn outcome(site: &Site, last: u8) -> Outcome {
    outcome_of(site, last, &around(&BTreeMap::new(), &BTreeSet::new()))
}

fn effects(outcome: &Outcome) -> Vec<String> {
    outcome.effects.iter().map(|effect| format!("{} = {}", effect.what, effect.after)).collect()
}

/// With everything done that is done by itself.
fn applied(site: &Site, last: u8) -> Site {
    let outcome = outcome(site, last);
    let applied = apply(site, mac(last), &outcome, |effect| effect.is_immediate, &OWN, NOW).unwrap().unwrap();
    let site = site.with_machine(applied.machine);
    applied.reservation.into_iter().fold(site, |site, reservation| site.with_reservation(reservation))
}

#[test]
fn a_newcomer_gets_name_address_labels_and_location() {
    let site = with(&site(), "kiosks", &kiosks());
    let said = outcome(&site, 1);
    assert_eq!(
        effects(&said),
        [
            "name = tern-kiosk-01",
            "address = 192.0.2.101",
            "labels.kiosk = kiosk",
            "details.hall = Tern Bay",
            "details.port = SW-Tern-1 Ethernet1/1",
            "details.rack = r12",
            "details.row = A",
            "details.unit = 4",
        ]
    );
    assert!(said.effects.iter().all(|effect| effect.is_immediate && effect.obstacle.is_none()));
    let site = applied(&site, 1);
    let machine = site.machine("tern-kiosk-01").unwrap();
    assert_eq!(machine.labels, ["kiosk"]);
    assert_eq!(machine.details["rack"], "r12");
    assert_eq!(site.reserved_for_macs(&[mac(1)]).next(), Some(Ipv4Addr::new(192, 0, 2, 101)));
    // It has all of it: nothing is left to do.
    assert_eq!(outcome(&site, 1).effects, []);
    // The next one gets the next number that is free, and the unit of its own port.
    assert_eq!(effects(&outcome(&site, 2))[..2], ["name = tern-kiosk-02", "address = 192.0.2.102"]);
    assert_eq!(applied(&site, 2).machine("tern-kiosk-02").unwrap().details["unit"], "5-6");
}

#[test]
fn a_machine_that_is_registered_by_another_of_its_cards_is_not_registered_again() {
    let mut survey = survey(1, "MK-8");
    survey.survey.facts.nics.push(Nic {
        mac: mac(9),
        neighbour: None,
        ..survey.survey.facts.nics[0].clone()
    });
    let site = with(&site().with_survey(survey), "kiosks", &kiosks());
    let machine = MachineDraft::new("tern-quay-1", vec![mac(9).to_string()]).check(&site, None, NOW).unwrap();
    let site = site.with_machine(machine);
    let said = outcome(&site, 1);
    let obstacle = said.effects[0].obstacle.as_deref().unwrap();
    assert_eq!(obstacle, format!("its card {} is registered as one of tern-quay-1", mac(9)));
    assert!(said.lacks_name);
    // What it says of its other cards is no survey of theirs.
    assert_eq!(known_at(&site, mac(9), None).survey, None);
}

#[test]
fn what_a_person_said_stays() {
    let site = applied(&with(&site(), "kiosks", &kiosks()), 1);
    let machine = site.machine("tern-kiosk-01").unwrap().clone();
    let mut draft = MachineDraft::of(&site, &machine);
    draft.labels.clear();
    draft.details.insert("rack".into(), "r13".into());
    draft.name = "tern-kiosk-gate".into();
    let changed = site.with_machine(draft.check(&site, Some(&machine), NOW).unwrap());
    let said = outcome(&changed, 1);
    assert_eq!(said.effects, []);
    let kept: Vec<String> = said.kept.iter().map(|kept| format!("{}: {}", kept.what, kept.why)).collect();
    assert_eq!(
        kept,
        ["labels.kiosk: a person removed the label", "details.rack: a person set r13, and it says r12"]
    );
    // What the rule gave and nobody touched follows the machine to another port.
    let moved = SurveyRecord { at: Timestamp::from_second(9).unwrap(), ..survey(1, "MK-8") };
    let mut moved = moved;
    moved.survey.facts.nics[0].neighbour.as_mut().unwrap().port = Said::Name("Ethernet1/3".into());
    let said = outcome(&site.with_survey(moved), 1);
    assert_eq!(effects(&said), ["details.port = SW-Tern-1 Ethernet1/3", "details.unit = 7"]);
    assert_eq!(said.effects[1].before.as_deref(), Some("4"));
}

#[test]
fn of_several_rules_the_highest_rank_is_followed_and_every_label_is_given() {
    let general = RuleDraft {
        rank: 10,
        condition: "surveyed".into(),
        labels: vec!["gannet".into()],
        name: Some("host-{{ mac_bare }}".into()),
        details: BTreeMap::from([("rack".into(), "somewhere".into())]),
        ..kiosks()
    };
    let off = RuleDraft { mode: RuleMode::Off, labels: vec!["never".into()], ..general.clone() };
    let large = RuleDraft { condition: "product == 'MK-8' and memory_gib >= 64".into(), ..general.clone() };
    let site = with(
        &with(&with(&with(&site(), "kiosks", &kiosks()), "general", &general), "off", &off),
        "large",
        &large,
    );
    let said = outcome(&site, 1);
    let all = effects(&said);
    for one in
        ["name = tern-kiosk-01", "labels.gannet = gannet", "labels.kiosk = kiosk", "details.rack = r12"]
    {
        assert!(all.contains(&one.to_owned()), "{one}: {all:?}");
    }
    assert_eq!(all.iter().filter(|one| one.starts_with("details.rack")).count(), 1);
    let verdicts: Vec<_> = said.verdicts.iter().map(|one| (one.rule.as_str(), one.holds)).collect();
    assert_eq!(verdicts, [("kiosks", true), ("large", false), ("general", true)]);
    assert_eq!(said.verdicts[1].failing, [("memory_gib >= 64".to_owned(), None)]);
}

#[test]
fn a_rule_that_proposes_or_has_done_enough_does_nothing_by_itself() {
    let proposing = RuleDraft { mode: RuleMode::Propose, ..kiosks() };
    let labels =
        RuleDraft { condition: "surveyed".into(), labels: vec!["gannet".into()], ..RuleDraft::default() };
    let site =
        with(&with(&site(), "kiosks", &proposing), "labels", &RuleDraft { mode: RuleMode::Apply, ..labels });
    // The label would be given at once, but there is no machine to give it to.
    let said = outcome(&site, 1);
    assert!(said.effects.iter().all(|effect| !effect.is_immediate), "{:?}", said.effects);
    assert_eq!(apply(&site, mac(1), &said, |effect| effect.is_immediate, &OWN, NOW), Ok(None));
    let accepted = apply(&site, mac(1), &said, |_| true, &OWN, NOW).unwrap().unwrap();
    assert_eq!(accepted.machine.labels, ["gannet", "kiosk"]);

    let site = with(&site, "kiosks", &kiosks());
    let spent = BTreeSet::from(["kiosks".to_owned()]);
    assert!(
        outcome_of(&site, 1, &around(&BTreeMap::new(), &spent))
            .effects
            .iter()
            .all(|effect| !effect.is_immediate)
    );
    // Numbers go on after the last that was given, also where its machine is gone.
    let counters = BTreeMap::from([("kiosks".to_owned(), 7)]);
    assert_eq!(
        effects(&outcome_of(&site, 1, &around(&counters, &BTreeSet::new())))[0],
        "name = tern-kiosk-08"
    );
}

#[test]
fn what_stands_in_the_way_is_said() {
    let fixed = RuleDraft { name: Some("tern-kiosk".into()), address: Some("192.0.2.60".into()), ..kiosks() };
    let rules = with(&site(), "kiosks", &fixed);
    let said = outcome(&rules, 1);
    assert_eq!(
        said.effects[1].obstacle.as_deref().unwrap(),
        "192.0.2.60 is in the pool 192.0.2.50-192.0.2.99, so it may be lent to others"
    );
    // The name is possible: the machine is registered without the address.
    let named = applied(&rules, 1);
    assert!(named.machine("tern-kiosk").is_some());
    let second = outcome(&named, 2);
    assert_eq!(second.effects[0].obstacle.as_deref(), Some("another machine is called tern-kiosk"));
    assert!(second.lacks_name && second.possible().next().is_none());
    // Looked at one after the other, the same is seen before anything is saved.
    let all = preview(&rules, &[mac(1), mac(2)], BTreeMap::new(), &BTreeSet::new(), &OWN, |_, _| None, NOW);
    assert!(all[0].outcome.effects[0].obstacle.is_none() && all[1].outcome.effects[0].obstacle.is_some());
    let all = preview(
        &with(&site(), "kiosks", &kiosks()),
        &[mac(1), mac(2)],
        BTreeMap::new(),
        &BTreeSet::new(),
        &OWN,
        |_, _| None,
        NOW,
    );
    assert_eq!(effects(&all[1].outcome)[0], "name = tern-kiosk-02");
}

#[test]
fn what_firmware_says_cannot_make_a_machine_that_nobody_could_enter() {
    let rule = RuleDraft {
        condition: "surveyed".into(),
        name: Some("{{ product | slug }}".into()),
        details: BTreeMap::from([("model".into(), "{{ product }}".into())]),
        mode: RuleMode::Apply,
        ..RuleDraft::default()
    };
    let site = with(&site().with_survey(survey(3, "MK-8\u{7}\nrow 2")), "all", &rule);
    let said = outcome(&site, 3);
    assert_eq!(effects(&said), ["name = mk-8-row-2", "details.model = "]);
    assert!(said.effects[1].obstacle.as_deref().unwrap().contains("control characters"));
    assert!(applied(&site, 3).machine("mk-8-row-2").unwrap().details.is_empty());
}

#[test]
fn an_install_is_armed_on_who_never_had_one() {
    let label = Label {
        name: "kiosk".into(),
        rank: 100,
        parameters: Vec::new(),
        without_parameters: Vec::new(),
        menu: None,
        image: Some("tidewrack-12".into()),
        answers: Some("kiosk".into()),
    };
    let arming = with(&site(), "kiosks", &RuleDraft { arm: true, ..kiosks() });
    let said = outcome(&arming, 1);
    let install = said.effects.iter().find(|effect| effect.what == What::Install).unwrap();
    assert!(install.obstacle.as_deref().unwrap().starts_with("no image is named"));
    // With the label that it is about to get it is known what is installed.
    let said = outcome(&arming.with_label(label), 1);
    assert_eq!(effects(&said).last().unwrap(), "install = tidewrack-12 with kiosk");
    let request = apply(&arming, mac(1), &said, |_| true, &OWN, NOW).unwrap().unwrap().install.unwrap();
    assert_eq!(
        (request.machine.as_str(), request.image.as_str(), request.answers.as_str()),
        ("tern-kiosk-01", "tidewrack-12", "kiosk")
    );
}

#[test]
fn everything_that_is_wrong_with_a_rule_is_said_at_once() {
    let wrong = RuleDraft {
        condition: "memory > ".into(),
        labels: vec!["ki osk".into()],
        details: BTreeMap::from([("1st".into(), "{{ counter }}".into())]),
        name: Some("{{ nothing }}".into()),
        image: Some("tidewrack-12".into()),
        default_boot: Some("live:lantern".parse().unwrap()),
        hourly_limit: 0,
        ..RuleDraft::default()
    };
    let faults = wrong.check("quay kiosks", &Site::default()).unwrap_err();
    let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
    assert_eq!(
        places,
        [
            "name",
            "condition",
            "labels",
            "details.1st",
            "details.1st",
            "name",
            "default_boot",
            "image",
            "arm",
            "hourly_limit"
        ]
    );
    assert!(faults[4].what.contains("names counter, which nothing is called"));
    let idle = RuleDraft { condition: "surveyed".into(), ..RuleDraft::default() };
    assert_eq!(idle.check("idle", &Site::default()).unwrap_err()[0].what, "nothing follows of it");
    assert_eq!(RuleDraft::of(&site(), &kiosks().check("kiosks", &site()).unwrap()), kiosks());
}

#[test]
fn a_table_of_locations_is_taken_whole_or_not_at_all() {
    let site = site();
    assert_eq!(site.locations().count(), 3);
    let next = "\u{feff}Switch;Port;Rack;Unit\nSW-TERN-1;Ethernet1/1;r12;4\nsw-tern-1;Ethernet1/9;r13;1\n";
    let rows = import_locations(next, &site, true).unwrap();
    let changes: Vec<_> = rows.iter().map(|row| row.change).collect();
    use LocationChange::{Changed, New, Removed};
    assert_eq!(changes, [Changed, New, Removed, Removed]);
    let wrong = "switch,port,rack,unit\nsw,1,r12,zero\n,2,r12,1\nsw,3,,\nsw,1,r12,2\nsw,4,r12,1,more\n";
    let faults = import_locations(wrong, &site, false).unwrap_err();
    let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
    assert_eq!(places, ["line 2, unit", "line 3, switch", "line 4", "line 5, port", "line 6"]);
    let faults = import_locations("port,where,port\n", &site, false).unwrap_err();
    assert_eq!(faults.len(), 3, "{faults:?}");
    // A table of which only the head was saved does not take all there is away.
    let faults = import_locations("switch,port,rack\n\n", &site, true).unwrap_err();
    assert_eq!(faults[0].what, "there is no row");
    let faults = import_locations("switch,port,rack\n\n,,\nsw,,r12\n", &site, true).unwrap_err();
    assert_eq!(faults[0].place, "line 4, port");
}

#[test]
fn a_rack_shows_machines_newcomers_and_what_is_empty() {
    let site = applied(&with(&site(), "kiosks", &kiosks()), 1);
    let mut expected = MachineDraft::new("tern-quay-1", vec![mac(9).to_string()]);
    expected.details = [("hall", "Tern Bay"), ("row", "A"), ("rack", "r12"), ("unit", "40")]
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .into();
    let site = site.with_machine(expected.check(&site, None, NOW).unwrap());
    let racks = racks(&site);
    assert_eq!(racks.len(), 1);
    assert_eq!((racks[0].rack.as_str(), racks[0].height), ("r12", 42));
    let said: Vec<(Option<Units>, usize, usize)> =
        racks[0].units.iter().map(|unit| (unit.units, unit.occupants.len(), unit.ports.len())).collect();
    let units = |text: &str| Some(text.parse().unwrap());
    assert_eq!(said, [(units("40"), 1, 0), (units("7"), 0, 1), (units("5-6"), 1, 1), (units("4"), 1, 1)]);
    assert_eq!(racks[0].units[2].occupants, [Occupant::Newcomer(mac(2))]);
}
