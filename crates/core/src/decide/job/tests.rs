use jiff::{SignedDuration, Timestamp};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use super::*;
use crate::{
    decide::{
        boot::{Action, Why, plan},
        machine::MachineDraft,
    },
    model::{
        agent::{Finish, ToAgent},
        job::{BurnIn, BurnInPart, Job, JobResult, JobState, RunCommand, Task},
        machine::{DefaultBoot, Machine},
        settings::SiteSettings,
    },
    site::Site,
};

const NOW: Timestamp = Timestamp::UNIX_EPOCH;

fn mac(last: u8) -> Mac {
    Mac::new([2, 0, 0x5e, 0, 0x53, last]).unwrap()
}

fn machine(name: &str, macs: &[u8]) -> Machine {
    let macs = macs.iter().map(|last| mac(*last).to_string()).collect();
    MachineDraft::new(name, macs).check(&Site::default(), None, NOW).unwrap()
}

fn job(number: i64, machine: Option<&Machine>, task: Task) -> Job {
    let mac = machine.map_or(mac(9), |machine| machine.macs[0]);
    JobDraft { machine: machine.cloned().map(Into::into), mac, task, then: None }
        .into_job(number, "gudrun", NOW)
}

fn later(minutes: i64) -> Timestamp {
    NOW + SignedDuration::from_mins(minutes)
}

#[test]
fn jobs_are_done_one_after_another_whatever_card_the_machine_boots_from() {
    let kiosk = machine("kiosk-1", &[1, 2]);
    let site = Site::default().with_machine(kiosk.clone());
    let site = site.with_job(job(2, Some(&kiosk), Task::Survey));
    let site = site.with_job(job(1, Some(&kiosk), Task::BurnIn(BurnIn::default())));
    let boot = Uuid::from_u128(7);
    let numbers = |site: &Site| site.open_jobs(mac(2)).iter().map(|job| job.number).collect::<Vec<_>>();
    assert_eq!(numbers(&site), [1, 2]);
    let Some(ToAgent::Job { number: 1, .. }) = next_for_agent(&site, mac(2), boot, NOW) else { panic!() };
    let (running, _) = site.open_jobs(mac(1))[0].begin(boot, later(1)).unwrap();
    assert!(running.begin(boot, later(1)).is_none(), "it is begun once");
    let site = site.with_job(running.clone());
    assert_eq!(next_for_agent(&site, mac(2), boot, NOW), None, "it is at one");
    let (done, said) = running.end(boot, &JobResult::default(), later(31)).unwrap();
    assert_eq!((done.state, said.as_str()), (JobState::Done, "done: done"));
    assert!(done.end(boot, &JobResult::default(), later(32)).is_none(), "it ends once");
    let site = site.with_job(done);
    let Some(ToAgent::Job { number: 2, .. }) = next_for_agent(&site, mac(2), boot, NOW) else { panic!() };
}

#[test]
fn a_machine_that_was_started_for_a_job_restarts_after_it_and_one_that_waited_waits_on() {
    let kiosk = machine("kiosk-1", &[1]);
    let boot = Uuid::from_u128(7);
    let done = |then: Option<Finish>| {
        let armed = Job { then, armed_at: later(10), ..job(1, Some(&kiosk), Task::Survey) };
        let (running, _) = armed.begin(boot, later(11)).unwrap();
        let (done, _) = running.end(boot, &JobResult::default(), later(12)).unwrap();
        Site::default().with_machine(kiosk.clone()).with_job(done)
    };
    let next = |site: &Site, boot, given| next_for_agent(site, mac(1), boot, given);
    let restart = Some(ToAgent::Finish(Finish::Restart));
    assert_eq!(next(&done(None), boot, later(10)), restart);
    assert_eq!(next(&done(None), boot, later(5)), None, "it waited already");
    assert_eq!(next(&done(None), Uuid::from_u128(8), later(20)), None, "it is another boot");
    assert_eq!(next(&done(Some(Finish::PowerOff)), boot, later(5)), Some(ToAgent::Finish(Finish::PowerOff)));
    // One that is cancelled before it is begun leaves nothing to wait for; days later it is no reason to restart.
    let armed = Job { armed_at: later(10), ..job(2, Some(&kiosk), Task::BurnIn(BurnIn::default())) };
    let (cancelled, _) = armed.cancel("gudrun", later(12)).unwrap();
    let site = done(None).with_job(cancelled);
    assert_eq!(next(&site, boot, later(11)), restart);
    assert_eq!(next(&site, Uuid::from_u128(8), later(11)), restart);
    assert_eq!(next(&site, Uuid::from_u128(8), later(20)), None);
}

#[test]
fn a_job_that_is_lost_is_not_begun_again_by_itself() {
    let kiosk = machine("kiosk-1", &[1]);
    let (one, other) = (Uuid::from_u128(7), Uuid::from_u128(8));
    let armed = job(1, Some(&kiosk), Task::BurnIn(BurnIn::default()));
    assert!(armed.interrupt(other, NOW).is_none(), "nothing of it was begun");
    let (running, _) = armed.begin(one, NOW).unwrap();
    assert!(running.interrupt(one, NOW).is_none(), "it is the boot that does it");
    let (lost, why) = running.interrupt(other, later(1)).unwrap();
    assert_eq!((lost.state, lost.reason.as_ref()), (JobState::Failed, Some(&why)));
    assert!(lost.end(one, &JobResult::default(), later(2)).is_none(), "that boot is past");
    // Nothing is heard for long: it is given up, and what comes later still counts.
    let limit = i64::from(running.task.limit_minutes());
    assert!(running.give_up(later(limit + 60)).is_none(), "an hour without network is no reason");
    let (stalled, _) = running.give_up(later(limit + 24 * 60 + 1)).unwrap();
    assert_eq!(stalled.state, JobState::Stalled);
    let (late, said) = stalled.end(one, &JobResult::failed("memory: 2 words differ"), later(9999)).unwrap();
    assert_eq!((late.state, said.as_str()), (JobState::Failed, "late: failed: memory: 2 words differ"));
    // A person cancelled it: that stays so.
    let (cancelled, _) = running.cancel("gudrun", later(3)).unwrap();
    let (kept, _) = cancelled.end(one, &JobResult::failed("ended by signal 15"), later(4)).unwrap();
    assert_eq!((kept.state, kept.reason.as_deref()), (JobState::Cancelled, Some("cancelled by gudrun")));
    assert!(kept.result.is_some() && cancelled.cancel("gudrun", later(5)).is_none());
}

#[test]
fn a_survey_that_never_comes_to_its_job_is_not_started_for_ever() {
    let kiosk = machine("kiosk-1", &[1]);
    let mut job = job(1, Some(&kiosk), Task::Survey);
    for _ in 0..3 {
        assert!(job.stall(later(9999)).is_none() && job.give_up(later(9999)).is_none());
        job = job.fetched().unwrap().0;
    }
    let site = Site::default().with_machine(kiosk).with_job(job.clone());
    let plan = plan(&site, mac(1), None);
    assert!(matches!((plan.action, &plan.why), (Action::LocalDisk, Why::JobLooping(_))), "{}", plan.why);
    // The third start may still come to it: it is stopped once the machine asks again.
    assert!(job.give_up(later(9999)).is_none());
    assert_eq!(job.begin(Uuid::from_u128(7), NOW).unwrap().0.state, JobState::Running);
    assert_eq!(job.stall(NOW).unwrap().0.state, JobState::Stalled);
}

#[test]
fn a_job_without_an_image_of_the_survey_leaves_the_machine_its_disk() {
    let kiosk = machine("kiosk-1", &[1]);
    let site = Site::default().with_machine(kiosk.clone()).with_job(job(1, Some(&kiosk), Task::Survey));
    let plan = plan(&site, mac(1), None);
    assert_eq!(plan.action, Action::LocalDisk);
    assert!(plan.why.to_string().contains("lastmile survey build"), "{}", plan.why);
}

#[test]
fn a_job_of_a_removed_machine_is_nobodys() {
    let kiosk = machine("kiosk-1", &[1]);
    let site = Site::default().with_machine(kiosk.clone()).with_job(job(1, Some(&kiosk), Task::Survey));
    let site = site.without_machine(&kiosk);
    assert!(site.open_jobs(mac(1)).is_empty() && site.all_open_jobs().next().is_none());
    // Another machine that has its card now is not given its work.
    let both = Site::default().with_machine(kiosk.clone()).with_job(job(1, Some(&kiosk), Task::Survey));
    let moved = both.with_machines(vec![Machine { macs: vec![mac(3)], ..kiosk }, machine("kiosk-2", &[1])]);
    assert!(moved.open_jobs(mac(1)).is_empty());
    // What a newcomer picked at its menu goes on when it is registered.
    let newcomer = Site::default().with_job(job(2, None, Task::BurnIn(BurnIn::default())));
    assert_eq!(newcomer.open_jobs(mac(9)).len(), 1);
    assert_eq!(newcomer.with_machine(machine("kiosk-9", &[9])).open_jobs(mac(9)).len(), 1);
}

#[test]
fn everything_that_is_wrong_is_said_at_once() {
    let site = Site::default()
        .with_machine(Machine { default_boot: DefaultBoot::Ignored, ..machine("kiosk-1", &[1]) });
    let task = Task::Command(RunCommand { words: vec![String::new()], limit_minutes: 0 });
    let asked = ArmJobs { machines: vec!["kiosk-1".into()], labels: vec![], task, then: None };
    let faults = asked.check(&site).unwrap_err();
    let said = faults.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
    for part in
        ["does not allow commands", "between 1 and 256 words", "from 1 to 10080", "ignored", "survey build"]
    {
        assert!(said.contains(part), "{part}: {said}");
    }
    let settings = SiteSettings { allow_commands: true, ..SiteSettings::default() };
    let command = Task::Command(RunCommand { words: vec!["lsblk".into()], limit_minutes: 5 });
    assert_eq!(check_task(&command, &site.with_settings(settings)), []);
    let without = [BurnInPart::Memory, BurnInPart::Cpu, BurnInPart::Disks, BurnInPart::Network].into();
    let nothing = Task::BurnIn(BurnIn { without, limit_minutes: 5, ..BurnIn::default() });
    let places: Vec<String> = check_task(&nothing, &site).into_iter().map(|fault| fault.place).collect();
    assert_eq!(places, ["task.limit_minutes", "task.without"]);
}
