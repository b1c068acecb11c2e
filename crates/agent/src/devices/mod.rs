//! What the kernel says and does by ioctl(2) alone: drivers of network cards and disks, and the management controller.
//!
//! Whoever collects or shows uses [`Devices`]: a machine's own ([`Own`]), or what a test says.

mod kernel;

use std::{io, time::Duration};

use lastmile_formats::{ata, ipmi};

/// The devices of a machine.
pub trait Devices: Send + Sync {
    /// The version of a network card's firmware, as its driver says it.
    ///
    /// # Errors
    /// What the kernel says.
    fn nic_firmware(&self, name: &str) -> io::Result<String>;

    /// Has a network card's lights blink; returns once the time, in whole seconds, is over.
    ///
    /// # Errors
    /// What the kernel says: many drivers cannot.
    fn blink_nic(&self, name: &str, time: Duration) -> io::Result<()>;

    /// The first bytes of a disk or of a part of it, by the kernel's name; fewer where it ends.
    ///
    /// # Errors
    /// What the kernel says.
    fn read(&self, name: &str, offset: u64, length: usize) -> io::Result<Vec<u8>>;

    /// The log page of an NVMe disk that says how it is ([`lastmile_formats::nvme`]).
    ///
    /// # Errors
    /// What the kernel says.
    fn nvme_health(&self, name: &str) -> io::Result<Vec<u8>>;

    /// Gives a disk that understands ATA, also through SCSI, a command that only reads, and takes what it answers.
    ///
    /// # Errors
    /// What the kernel says.
    fn ata(&self, name: &str, command: ata::Read) -> io::Result<ata::Answer>;

    /// Reads a log page of a SCSI disk (SPC-4, section 6.8).
    ///
    /// # Errors
    /// What the kernel says.
    fn scsi_log(&self, name: &str, page: u8) -> io::Result<Vec<u8>>;

    /// Asks the management controller.
    ///
    /// # Errors
    /// What the kernel says, or that it does not answer in time.
    fn ipmi(&self, request: &ipmi::Request) -> io::Result<Vec<u8>>;
}

pub use kernel::Own;
