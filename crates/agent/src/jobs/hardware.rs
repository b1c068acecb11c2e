//! What jobs use of the machine that they are done on.

use std::{
    fs::{File, OpenOptions},
    io,
    os::unix::fs::{FileExt, OpenOptionsExt},
    path::Path,
    thread::available_parallelism,
    time::Duration,
};

use lastmile_survey::{
    facts::{Disk, Facts},
    job::Temperature,
};
use nix::fcntl::OFlag;
use tokio::process::Command;

use super::{Light, Whose};
use crate::{
    collect::{self, Tree},
    devices, lights,
};

/// Memory that a test leaves to everything else, in bytes: at least so much, and at least a share of what is free.
const LEFT: u64 = 96 << 20;
const SHARE_LEFT: u64 = 20;

/// Something that is read from any place.
pub trait ReadAt: Send {
    /// Reads at an offset; less than was asked for only at the end.
    ///
    /// # Errors
    /// What the kernel says.
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> io::Result<usize>;
}

impl ReadAt for File {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        FileExt::read_at(self, buffer, offset)
    }
}

/// The machine that jobs are done on: a real one, or one that was invented.
pub trait Hardware: Send + Sync {
    /// What it is.
    fn facts(&self) -> Facts;

    /// Bytes of memory that may be tested.
    fn free_memory(&self) -> u64;

    /// Threads that it runs at once.
    fn threads(&self) -> usize;

    /// Opens a disk for reading.
    ///
    /// # Errors
    /// What the kernel says.
    fn open_disk(&self, disk: &Disk) -> io::Result<Box<dyn ReadAt>>;

    /// Bytes that are read of a disk at once.
    fn piece(&self) -> usize {
        4 << 20
    }

    /// How hot it is now, as `highest`.
    fn temperatures(&self) -> Vec<Temperature>;

    /// Errors that its memory controllers have corrected so far, and those that they could not; nothing where nobody counts.
    fn memory_errors(&self) -> Option<(u64, u64)>;

    /// A command that runs on it.
    fn command(&self, words: &[String]) -> Command;

    /// A shell for people, if it has one.
    fn shell(&self) -> Option<Command>;

    /// The lights that show people where it is, or one of its disks.
    fn lights(&self, whose: &Whose) -> Vec<Box<dyn Light>>;

    /// How long each thread rests between two rounds: invented hardware leaves the host's to others.
    fn rest(&self) -> Duration {
        Duration::ZERO
    }

    /// How long a minute is: on invented hardware time flies.
    fn minute(&self) -> Duration {
        Duration::from_secs(60)
    }
}

/// The machine that this runs on.
#[derive(Debug)]
pub struct OwnHardware(pub Tree);

impl Hardware for OwnHardware {
    fn facts(&self) -> Facts {
        let mut facts = collect::facts(&self.0);
        collect::ask(&mut facts, &devices::Own);
        facts
    }

    fn free_memory(&self) -> u64 {
        let free = collect::free_memory(&self.0).unwrap_or_default();
        free.saturating_sub(LEFT.max(free / SHARE_LEFT))
    }

    fn threads(&self) -> usize {
        available_parallelism().map_or(1, usize::from)
    }

    /// Past the kernel's cache: the disk is to be read, and the memory is needed.
    fn open_disk(&self, disk: &Disk) -> io::Result<Box<dyn ReadAt>> {
        let path = format!("/dev/{}", disk.name);
        let file = OpenOptions::new().read(true).custom_flags(OFlag::O_DIRECT.bits()).open(path)?;
        Ok(Box::new(file))
    }

    fn temperatures(&self) -> Vec<Temperature> {
        collect::temperatures(&self.0)
    }

    fn memory_errors(&self) -> Option<(u64, u64)> {
        collect::memory_errors(&self.0)
    }

    fn command(&self, words: &[String]) -> Command {
        let mut words = words.iter();
        let mut command = Command::new(words.next().map(String::as_str).unwrap_or_default());
        command.args(words);
        command
    }

    fn shell(&self) -> Option<Command> {
        let shell = ["/bin/bash", "/bin/sh"].into_iter().find(|shell| Path::new(shell).exists())?;
        let mut command = Command::new(shell);
        command.arg("-l").env("HOME", "/root").current_dir("/");
        Some(command)
    }

    fn lights(&self, whose: &Whose) -> Vec<Box<dyn Light>> {
        lights::all(&self.0, whose)
    }
}
