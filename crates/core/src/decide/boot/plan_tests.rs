use std::collections::BTreeMap;

use lastmile_formats::iso9660::{BOOT_FILES, Iso, Names};

use super::*;
use crate::{
    base::Id,
    decide::{
        answers::Subject,
        image::RevisionDraft,
        install::{ArmRequest, Evidence},
        machine::{DefaultBootDraft, MachineDraft},
        subnet::SubnetDraft,
    },
    model::{
        answers::quay_server,
        image::{Family, FileEntry, Holding, ImageKind, Sha256, Start, Volume, VolumePlace},
        install::ReportStage,
    },
};

const MAC: &str = "02:00:5e:00:53:01";

fn at(secs: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + secs).unwrap()
}

fn image(name: &str, kind: ImageKind) -> Image {
    let file = FileEntry::new("linux", 1, Sha256::of(b"k"));
    let family = if kind == ImageKind::Installer { Family::Preseed } else { Family::None };
    let draft = RevisionDraft {
        name: name.into(),
        kind: Some(kind),
        family: Some(family),
        kernel: Some("linux".into()),
        files: vec![file],
        ..RevisionDraft::default()
    };
    draft.check(None, 0, Holding::of(&draft.files), at(0), |_, _| true).unwrap()
}

fn site(default_boot: DefaultBootDraft) -> Site {
    let site = Site::default()
        .with_image(image("tidewrack-12", ImageKind::Installer))
        .with_image(image("lantern", ImageKind::Live))
        .with_answers(quay_server());
    let draft = MachineDraft { default_boot, ..MachineDraft::new("auklet-gate", vec![MAC.into()]) };
    let machine = draft.check(&site, None, at(0)).unwrap();
    site.with_machine(machine)
}

fn arm(site: &Site) -> Install {
    let request = ArmRequest {
        machine: "auklet-gate".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: BTreeMap::new(),
    };
    request
        .check(
            site,
            &|_, _| Subject::example(),
            41,
            crate::model::install::Token::new("t0ken".into()),
            "ada",
            at(0),
        )
        .unwrap()
}

fn decide(site: &Site) -> (String, String) {
    let plan = plan(site, MAC.parse().unwrap(), None);
    (plan.summary(), plan.why.to_string())
}

#[test]
fn ignored_comes_before_all() {
    let site = site(DefaultBootDraft::LocalDisk);
    let mut machine = Machine::clone(site.machine("auklet-gate").unwrap());
    machine.default_boot = DefaultBoot::Ignored;
    let site = site.with_install(arm(&site)).with_machine(machine);
    assert_eq!(decide(&site), ("no boot information".into(), "auklet-gate is set to be ignored".into()));
}

#[test]
fn an_armed_install_comes_before_a_live_image() {
    let idle = site(DefaultBootDraft::Live("lantern".into()));
    assert_eq!(decide(&idle).0, "live image lantern r1");
    let armed = idle.with_install(arm(&idle));
    let (what, why) = decide(&armed);
    assert_eq!(what, "install 41 of tidewrack-12 r1 with answers quay-server v1");
    assert_eq!(why, "install 41 of tidewrack-12 r1 is armed since 2026-11-18 11:06 UTC");
}

#[test]
fn what_is_installed_stays_installed() {
    let site = site(DefaultBootDraft::LocalDisk);
    let mut install = arm(&site);
    for evidence in [Evidence::Menu, Evidence::Report(ReportStage::Done, None)] {
        install = install.see(&evidence, at(9)).unwrap().0;
    }
    let site = site.with_install(install);
    let (what, why) = decide(&site);
    assert_eq!(what, "its local disk");
    assert_eq!(why, "auklet-gate was installed with tidewrack-12 r1 by install 41 and nothing new is armed");
}

#[test]
fn an_install_cannot_loop() {
    let site = site(DefaultBootDraft::LocalDisk);
    let mut install = arm(&site);
    for boot in 0..3 {
        assert_eq!(decide(&site.with_install(install.clone())).0[..7], *"install", "boot {boot}");
        let kernel = Evidence::Kernel { file: "linux".into(), size: 1 };
        for evidence in [Evidence::Menu, kernel.clone(), kernel] {
            if let Some((next, _)) = install.see(&evidence, at(boot)) {
                install = next;
            }
        }
    }
    let (what, why) = decide(&site.with_install(install));
    assert_eq!(what, "its local disk");
    assert!(why.contains("3 times without reaching its end"), "{why}");
}

#[test]
fn a_damaged_image_is_not_started() {
    let site = site(DefaultBootDraft::LocalDisk);
    let install = arm(&site);
    let mut damaged = image("tidewrack-12", ImageKind::Installer);
    let mut revision = Revision::clone(site.revision(install.revision).unwrap());
    revision.damaged = vec!["linux".into()];
    damaged.current = Arc::new(revision);
    let site = site.with_install(install).with_image(damaged);
    assert_eq!(decide(&site).1, "tidewrack-12 r1 cannot be served: linux missing or changed");
}

#[test]
fn a_whole_disc_is_given_unless_answers_are() {
    let mut disc = image("lantern", ImageKind::Live);
    let mut revision = Revision::clone(&disc.current);
    revision.start = Start::Program { path: format!("{BOOT_FILES}/EFI/BOOT/BOOTX64.EFI") };
    let place = VolumePlace::Kept { sha256: Sha256::of(b"disc") };
    let iso = Iso {
        label: "LANTERN".into(),
        names: Names::RockRidge,
        files: vec![],
        links: BTreeMap::new(),
        boot_images: vec![],
        defects: vec![],
        notes: vec![],
    };
    revision.volume = Some(Arc::new(Volume::new(place, 1, None, iso)));
    disc.current = Arc::new(revision);
    let kernels = site(DefaultBootDraft::Live("lantern".into()));
    let discs = kernels.with_image(disc);
    let given = |site: &Site| {
        let plan = plan(site, MAC.parse().unwrap(), None);
        plan.whole_disc().map(|image| image.name.clone())
    };
    assert_eq!(given(&kernels), None, "a loader starts its kernel");
    assert_eq!(given(&discs).as_deref(), Some("lantern"));
    let armed = discs.with_install(arm(&discs));
    assert_eq!(given(&armed), None);
    let mut machine = Machine::clone(discs.machine("auklet-gate").unwrap());
    machine.live_answers = Some("quay-server".into());
    assert_eq!(given(&discs.with_machine(machine)), None, "the record of its start begins with its menu");
}

#[test]
fn newcomers_get_what_their_subnet_says() {
    let site = Site::default();
    let mut draft = SubnetDraft::new("tern-bay", "192.0.2.0/24");
    draft.pools = vec!["192.0.2.50-192.0.2.59".into()];
    draft.interface = Some("eno1".into());
    let mut subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
    let mac = MAC.parse().unwrap();
    assert_eq!(plan(&site, mac, Some(&subnet)).action, Action::Nothing);
    subnet.newcomers = Newcomers::Menu;
    let menu = plan(&site, mac, Some(&subnet));
    assert_eq!(menu.action, Action::Menu(None));
    assert_eq!(
        menu.why.to_string(),
        "02:00:5e:00:53:01 is a newcomer, and subnet tern-bay gives newcomers the menu"
    );
}
