use std::collections::{BTreeMap, BTreeSet};

use strum::VariantArray;

use super::*;
use crate::{base::Id, model::install::Token};

pub(super) fn at(secs: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + secs).unwrap()
}

pub(super) fn armed() -> Install {
    Install {
        number: 41,
        machine: Id::generate(),
        machine_name: "auklet-gate".into(),
        revision: Id::generate(),
        image: "tidewrack-12".into(),
        image_title: "Tidewrack 12".into(),
        image_revision: 1,
        manifest_hash: Some(Sha256::of(b"m")),
        answers: Id::generate(),
        answers_name: "quay-server".into(),
        answers_version: 1,
        labels: Vec::new(),
        subnet: None,
        is_stateless: false,
        layers: Vec::new(),
        asked: BTreeMap::new(),
        open_questions: BTreeMap::new(),
        state: InstallState::Armed,
        token: Token::new("t".into()),
        armed_by: "ada".into(),
        armed_at: at(0),
        booting_at: None,
        installing_at: None,
        ended_at: None,
        answer_hash: None,
        kernel_fetches: 0,
        refused_from: BTreeSet::new(),
        outcome: None,
        reason: None,
        last_step: None,
        last_step_at: at(0),
    }
}

fn lease(firmware: Option<Architecture>) -> Evidence {
    Evidence::Lease { address: Ipv4Addr::new(192, 0, 2, 50), firmware }
}

fn story(evidence: &[Evidence]) -> (Install, Vec<StepKind>) {
    let mut install = armed();
    let mut steps = Vec::new();
    for (second, evidence) in evidence.iter().enumerate() {
        if let Some((next, step)) = install.see(evidence, at(i64::try_from(second).unwrap() + 1)) {
            install = next;
            steps.push(step.kind);
        }
    }
    (install, steps)
}

fn whole() -> Vec<Evidence> {
    vec![
        lease(Some(Architecture::UefiX64)),
        Evidence::Loader { file: "shimx64.efi".into() },
        Evidence::Loader { file: "grubx64.efi".into() },
        Evidence::Menu,
        Evidence::Kernel { file: "linux".into(), size: 8 },
        Evidence::Initrd { file: "initrd.gz".into(), size: 40 },
        lease(None),
        Evidence::Answers { sha256: Sha256::of(b"a") },
        Evidence::Report(ReportStage::Started, None),
        Evidence::Report(ReportStage::Done, None),
    ]
}

#[test]
fn a_whole_install_is_recorded_step_by_step() {
    let (install, steps) = story(&whole());
    assert_eq!(install.state, InstallState::Installed);
    assert_eq!(
        (install.booting_at, install.installing_at, install.ended_at),
        (Some(at(1)), Some(at(8)), Some(at(10)))
    );
    assert_eq!(install.answer_hash, Some(Sha256::of(b"a")));
    let names: Vec<_> = steps.into_iter().map(StepKind::as_str).collect();
    assert_eq!(names.join(" "), "lease loader loader menu kernel initrd lease answers started done");
}

#[test]
fn reports_may_come_twice_and_late() {
    let mut evidence = whole();
    evidence.insert(9, Evidence::Report(ReportStage::Started, None));
    evidence.push(Evidence::Report(ReportStage::Done, None));
    evidence.push(Evidence::Report(ReportStage::Failed, Some("late".into())));
    let (install, steps) = story(&evidence);
    assert_eq!((install.state, steps.len()), (InstallState::Installed, 10));
}

#[test]
fn a_lease_of_what_ran_before_is_no_boot() {
    let (install, steps) = story(&[lease(None)]);
    assert_eq!((install.state, steps.len()), (InstallState::Armed, 0));
}

#[test]
fn a_kernel_asked_for_twice_in_one_boot_counts_once() {
    let kernel = Evidence::Kernel { file: "linux".into(), size: 8 };
    let initrd = Evidence::Initrd { file: "initrd.gz".into(), size: 8 };
    let (install, _) = story(&[Evidence::Menu, kernel.clone(), kernel.clone(), initrd, kernel.clone()]);
    assert_eq!(install.kernel_fetches, 1);
    let (install, _) = story(&[Evidence::Menu, kernel.clone(), Evidence::Menu, kernel]);
    assert_eq!(install.kernel_fetches, 2);
}

#[test]
fn a_failure_keeps_its_reason_and_an_end_is_an_end() {
    let (install, _) =
        story(&[Evidence::Menu, Evidence::Report(ReportStage::Failed, Some("no disk".into()))]);
    assert_eq!((install.state, install.reason.as_deref()), (InstallState::Failed, Some("no disk")));
    assert_eq!(install.last_step, Some(StepKind::Menu), "how far it came");
    assert_eq!(install.cancel("ada", at(9)), None);
    let (cancelled, step) = armed().cancel("ada", at(9)).unwrap();
    assert_eq!((cancelled.state, step.detail.as_str()), (InstallState::Cancelled, "cancelled by ada"));
}

#[test]
fn names_are_read_back() {
    for kind in StepKind::VARIANTS {
        assert_eq!(kind.as_str().parse(), Ok(*kind));
        assert_eq!(
            serde_json::to_value(kind).unwrap(),
            kind.as_str(),
            "the record and the API have the same word"
        );
    }
    for state in InstallState::ALL {
        assert_eq!(state.as_str().parse(), Ok(*state));
        assert_eq!(serde_json::to_value(state).unwrap(), state.as_str());
    }
}
