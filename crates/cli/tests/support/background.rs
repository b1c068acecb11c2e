//! Work of a simulated host, on a thread that ends with the value.

use std::{
    io,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread::JoinHandle,
};

pub struct Background {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<io::Result<()>>>,
}

impl Background {
    pub fn run(work: impl FnOnce(&AtomicBool) -> io::Result<()> + Send + 'static) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let told = stop.clone();
        Self { stop, thread: Some(std::thread::spawn(move || work(&told))) }
    }
}

impl Drop for Background {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        let ended = self.thread.take().unwrap().join();
        if !std::thread::panicking() {
            ended.unwrap().unwrap();
        }
    }
}
