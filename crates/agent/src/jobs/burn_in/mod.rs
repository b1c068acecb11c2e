//! A burn-in: memory, processor and disks are worked hard at once, then the network.

mod cpu;
mod disks;
mod memory;
mod network;

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
    thread,
    time::{Duration, Instant},
};

use cpu::Cpu;
use lastmile_survey::job::{
    BurnIn, BurnInFound, BurnInPart, CpuFound, DiskFound, JobProgress, JobResult, MemoryFound, Temperature,
};
use memory::Memory;
use tokio::time::interval;

use super::{CANCELLED, Doing, Hardware};

/// Between two words of how far it is.
const TELL: Duration = Duration::from_secs(1);

/// How long it goes on.
#[derive(Debug)]
struct Until {
    begun: Instant,
    /// How long memory and processor are worked.
    worked: Duration,
    /// When everything ends.
    limit: Duration,
    /// How long a thread rests between two rounds.
    rest: Duration,
    stop: AtomicBool,
}

impl Until {
    fn after(worked: Duration, limit: Duration) -> Self {
        Self { begun: Instant::now(), worked, limit, rest: Duration::ZERO, stop: AtomicBool::new(false) }
    }

    /// Whether memory and processor were worked long enough.
    fn is_over(&self) -> bool {
        self.begun.elapsed() >= self.worked
    }

    /// Rests between two rounds.
    fn pause(&self) {
        if !self.rest.is_zero() {
            thread::sleep(self.rest);
        }
    }

    /// Whether everything is to end.
    fn is_cut_off(&self) -> bool {
        self.stop.load(Relaxed) || self.begun.elapsed() >= self.limit
    }
}

/// What the threads share.
struct Shared {
    until: Until,
    memory: Memory,
    cpu: Cpu,
    disks: Vec<Arc<Mutex<DiskFound>>>,
    threads: usize,
}

/// Ends the threads when nobody waits for them any more.
struct EndThreads(Arc<Shared>);

impl Drop for EndThreads {
    fn drop(&mut self) {
        self.0.until.stop.store(true, Relaxed);
    }
}

pub(super) async fn run(doing: &Doing<'_>, asked: &BurnIn) -> JobResult {
    let hardware = &doing.bench.hardware;
    let worked = hardware.minute() * asked.minutes;
    let facts = doing.bench.facts().await;
    let disks = if asked.has(BurnInPart::Disks) { facts.disks } else { Vec::new() };
    let found = |disk: &lastmile_survey::facts::Disk| {
        Arc::new(Mutex::new(DiskFound {
            name: disk.name.clone(),
            serial: disk.serial.clone(),
            size: disk.size,
            ..DiskFound::default()
        }))
    };
    // What has no size has no medium in it.
    let disks: Vec<_> = disks.into_iter().filter(|disk| disk.size > 0).collect();
    let shared = Arc::new(Shared {
        until: Until { rest: hardware.rest(), ..Until::after(worked, doing.limit) },
        memory: Memory::default(),
        cpu: Cpu::default(),
        disks: disks.iter().map(found).collect(),
        threads: hardware.threads(),
    });
    let _end = EndThreads(Arc::clone(&shared));
    let errors_before = hardware.memory_errors();
    let mut workers = start(hardware, asked, &disks, &shared);
    let mut hottest = BTreeMap::new();
    let mut told = Told::default();
    let mut tick = interval(TELL);
    while !workers.is_empty() {
        tokio::select! {
            _ = tick.tick() => {}
            () = doing.stop() => shared.until.stop.store(true, Relaxed),
        }
        workers.retain(|worker| !worker.is_finished());
        note_heat(&mut hottest, hardware.temperatures());
        shared.tell(doing, asked, &hottest, &mut told);
        if *doing.stopped.borrow() {
            // They end at their next look.
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    let mut found = shared.found(asked);
    found.temperatures = hottest.into_values().collect();
    if let (Some(before), Some(now)) = (errors_before, hardware.memory_errors()) {
        found.corrected_errors = Some(now.0.saturating_sub(before.0));
        found.uncorrected_errors = Some(now.1.saturating_sub(before.1));
    }
    if *doing.stopped.borrow() {
        return JobResult { burn_in: Some(found), ..JobResult::failed(CANCELLED) };
    }
    let mut faults = shared.faults(asked, &found);
    if let Some(session) = doing.bench.session.as_ref().filter(|_| asked.has(BurnInPart::Network)) {
        doing.progress(JobProgress {
            share: None,
            text: "measuring the network, or waiting for others that are measured".into(),
            left_secs: None,
        });
        tokio::select! {
            measured = network::measure(session) => match measured {
                Ok(measured) => found.network = Some(measured),
                Err(error) => faults.push(format!("network: {error}")),
            },
            () = doing.stop() => faults.push(CANCELLED.into()),
        }
    }
    for fault in &faults {
        doing.log.line(fault);
    }
    doing.log.line(&found.summary());
    JobResult { faults, burn_in: Some(found), ..JobResult::default() }
}

/// Begins everything that is worked at once.
fn start(
    hardware: &Arc<dyn Hardware>,
    asked: &BurnIn,
    disks: &[lastmile_survey::facts::Disk],
    shared: &Arc<Shared>,
) -> Vec<thread::JoinHandle<()>> {
    let mut workers = Vec::new();
    let mut begin = |work: Box<dyn FnOnce(&Shared) + Send>| {
        let shared = Arc::clone(shared);
        workers.push(thread::spawn(move || work(&shared)));
    };
    if asked.has(BurnInPart::Memory) {
        let bytes = hardware.free_memory() / shared.threads as u64;
        for thread in 0..shared.threads {
            begin(Box::new(move |shared| shared.memory.test(thread, bytes, &shared.until)));
        }
    }
    if asked.has(BurnInPart::Cpu) {
        for _ in 0..shared.threads {
            begin(Box::new(|shared| shared.cpu.work(&shared.until)));
        }
    }
    for (disk, found) in disks.iter().cloned().zip(&shared.disks) {
        let (hardware, found) = (Arc::clone(hardware), Arc::clone(found));
        begin(Box::new(move |shared| match hardware.open_disk(&disk) {
            Ok(mut opened) => disks::read(&mut *opened, &disk, hardware.piece(), &shared.until, &found),
            Err(error) => {
                let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
                found.errors = 1;
                found.first_error = Some(format!("it cannot be opened: {error}"));
            }
        }));
    }
    workers
}

fn note_heat(hottest: &mut BTreeMap<String, Temperature>, now: Vec<Temperature>) {
    for sensor in now {
        let known = hottest.entry(sensor.sensor.clone()).or_insert_with(|| sensor.clone());
        known.highest = known.highest.max(sensor.highest);
    }
}

/// What was written into the log already.
#[derive(Debug, Default)]
struct Told {
    passes: u64,
    disks: usize,
}

impl Shared {
    /// Tells how far it is, and what was finished.
    fn tell(
        &self,
        doing: &Doing<'_>,
        asked: &BurnIn,
        hottest: &BTreeMap<String, Temperature>,
        told: &mut Told,
    ) {
        let disks: Vec<DiskFound> = self.disks();
        let passes = self.memory.passes(self.threads);
        // The first, the second, the fourth …: small memory is passed a thousand times.
        if passes.checked_ilog2() > told.passes.checked_ilog2() {
            let mib = self.memory.bytes.load(Relaxed) >> 20;
            let errors = self.memory.errors.load(Relaxed);
            doing.log.line(&format!("memory: pass {passes} over {mib} MiB, {errors} errors"));
            told.passes = passes;
        }
        let read = disks.iter().filter(|disk| disk.is_whole()).count();
        if read > told.disks {
            for disk in disks.iter().filter(|disk| disk.is_whole()) {
                doing.log.line(&format!(
                    "disk {}: read, {:.0} MiB/s, {} errors",
                    disk.name,
                    disk.mib_s(),
                    disk.errors
                ));
            }
            told.disks = read;
        }
        doing.log.flush();
        let (share, left) = self.share(&disks);
        let mut text = Vec::new();
        if asked.has(BurnInPart::Memory) {
            text.push(format!("memory: {passes} passes"));
        }
        if !disks.is_empty() {
            let (done, all) = sum(&disks);
            text.push(format!("disks: {} % read", done.saturating_mul(100) / all.max(1)));
        }
        let degrees = hottest.values().map(|sensor| sensor.highest).max_by(f64::total_cmp);
        text.extend(degrees.map(|degrees| format!("hottest {degrees:.0} °C")));
        let text = text.join("; ");
        doing.bench.status.doing(&format!("job {}: burn-in, {:.0} %; {text}", doing.number, share * 100.0));
        doing.progress(JobProgress { share: Some(share), text, left_secs: Some(left.as_secs()) });
    }

    /// The share that is done, and how long it still takes: what takes longest counts.
    #[allow(clippy::cast_precision_loss, reason = "of a share, not all digits count")]
    fn share(&self, disks: &[DiskFound]) -> (f64, Duration) {
        let gone = self.until.begun.elapsed();
        let worked = (gone.as_secs_f64() / self.until.worked.as_secs_f64().max(0.001)).min(1.0);
        let of_disk = |disk: &DiskFound| disk.read as f64 / disk.size.max(1) as f64;
        let slowest = disks.iter().map(of_disk).fold(1.0, f64::min);
        let by_work = self.until.worked.saturating_sub(gone);
        let by_disks = if slowest > 0.0 { gone.mul_f64((1.0 / slowest - 1.0).min(1e6)) } else { by_work };
        let left = by_work.max(by_disks).min(self.until.limit.saturating_sub(gone));
        (worked.min(slowest), left)
    }

    fn disks(&self) -> Vec<DiskFound> {
        self.disks.iter().map(|disk| disk.lock().unwrap_or_else(PoisonError::into_inner).clone()).collect()
    }

    fn found(&self, asked: &BurnIn) -> BurnInFound {
        let memory = asked.has(BurnInPart::Memory).then(|| MemoryFound {
            mib: self.memory.bytes.load(Relaxed) >> 20,
            passes: self.memory.passes(self.threads),
            errors: self.memory.errors.load(Relaxed),
            first_error: self.memory.first_error(),
        });
        let cpu = asked.has(BurnInPart::Cpu).then(|| CpuFound {
            threads: self.threads as u64,
            rounds: self.cpu.rounds.load(Relaxed),
            errors: self.cpu.errors.load(Relaxed),
        });
        BurnInFound { memory, cpu, disks: self.disks(), ..BurnInFound::default() }
    }

    /// What went wrong, in words.
    fn faults(&self, asked: &BurnIn, found: &BurnInFound) -> Vec<String> {
        let mut faults = Vec::new();
        if let Some(memory) = &found.memory {
            if memory.errors > 0 {
                let first = memory.first_error.as_deref().unwrap_or_default();
                faults.push(format!(
                    "memory: {} words are not as they were written, the first: {first}",
                    memory.errors
                ));
            }
            if memory.passes == 0 {
                faults.push(format!("memory: not all of it was tested within {} min", asked.limit_minutes));
            }
        }
        if let Some(cpu) = found.cpu.as_ref().filter(|cpu| cpu.errors > 0) {
            faults.push(format!("processor: {} of {} rounds had a wrong result", cpu.errors, cpu.rounds));
        }
        faults.extend(found.disks.iter().filter_map(|disk| disks::fault(disk, asked.limit_minutes)));
        if let Some(errors) = found.uncorrected_errors.filter(|errors| *errors > 0) {
            faults.push(format!("memory controller: {errors} errors that it could not correct"));
        }
        if let Some(errors) = found.corrected_errors.filter(|errors| *errors > 0) {
            faults.push(format!("memory controller: {errors} errors, which it corrected"));
        }
        let too_hot = found.temperatures.iter().filter_map(|sensor| Some((sensor, sensor.critical?)));
        for (sensor, critical) in too_hot.filter(|(sensor, critical)| sensor.highest >= *critical) {
            faults.push(format!("{}: {:.0} °C, of at most {critical:.0} °C", sensor.sensor, sensor.highest));
        }
        faults
    }
}

fn sum(disks: &[DiskFound]) -> (u64, u64) {
    disks
        .iter()
        .fold((0, 0), |(read, size), disk| (read.saturating_add(disk.read), size.saturating_add(disk.size)))
}
