use std::collections::BTreeMap;

use jiff::Timestamp;

use super::*;
use crate::{
    decide::{
        answers::Subject,
        image::RevisionDraft,
        install::{ArmRequest, Evidence},
        machine::MachineDraft,
        subnet::SubnetDraft,
    },
    model::{
        answers::{Scope, quay_server},
        image::{Family, FileEntry, Holding, ImageKind, Sha256},
        install::{ReportStage, Token},
    },
};

fn revision(words: &[&str], existing: Option<&Image>) -> Image {
    let draft = RevisionDraft {
        name: "tidewrack-12".into(),
        kind: Some(ImageKind::Installer),
        family: Some(Family::Preseed),
        kernel: Some("linux".into()),
        parameters: Some(words.iter().map(ToString::to_string).collect()),
        files: vec![FileEntry::new("linux", 1, Sha256::of(b"k"))],
        ..RevisionDraft::default()
    };
    draft
        .check(
            existing,
            existing.map_or(0, |existing| existing.last_number),
            Holding::of(&draft.files),
            Timestamp::UNIX_EPOCH,
            |_, _| true,
        )
        .unwrap()
}

fn machine(site: &Site, name: &str, mac: &str) -> Machine {
    let draft = MachineDraft::new(name, vec![mac.into()]);
    draft.check(site, None, Timestamp::UNIX_EPOCH).unwrap()
}

fn arm(site: &Site, number: i64, token: &str) -> Install {
    let request = ArmRequest {
        machine: "auklet-chart".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: BTreeMap::new(),
    };
    request
        .check(
            site,
            &|_, _| Subject::example(),
            number,
            Token::new(token.into()),
            "ada",
            Timestamp::UNIX_EPOCH,
        )
        .unwrap()
}

fn filled() -> Site {
    let site = Site::default().with_image(revision(&[], None)).with_answers(quay_server());
    let machine = machine(&site, "auklet-chart", "02:00:5e:00:53:01");
    site.with_machine(machine)
}

#[test]
fn a_change_leaves_the_former_snapshot_as_it_was() {
    let before = filled();
    let after = before.without_machine(before.machine("auklet-chart").unwrap());
    assert_eq!((before.machine_count(), after.machine_count()), (1, 0));
    let mac = "02:00:5e:00:53:01".parse().unwrap();
    assert!(before.machine_by_mac(mac).is_some() && after.machine_by_mac(mac).is_none());
}

#[test]
fn an_open_install_is_found_by_machine_and_token_until_it_ends() {
    let site = filled();
    let id = site.machine("auklet-chart").unwrap().id;
    let install = arm(&site, 1, "one");
    let site = site.with_install(install.clone());
    assert_eq!(site.open_install(id).unwrap().number, 1);
    assert_eq!(site.install_by_token("one").unwrap().number, 1);
    assert!(site.install_by_token("other").is_none() && site.last_installed(id).is_none());
    let (done, _) = install.see(&Evidence::Report(ReportStage::Done, None), Timestamp::now()).unwrap();
    let site = site.with_install(done);
    assert!(site.open_install(id).is_none() && site.install_by_token("one").is_none());
    assert_eq!(site.last_installed(id).unwrap().number, 1);

    // A later one that is cancelled does not take away what is on the machine.
    let second = arm(&site, 2, "two");
    let site = site.with_install(second.clone());
    let (cancelled, _) = second.cancel("ada", Timestamp::now()).unwrap();
    let site = site.with_install(cancelled);
    assert_eq!(site.last_installed(id).unwrap().number, 1);
    assert_eq!(site.latest_install(id).unwrap().number, 2);
    assert_eq!(site.open_installs().count(), 0);
}

#[test]
fn an_image_keeps_its_former_revisions_until_it_is_removed() {
    let first = revision(&[], None);
    let second = revision(&["quiet"], Some(&first));
    let site = Site::default().with_image(first.clone()).with_image(second.clone());
    assert_eq!(site.image("tidewrack-12").unwrap().current.number, 2);
    assert_eq!(site.revision_of("tidewrack-12", 1), Some(&first.current));
    assert_eq!(site.revision_of("tidewrack-12", 2), Some(&second.current));
    assert_eq!(site.revision_of("tidewrack-12", 3), None);
    assert_eq!(site.image_by_id(first.id).unwrap().name, "tidewrack-12");
    let site = site.without_image("tidewrack-12");
    assert_eq!((site.revisions().count(), site.images().count()), (0, 0));
    assert!(site.image_by_id(first.id).is_none());
}

#[test]
fn answers_taken_out_of_use_stay_for_those_who_name_them() {
    let answers = quay_server();
    let site =
        Site::default().with_answers(answers.clone()).without_answers(&Scope::Answers("quay-server".into()));
    assert!(site.answers("quay-server").is_none());
    assert_eq!(site.answers_version(answers.id).unwrap().number, 1);
}

#[test]
fn a_changed_subnet_takes_the_place_of_the_former() {
    let mut draft = SubnetDraft::new("tern-bay", "192.0.2.0/24");
    draft.pools = vec!["192.0.2.50-192.0.2.59".into()];
    draft.interface = Some("eno1".into());
    let subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
    let site = Site::default().with_subnet(subnet.clone());
    draft.name = "tern-bay-east".into();
    let renamed = draft.check(subnet.id, &Site::default(), &[]).unwrap();
    let site = site.with_subnet(renamed);
    assert_eq!(site.subnets().count(), 1);
    assert!(site.subnet("tern-bay").is_none());
    assert_eq!(site.subnet_by_id(subnet.id).unwrap().name, "tern-bay-east");
    assert_eq!(site.without_subnet(subnet.id).subnets().count(), 0);
}
