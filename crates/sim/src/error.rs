//! Where a simulated boot ended that should have gone on.

use std::net::Ipv4Addr;

use lastmile_core::model::image::Sha256;
use lastmile_formats::dhcp::Kind;
use thiserror::Error;

/// Where a simulated boot ended that should have gone on.
#[derive(Debug, Error)]
pub enum SimError {
    /// The network of this host failed.
    #[error("socket: {0}")]
    Io(#[from] std::io::Error),
    /// DHCP went unanswered.
    #[error("no answer to {asked} after {tries} tries")]
    Silence {
        /// What was asked.
        asked: Kind,
        /// How often.
        tries: u32,
    },
    /// The address was refused.
    #[error("the service refused {address}: {why}")]
    Refused {
        /// The address asked for.
        address: Ipv4Addr,
        /// The text of the NAK.
        why: String,
    },
    /// The installer got another address than the firmware.
    #[error("the firmware was given {firmware}, the installer {installer}")]
    AddressChanged {
        /// The firmware's.
        firmware: Ipv4Addr,
        /// The installer's.
        installer: Ipv4Addr,
    },
    /// A file could not be fetched.
    #[error("{path}: {why}")]
    Fetch {
        /// The file.
        path: String,
        /// What the service said, or that it fell silent.
        why: String,
    },
    /// A file is not what the service says it is.
    #[error("{path}: the digest is {found}, but the service says {said}")]
    Digest {
        /// The file.
        path: String,
        /// What was received.
        found: Sha256,
        /// What was announced.
        said: Sha256,
    },
    /// The menu cannot be read.
    #[error("the menu, line {line}: {what}")]
    Menu {
        /// Line number from 1.
        line: usize,
        /// What is wrong.
        what: String,
    },
    /// The kernel's parameters or the answer file lack what an installer needs.
    #[error("the installer stops: {0}")]
    Installer(String),
    /// The survey cannot be run.
    #[error("the survey stops: {0}")]
    Survey(String),
}
