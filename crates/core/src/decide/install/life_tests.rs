//! Time, late reports and refusals over the life of one install.

use std::net::IpAddr;

use jiff::SignedDuration;
use proptest::prelude::*;

use super::{
    tests::{armed, at},
    *,
};
use crate::{
    decide::install::{Pace, Past},
    model::install::{Actual, Expected, Outcome, StageLimits},
};

fn kernel() -> Evidence {
    Evidence::Kernel { file: "vmlinuz".into(), size: 1 }
}

fn answers() -> Evidence {
    Evidence::Answers { sha256: Sha256::of(b"a") }
}

/// The install after some evidence, a minute apart.
fn after(evidence: &[Evidence]) -> Install {
    let minutes = (1..).zip(evidence);
    minutes.fold(armed(), |install, (minute, evidence)| {
        install.see(evidence, at(minute * 60)).map_or(install, |(next, _)| next)
    })
}

fn outcome() -> Outcome {
    Outcome { at: at(9000), actual: Actual::default(), expected: Expected::default() }
}

#[test]
fn each_stage_has_its_own_limit() {
    let limits =
        StageLimits { loading_minutes: 5, starting_minutes: 10, installing_minutes: 20, whole_minutes: 60 };
    let is_overdue =
        |install: &Install, minute: i64| install.overdue(&limits, at(0), at(minute * 60 + 1)).is_some();
    assert!(!is_overdue(&armed(), 100_000), "its machine may be switched on next week");
    let loading = after(&[Evidence::Menu]);
    assert!(!is_overdue(&loading, 5) && is_overdue(&loading, 6));
    let starting = after(&[Evidence::Menu, kernel()]);
    assert!(!is_overdue(&starting, 11) && is_overdue(&starting, 12));
    let installing = after(&[Evidence::Menu, kernel(), answers()]);
    assert!(!is_overdue(&installing, 22) && is_overdue(&installing, 23));
    // A log line is a sign of life; the whole has its end all the same.
    let heard = |minute: i64| installing.overdue(&limits, at(minute * 60), at(minute * 60 + 60));
    assert!(heard(50).is_none());
    let (failed, step) = installing.end_overdue(heard(70).unwrap(), None, at(71 * 60)).unwrap();
    assert_eq!((failed.state, step.kind), (InstallState::Failed, StepKind::Overdue));
    let (stalled, _) =
        loading.end_overdue(loading.overdue(&limits, at(0), at(7 * 60)).unwrap(), None, at(7 * 60)).unwrap();
    assert_eq!(stalled.state, InstallState::Stalled);
    let reason = stalled.reason.unwrap();
    assert!(reason.starts_with("nothing was seen of it for 5 minutes after it was seen booting"), "{reason}");
    let none =
        StageLimits { loading_minutes: 0, starting_minutes: 0, installing_minutes: 0, whole_minutes: 0 };
    assert!(installing.overdue(&none, at(0), at(10_000_000)).is_none());
}

#[test]
fn a_machine_that_waits_for_a_person_is_not_overdue() {
    let mut install = armed();
    let question: crate::model::answers::Question =
        serde_json::from_value(serde_json::json!({ "text": "Which hall?" })).unwrap();
    install.open_questions = [("hall".to_owned(), question)].into();
    let (waiting, step) = install.see(&Evidence::Waits, at(60)).unwrap();
    assert_eq!((step.kind, waiting.state), (StepKind::Waits, InstallState::Booting));
    assert!(waiting.see(&Evidence::Waits, at(70)).is_none(), "it asks every ten seconds; once is told");
    let limits = StageLimits::default();
    assert!(waiting.overdue(&limits, at(0), at(1_000_000)).is_none());
    let said = [("hall".to_owned(), "Holm Quay".to_owned())].into();
    let (goes_on, _) = waiting.answer(&waiting.open_questions, &said, "ada", at(1_000_000)).unwrap().unwrap();
    assert!(goes_on.overdue(&limits, at(0), at(1_000_060)).is_none(), "its time begins when it was answered");
    assert!(goes_on.overdue(&limits, at(0), at(1_010_000)).is_some());
}

#[test]
fn an_end_that_is_heard_late_still_counts() {
    let done = Evidence::Report(ReportStage::Done, None);
    let installing = after(&[kernel(), answers()]);
    let stalled = installing.stall(at(500)).unwrap().0;
    let (installed, step) = stalled.see(&done, at(900)).unwrap();
    assert_eq!((installed.state, installed.ended_at), (InstallState::Installed, Some(at(900))));
    assert_eq!(
        (installed.reason.as_ref(), step.detail.as_str()),
        (None, "the installer has finished, after the install was stalled")
    );
    assert!(installed.see(&done, at(901)).is_none());
    // What was cancelled stays so; that the machine went on is told once.
    let cancelled = installing.cancel("ada", at(500)).unwrap().0;
    let (told, _) = cancelled.see(&done, at(900)).unwrap();
    assert_eq!((told.state, told.last_step), (InstallState::Cancelled, Some(StepKind::Done)));
    assert!(told.see(&done, at(901)).is_none() && told.see(&kernel(), at(902)).is_none());
    let (booted, _) = told.booted(outcome()).unwrap();
    assert!(booted.state == InstallState::Cancelled && booted.outcome.is_some());
    assert!(stalled.see(&kernel(), at(901)).is_none(), "its machine starts from its disk");
}

#[test]
fn who_asks_from_elsewhere_is_noted_once_and_is_no_sign_of_life() {
    let install = after(&[kernel(), answers()]);
    let stranger = |last: u8| IpAddr::from([192, 0, 2, last]);
    let (noted, step) = install.refuse(stranger(9), "its answer file", at(600)).unwrap();
    assert_eq!(step.detail, "its answer file was asked for from 192.0.2.9, not the machine");
    assert_eq!((noted.last_step, noted.last_step_at), (install.last_step, install.last_step_at));
    assert!(noted.refuse(stranger(9), "its answer file", at(601)).is_none());
    let many = (0..=255).fold(noted, |install, last| {
        install.refuse(stranger(last), "its answer file", at(700)).map_or(install, |(next, _)| next)
    });
    assert_eq!(many.refused_from.len(), 16);
}

#[test]
fn progress_goes_with_the_clock_as_far_as_the_next_milestone() {
    let secs = SignedDuration::from_secs;
    let past = |total| Past { kernel: Some(secs(20)), answers: Some(secs(40)), total: secs(total) };
    let pace = Pace::learn(&[past(100), past(200), past(30_000)]).unwrap();
    assert_eq!(pace.progress(&armed(), at(1)), None);
    let booting = armed().see(&Evidence::Menu, at(100)).unwrap().0;
    let loading = |sec| pace.progress(&booting, at(sec)).unwrap();
    assert_eq!((loading(110).percent, loading(110).left_secs, loading(110).ceiling), (5, 190, 10));
    assert_eq!((loading(900).percent, loading(900).left_secs), (10, 180), "it waits for the kernel");
    let kernel = booting.see(&kernel(), at(115)).unwrap().0;
    assert_eq!(pace.progress(&kernel, at(115)).unwrap().percent, 10);
    let installing = kernel.see(&answers(), at(130)).unwrap().0;
    let far = |sec| pace.progress(&installing, at(sec)).unwrap();
    assert_eq!((far(130).percent, far(130).total_secs, far(130).learned_from), (20, 200, 3));
    assert_eq!((far(210).percent, far(210).left_secs), (60, 80));
    assert_eq!((far(9000).percent, far(9000).left_secs), (99, 0), "never done before it is");
    assert_eq!(Pace::learn(&[]), None);
    // One milestone missing in all of them, and no time at all: no division by nothing.
    let odd = Pace::learn(&[Past { kernel: None, answers: None, total: secs(0) }]).unwrap();
    assert!(odd.progress(&installing, at(140)).unwrap().percent <= 99);
}

proptest! {
    #[test]
    fn reports_say_the_same_in_any_order_and_number(order in prop::collection::vec(0_usize..4, 1..20)) {
        let all = [ReportStage::Started, ReportStage::Done, ReportStage::Failed];
        let mut install = after(&[kernel()]);
        let mut given: Vec<usize> = order.clone();
        // Each at least once, at the end in a fixed order, as late as they may be.
        given.extend([0, 2, 1, 3]);
        let mut ends = 0;
        for (second, report) in (1000..).zip(given) {
            let moved = match all.get(report) {
                Some(stage) => install.see(&Evidence::Report(*stage, None), at(second)),
                None => install.booted(outcome()),
            };
            if let Some((next, step)) = moved {
                ends += usize::from(step.kind == StepKind::Done);
                install = next;
            }
        }
        prop_assert_eq!(install.state, InstallState::Installed);
        prop_assert!(install.outcome.is_some() && ends <= 1);
        prop_assert_eq!(install.reason, None);
    }
}
