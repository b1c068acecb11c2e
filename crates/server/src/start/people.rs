//! The threads on which people are answered. They are not those that answer machines: a list of 10,000 machines takes tens of
//! milliseconds, in which a machine would wait for its menu.

use std::io;

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
        let yields = || {
            // Of the calling thread only (setpriority(2), on Linux). Without it, people are only answered sooner.
            let _ = rustix::process::setpriority_process(None, NICE);
        };
        // At most half of the processors, so that there is one at hand for whatever a machine asks: to take it from another
        // thread, even from one that yields, takes milliseconds.
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        let runtime = Builder::new_multi_thread()
            .worker_threads((processors / 2).max(1))
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

impl Drop for People {
    fn drop(&mut self) {
        // A runtime may not be waited for where tasks run.
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}
