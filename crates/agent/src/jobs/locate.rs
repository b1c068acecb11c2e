//! Shows people in the hall which machine it is: by its lights, and on its screens.

use std::{
    io,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use lastmile_survey::{
    facts::Facts,
    job::{JobProgress, JobResult, Locate},
};
use tokio::{sync::mpsc, task::JoinSet, time::sleep};

use super::{CANCELLED, Doing};

/// For how long a light is switched on at once: it goes out by itself if the machine stops.
const ROUND: Duration = Duration::from_secs(5);
/// How often it is told how long it still shows.
const TELL_EVERY: Duration = Duration::from_secs(5);

/// A light of the machine.
pub trait Light: Send + Sync {
    /// Where it is.
    fn name(&self) -> String;

    /// Has it shine or blink from now on, for so long at least. May return before, or only then.
    ///
    /// # Errors
    /// What the kernel says.
    fn shine(&self, time: Duration) -> io::Result<()>;

    /// Switches it off.
    fn end(&self);
}

/// Whose lights are meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Whose {
    /// The whole machine's.
    Machine,
    /// One disk's, by the kernel's name.
    Disk(String),
}

pub(super) async fn run(doing: &Doing<'_>, asked: &Locate) -> JobResult {
    let whose = match &asked.disk {
        None => Whose::Machine,
        Some(disk) => match called(&doing.bench.facts().await, disk) {
            Some(name) => Whose::Disk(name),
            None => return JobResult::failed(format!("no disk has the serial number or the name {disk}")),
        },
    };
    let lights = doing.bench.hardware.lights(&whose);
    let is_over = Arc::new(AtomicBool::new(false));
    let (tell, mut told) = mpsc::unbounded_channel();
    let mut shining = JoinSet::new();
    for light in lights {
        let (tell, is_over) = (tell.clone(), is_over.clone());
        shining.spawn_blocking(move || shine(light.as_ref(), &is_over, &tell));
    }
    drop(tell);
    doing.bench.status.here(Some(match &whose {
        Whose::Machine => "this is the machine that is looked for".to_owned(),
        Whose::Disk(name) => format!("this is the machine that is looked for, and its disk {name}"),
    }));
    let mut shown = Vec::new();
    let ended = {
        let tells = async {
            while let Some(one) = told.recv().await {
                note(doing, one, &mut shown);
            }
            std::future::pending::<()>().await;
        };
        tokio::select! {
            () = doing.stop() => Some(CANCELLED),
            () = count_down(doing) => None,
            () = tells => None,
        }
    };
    is_over.store(true, Ordering::Relaxed);
    while shining.join_next().await.is_some() {}
    // A light that returns only after its time may say so now.
    while let Ok(one) = told.try_recv() {
        note(doing, one, &mut shown);
    }
    doing.bench.status.here(None);
    shown.sort();
    shown.push("its screens".into());
    match ended {
        Some(why) => JobResult { shown, ..JobResult::failed(why) },
        None if asked.disk.is_some() && shown.len() == 1 => {
            JobResult { shown, ..JobResult::failed("the disk has no light that the kernel can switch") }
        }
        None => JobResult { shown, ..JobResult::default() },
    }
}

/// A light, and whether it shines.
type Tried = (String, io::Result<()>);

fn note(doing: &Doing<'_>, (name, shines): Tried, shown: &mut Vec<String>) {
    match shines {
        Ok(()) => shown.push(name),
        Err(error) => doing.log.line(&format!("{name} does not shine: {error}")),
    }
}

/// The kernel's name of the disk that people mean.
fn called(facts: &Facts, disk: &str) -> Option<String> {
    let of_serial = facts.disks.iter().find(|one| one.serial.as_deref() == Some(disk));
    let of_name = || facts.disks.iter().find(|one| one.name == disk);
    of_serial.or_else(of_name).map(|disk| disk.name.clone())
}

/// Tells how long it still shows, until the time is over.
async fn count_down(doing: &Doing<'_>) {
    let begun = tokio::time::Instant::now();
    while let Some(left) = doing.limit.checked_sub(begun.elapsed()).filter(|left| !left.is_zero()) {
        let share = begun.elapsed().as_secs_f64() / doing.limit.as_secs_f64();
        let text = "showing where it is".to_owned();
        doing.progress(JobProgress { share: Some(share), text, left_secs: Some(left.as_secs()) });
        sleep(left.min(TELL_EVERY)).await;
    }
}

/// Has a light shine until it is over; says once whether it does.
fn shine(light: &dyn Light, is_over: &AtomicBool, tell: &mpsc::UnboundedSender<Tried>) {
    let mut is_told = false;
    while !is_over.load(Ordering::Relaxed) {
        let begun = Instant::now();
        let shines = light.shine(ROUND);
        let fails = shines.is_err();
        if !is_told {
            is_told = true;
            // Whoever is told may be gone.
            let _ = tell.send((light.name(), shines));
        }
        if fails {
            return;
        }
        while begun.elapsed() < ROUND && !is_over.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(100));
        }
    }
    light.end();
}
