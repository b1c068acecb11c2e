//! Invented hardware that jobs are done on, by the agent's own code.

use std::{io, time::Duration};

use lastmile_agent::jobs::{Hardware, Light, ReadAt, Whose};
use lastmile_survey::{
    facts::{Disk, Facts},
    job::Temperature,
};
use tokio::process::Command;

/// How long a minute is: time flies.
const MINUTE: Duration = Duration::from_secs(1);
/// Between two rounds: many machines share the host.
const REST: Duration = Duration::from_millis(100);
/// Memory that is tested, in bytes: it is the host's.
const MEMORY: u64 = 1 << 20;
/// Bytes that are read of a disk at once, and that it gives each second.
const PIECE: usize = 256 << 20;
const DISK_RATE: f64 = 512.0 * 1024.0 * 1024.0 * 1024.0;
/// The end of the serial number of a disk that has a place that cannot be read.
pub const WORN: &str = "-WORN";
/// How hot it gets, and may get, in degrees Celsius.
const HEAT: f64 = 61.0;
const CRITICAL: f64 = 95.0;

/// A machine that was invented.
#[derive(Debug, Clone)]
pub(crate) struct Invented(pub(crate) Facts);

/// A disk of zeros.
struct Zeros {
    /// Where it cannot be read.
    bad: Option<u64>,
}

impl ReadAt for Zeros {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let length = buffer.len() as u64;
        std::thread::sleep(Duration::from_secs(1).mul_f64(length as f64 / DISK_RATE));
        if self.bad.is_some_and(|bad| (offset..offset + length).contains(&bad)) {
            return Err(io::Error::from_raw_os_error(5));
        }
        Ok(buffer.len())
    }
}

/// A light that nobody sees.
struct Lamp(String);

impl Light for Lamp {
    fn name(&self) -> String {
        self.0.clone()
    }

    fn shine(&self, _: Duration) -> io::Result<()> {
        Ok(())
    }

    fn end(&self) {}
}

impl Hardware for Invented {
    fn facts(&self) -> Facts {
        self.0.clone()
    }

    fn free_memory(&self) -> u64 {
        MEMORY
    }

    fn threads(&self) -> usize {
        1
    }

    fn open_disk(&self, disk: &Disk) -> io::Result<Box<dyn ReadAt>> {
        let is_worn = disk.serial.as_ref().is_some_and(|serial| serial.ends_with(WORN));
        Ok(Box::new(Zeros { bad: is_worn.then_some(disk.size / 2) }))
    }

    fn piece(&self) -> usize {
        PIECE
    }

    fn temperatures(&self) -> Vec<Temperature> {
        vec![Temperature { sensor: "invented package".into(), highest: HEAT, critical: Some(CRITICAL) }]
    }

    fn memory_errors(&self) -> Option<(u64, u64)> {
        Some((0, 0))
    }

    /// Nothing is run: the machine is not there. What was asked for is written, and `false` fails.
    fn command(&self, words: &[String]) -> Command {
        let mut command = Command::new("sh");
        let script = "echo \"invented machine: $*\"; [ \"$1\" != false ]";
        command.args(["-c", script, "sh"]).args(words);
        command
    }

    /// Nothing is run either: what is typed is said again, and `exit` leaves it.
    fn shell(&self) -> Option<Command> {
        let script = "echo \"This machine is invented: what is typed is said again, and exit leaves it.\"\n\
                      while printf '%s # ' \"$LASTMILE_MACHINE\" && read -r line; do\n\
                      case $line in exit) exit 0;; '') ;; *) printf 'invented machine: %s\\n' \"$line\";; esac\n\
                      done";
        let mut command = Command::new("sh");
        command.args(["-c", script]);
        Some(command)
    }

    fn lights(&self, whose: &Whose) -> Vec<Box<dyn Light>> {
        let name = match whose {
            Whose::Machine => "invented front light".to_owned(),
            Whose::Disk(disk) => format!("invented light of {disk}"),
        };
        vec![Box::new(Lamp(name))]
    }

    fn rest(&self) -> Duration {
        REST
    }

    fn minute(&self) -> Duration {
        MINUTE
    }
}
