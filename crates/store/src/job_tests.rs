//! Jobs on record.

use lastmile_core::{
    decide::job::JobDraft,
    model::{
        agent::{Finish, ScreenSize},
        job::{BurnIn, Job, JobKind, JobResult, JobState, Task},
        machine::Machine,
    },
};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use super::{
    tests::{change, filled, now},
    *,
};

fn job(number: i64, machine: Option<&Machine>, task: Task) -> Job {
    let mac = machine.map_or(Mac::documentation(250), |machine| machine.macs[0]);
    let draft = JobDraft { machine: machine.cloned().map(Arc::new), mac, task, then: Some(Finish::PowerOff) };
    draft.into_job(number, "gudrun", now())
}

async fn put(store: &Store, job: Job) {
    change(store, move |change| change.put_job(job, "so it is".into(), now())).await.unwrap();
    assert_eq!(*store.site(), store.load().unwrap().site);
}

#[tokio::test]
async fn the_snapshot_has_of_jobs_what_a_restart_would_load() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    filled(&store).await;
    let machine = (**store.site().machine("auklet-gate").unwrap()).clone();
    let burn_in = job(1, Some(&machine), Task::BurnIn(BurnIn::default()));
    put(&store, burn_in.clone()).await;
    put(&store, job(2, Some(&machine), Task::Survey)).await;
    put(&store, job(3, None, Task::Survey)).await;
    let next: Result<_, StoreError> = store.change(|change: &mut Change<'_>| change.next_job_number()).await;
    assert_eq!(next.unwrap(), 4);
    let boot = Uuid::now_v7();
    let (running, _) = burn_in.begin(boot, now()).unwrap();
    put(&store, running.clone()).await;
    let (failed, said) = running.end(boot, &JobResult::failed("disk sda: 3 pieces"), now()).unwrap();
    put(&store, failed.clone()).await;
    assert_eq!(said, "failed: disk sda: 3 pieces");
    let site = store.site();
    assert_eq!(site.last_job(machine.macs[0], JobKind::BurnIn).map(|job| &**job), Some(&failed));
    assert_eq!(site.open_jobs(machine.macs[0]).len(), 1);
    let filter = JobFilter { states: vec![JobState::Failed], limit: 10, ..JobFilter::default() };
    let (found, total) = store.read(move |tx| tx.jobs(&filter)).await.unwrap();
    assert_eq!((found, total), (vec![failed.clone()], 1));
    // Those of a machine are its own whatever it is called, with those that its card did before it was registered.
    let of = JobsOf::Machine(machine.id, vec![machine.macs[0], Mac::documentation(250)]);
    let of_machine = JobFilter { of: Some(of), limit: 10, ..JobFilter::default() };
    let numbers =
        store.read(move |tx| Ok(tx.jobs(&of_machine)?.0.iter().map(|job| job.number).collect::<Vec<_>>()));
    assert_eq!(numbers.await.unwrap(), [3, 2, 1]);
    let of_name =
        JobFilter { of: Some(JobsOf::Name("auklet-gate".into())), limit: 10, ..JobFilter::default() };
    assert_eq!(store.read(move |tx| tx.jobs(&of_name)).await.unwrap().1, 2);
    let (_, steps) = store.read(|tx| tx.job(1)).await.unwrap().unwrap();
    assert_eq!(steps.len(), 3);
    // A machine that is removed takes its jobs from the snapshot, and leaves them on record.
    let gone = machine.clone();
    change(&store, move |change| change.remove_machine(&gone, now())).await.unwrap();
    assert_eq!(*store.site(), store.load().unwrap().site);
    assert!(store.site().last_job(machine.macs[0], JobKind::BurnIn).is_none());
    assert_eq!(store.read(|tx| tx.job(1)).await.unwrap().unwrap().0, failed);
}

#[tokio::test]
async fn lines_that_are_written_twice_are_kept_once_and_of_very_many_the_last() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let at = now();
    let lines = move |from: i64, to: i64| -> Vec<LogLine> {
        (from..to).map(|number| LogLine { at, line: format!("line {number}") }).collect()
    };
    for (first, some) in [(1, lines(1, 4)), (1, lines(1, 4)), (3, lines(3, 6))] {
        change(&store, move |change| change.add_job_log(7, first, some)).await.unwrap();
    }
    let log = store.read(|tx| tx.job_log(7)).await.unwrap();
    assert_eq!(log, (lines(1, 6), 6));
    change(&store, move |change| change.add_job_log(7, 6, lines(6, 10_003))).await.unwrap();
    let (log, _) = store.read(|tx| tx.job_log(7)).await.unwrap();
    assert_eq!((log.len(), log[0].line.as_str()), (10_000, "line 3"));
}

#[tokio::test]
async fn what_a_screen_showed_is_kept_in_its_order_and_counted() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let size = OnScreen::Size(ScreenSize { columns: 110, rows: 40 });
    let shown = [OnScreen::Written(b"ebb \xff".into()), size, OnScreen::Written(b"flood".into())];
    let events = shown.map(|what| ScreenEvent { at: now(), what });
    let mut total = 0;
    for event in events.clone() {
        let keep = move |change: &mut Change<'_>| change.add_screen_event(7, &event);
        let kept: u64 = store.change::<_, StoreError>(keep).await.unwrap();
        assert!(kept > total, "{kept} bytes");
        total = kept;
    }
    assert_eq!(store.read(|tx| tx.job_screen(7)).await.unwrap(), events);
    assert_eq!(store.read(|tx| tx.job_screen(8)).await.unwrap(), []);
    // Sizes are not written.
    assert_eq!(store.read(|tx| tx.job_screen_written(7)).await.unwrap(), 10);
    assert_eq!(store.read(|tx| tx.job_screen_written(8)).await.unwrap(), 0);
}
