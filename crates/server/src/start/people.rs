//! The threads on which people are answered. They are not those that answer machines: a list of 10,000 machines takes tens of
//! milliseconds, in which a machine would wait for its menu.

use std::io;

use rustix::thread::CpuSet;
use tokio::runtime::{Builder, Runtime};

/// How much later than the others these threads are given a processor when all are taken (nice(1)).
const NICE: i32 = 15;

/// The runtime of the admin listener. It ends when it is dropped, and waits for nothing.
#[derive(Debug)]
pub(super) struct People(Option<Runtime>);

impl People {
    /// Starts its threads.
    ///
    /// # Errors
    /// No thread can be started.
    pub(super) fn start() -> io::Result<Self> {
        let half = half_of_processors();
        let workers = half.map_or(1, |half| half.count() as usize);
        let yields = move || {
            // Both of the calling thread only (setpriority(2), sched_setaffinity(2)). Without them, people are only answered
            // sooner than they should be.
            let _ = rustix::process::setpriority_process(None, NICE);
            if let Some(half) = &half {
                let _ = rustix::thread::sched_setaffinity(None, half);
            }
        };
        let runtime = Builder::new_multi_thread()
            .worker_threads(workers)
            .thread_name("people")
            .on_thread_start(yields)
            .enable_all()
            .build()?;
        Ok(Self(Some(runtime)))
    }

    /// Runs a task on these threads; gives what waits for it.
    pub(super) fn run<T: Future<Output = ()> + Send + 'static>(
        &self,
        task: T,
    ) -> impl Future<Output = ()> + Send + use<T> {
        let running = self.0.as_ref().map(|runtime| runtime.spawn(task));
        async move {
            if let Some(running) = running
                && let Err(error) = running.await
                && error.is_panic()
            {
                std::panic::resume_unwind(error.into_panic());
            }
        }
    }
}

/// The half of the processors that people are served on, also where they have files and records read, so that another is at
/// hand for whatever a machine asks: to take one from a thread at work, even from one that yields, takes milliseconds. Nothing
/// where there is only one processor.
fn half_of_processors() -> Option<CpuSet> {
    let allowed = rustix::thread::sched_getaffinity(None).ok()?;
    let all: Vec<usize> = (0..CpuSet::MAX_CPU).filter(|number| allowed.is_set(*number)).collect();
    let mut half = CpuSet::new();
    all.iter().rev().take(all.len() / 2).for_each(|number| half.set(*number));
    (half.count() > 0).then_some(half)
}

impl Drop for People {
    fn drop(&mut self) {
        // A runtime may not be waited for where tasks run.
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}
