//! What every driver can be asked, and how it says that it could not.

use std::{future::Future, time::Duration};

use thiserror::Error;

/// Whether a machine is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum Power {
    /// It is.
    On,
    /// It is not; its controller still is.
    Off,
}

/// What a machine's power is to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::IntoStaticStr, strum::EnumString)]
#[strum(serialize_all = "kebab-case")]
pub enum Switch {
    /// To be on.
    On,
    /// To be off at once, whatever runs.
    Off,
    /// Off and on again.
    Cycle,
    /// Its system is asked to shut down, as by a short press of its button.
    ShutDown,
}

/// What a machine is to boot once, at its next start.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::IntoStaticStr, strum::EnumString)]
#[strum(serialize_all = "kebab-case")]
pub enum NextBoot {
    /// The network, by PXE.
    Network,
    /// The network, by UEFI's HTTP boot.
    Http,
    /// Its disk.
    Disk,
    /// A disc in its drive, or one that its controller plays.
    Disc,
    /// Its firmware's settings.
    Setup,
}

/// Why a controller did not do something, in the words of whoever has to mend it.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Failure {
    /// Nothing is heard of it.
    #[error("nothing is heard of it within {0:?}")]
    Silent(Duration),
    /// The network refuses.
    #[error("it cannot be reached: {0}")]
    Unreachable(String),
    /// It does not let this user in.
    #[error("it does not let the user {user} in: {why}")]
    LogIn {
        /// Who it was.
        user: String,
        /// What it said.
        why: String,
    },
    /// It is not who it is thought to be.
    #[error("it is not the one that is expected: {0}")]
    Impostor(String),
    /// It cannot do this at all.
    #[error("it cannot do this: {0}")]
    Unsupported(String),
    /// It has no time now.
    #[error("it is busy: {0}")]
    Busy(String),
    /// It says no.
    #[error("it refuses: {0}")]
    Refused(String),
    /// What it says makes no sense.
    #[error("its answer cannot be read: {0}")]
    Garbled(String),
}

impl Failure {
    /// What somebody may do about it.
    #[must_use]
    pub const fn next_step(&self) -> &'static str {
        match self {
            Self::Silent(_) => {
                "Look whether its address is right, its cable in, and no filter between; controllers also hang: take its power away for half a minute."
            }
            Self::Unreachable(_) => "Give the service's host a way to the controller's network.",
            Self::LogIn { .. } => {
                "Correct the user and password on record; the user needs the right to operate, over the network."
            }
            Self::Impostor(_) => {
                "Look who has its address; if its certificate was renewed, accept the new one."
            }
            Self::Unsupported(_) => "Take another driver, or do it by hand.",
            Self::Busy(_) => {
                "It is tried again by itself; some controllers take minutes after they were restarted."
            }
            Self::Refused(_) => {
                "Read its log: machine and controller may be in a state in which they cannot."
            }
            Self::Garbled(_) => "Look for newer firmware of the controller, or take another driver.",
        }
    }

    /// Whether the same may go well a little later, without anybody doing anything.
    #[must_use]
    pub const fn may_pass(&self) -> bool {
        matches!(self, Self::Silent(_) | Self::Busy(_) | Self::Garbled(_))
    }
}

/// One way to a machine's power.
pub trait Driver {
    /// Whether the machine is on.
    ///
    /// # Errors
    /// [`Failure`].
    fn power(&self) -> impl Future<Output = Result<Power, Failure>> + Send;

    /// Switches it. Comes back once the controller has taken it, which is before it is done.
    ///
    /// # Errors
    /// [`Failure`].
    fn switch(&self, switch: Switch) -> impl Future<Output = Result<(), Failure>> + Send;

    /// Has it boot something once, at its next start; nothing takes that back. `is_uefi` is how its firmware is to start it.
    ///
    /// # Errors
    /// [`Failure`]; [`Failure::Unsupported`] where the controller has no word for it.
    fn boot_next(
        &self,
        next: Option<NextBoot>,
        is_uefi: bool,
    ) -> impl Future<Output = Result<(), Failure>> + Send;

    /// What it will boot once, as the controller has it.
    ///
    /// # Errors
    /// [`Failure`].
    fn next_boot(&self) -> impl Future<Output = Result<Option<NextBoot>, Failure>> + Send;
}
