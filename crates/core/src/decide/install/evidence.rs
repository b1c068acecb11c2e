//! What moves an install on.

use std::{collections::BTreeMap, net::Ipv4Addr};

use jiff::Timestamp;
use lastmile_formats::architecture::Architecture;

use crate::{
    base::{Fault, size_text},
    model::{
        answers::Question,
        image::Sha256,
        install::{Install, InstallState, MAX_KERNEL_FETCHES, ReportStage, Step, StepKind},
    },
};

/// Something that was seen of the machine on the wire.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Evidence {
    /// It was granted an address.
    Lease {
        /// The address.
        address: Ipv4Addr,
        /// Its firmware, if it was firmware that asked.
        firmware: Option<Architecture>,
    },
    /// It fetched a loader's file to the end.
    Loader {
        /// The file.
        file: String,
    },
    /// Its loader fetched the menu.
    Menu,
    /// Its loader fetched the screen that waits for answers.
    Waits,
    /// It fetched the kernel to the end.
    Kernel {
        /// The file.
        file: String,
        /// Bytes.
        size: u64,
    },
    /// It fetched an initrd to the end.
    Initrd {
        /// The file.
        file: String,
        /// Bytes.
        size: u64,
    },
    /// It fetched its answer file.
    Answers {
        /// Digest of the file as served.
        sha256: Sha256,
    },
    /// It reported, perhaps with a text.
    Report(ReportStage, Option<String>),
}

impl Install {
    /// Whether it has begun too often to be begun again.
    #[must_use]
    pub const fn is_looping(&self) -> bool {
        self.kernel_fetches >= MAX_KERNEL_FETCHES
    }

    /// What `evidence` makes of this install: its next value and the entry in its record.
    ///
    /// `None` if it says nothing new. Every report may arrive twice, late, or out of order.
    #[must_use]
    pub fn see(&self, evidence: &Evidence, now: Timestamp) -> Option<(Self, Step)> {
        if !self.state.is_open() {
            return self.see_late(evidence, now);
        }
        let mut next = self.clone();
        let (kind, detail) = match evidence {
            Evidence::Lease { address, firmware: Some(architecture) } => {
                next.begin_boot(now);
                (StepKind::Lease, format!("{address} to {architecture} firmware"))
            }
            // A lease without PXE options is the installer's own, or, before any boot, that of whatever ran before.
            Evidence::Lease { .. } if self.state == InstallState::Armed => return None,
            Evidence::Lease { address, firmware: None } => {
                (StepKind::Lease, format!("{address} to the running system"))
            }
            Evidence::Loader { file } => {
                next.begin_boot(now);
                (StepKind::Loader, file.clone())
            }
            Evidence::Menu => {
                next.begin_boot(now);
                (StepKind::Menu, format!("{} {} of {}", self.action(), self.image_title, self.machine_name))
            }
            Evidence::Waits => {
                next.begin_boot(now);
                let open: Vec<&str> = self.open_questions.keys().map(String::as_str).collect();
                (StepKind::Waits, format!("for an answer to {}", open.join(", ")))
            }
            Evidence::Kernel { file, size } => {
                next.begin_boot(now);
                // A loader may ask for the kernel several times in one boot.
                if !matches!(self.last_step, Some(StepKind::Kernel | StepKind::Initrd)) {
                    next.kernel_fetches += 1;
                }
                (StepKind::Kernel, format!("{file}, {}", size_text(*size)))
            }
            Evidence::Initrd { file, size } => (StepKind::Initrd, format!("{file}, {}", size_text(*size))),
            Evidence::Answers { sha256 } => {
                next.state = InstallState::Installing;
                next.installing_at.get_or_insert(now);
                next.answer_hash = Some(*sha256);
                (StepKind::Answers, format!("answer file {}", sha256.short()))
            }
            Evidence::Report(stage, text) => {
                let said = |otherwise: &str| text.clone().unwrap_or_else(|| otherwise.into());
                match stage {
                    ReportStage::Started => {
                        next.state = InstallState::Installing;
                        next.installing_at.get_or_insert(now);
                        let runs = if self.is_stateless { "the system runs" } else { "the installer runs" };
                        (StepKind::Started, said(runs))
                    }
                    // The system runs: its installer was through, whether its own report came or not.
                    ReportStage::Done | ReportStage::Booted => {
                        next.end(InstallState::Installed, None, now);
                        (StepKind::Done, said("the installer has finished"))
                    }
                    ReportStage::Failed => {
                        let reason = said("the installer reported a failure");
                        next.end(InstallState::Failed, Some(reason.clone()), now);
                        (StepKind::Failed, reason)
                    }
                }
            }
        };
        if self.last_step == Some(kind)
            && self.state == next.state
            && self.answer_hash == next.answer_hash
            && kind != StepKind::Loader
            && kind != StepKind::Initrd
        {
            return None;
        }
        Some(next.stepped(kind, detail, now))
    }

    /// Stops an install that has begun too often.
    #[must_use]
    pub fn stall(&self, now: Timestamp) -> Option<(Self, Step)> {
        let reason = format!("fetched its kernel {} times without reaching its end", self.kernel_fetches);
        self.stop(InstallState::Stalled, StepKind::Stalled, reason, now)
    }

    /// Takes answers to questions, given by a person. `questions` is everything that its layers ask. `None` if it is not
    /// open any more, or has read its settings already.
    ///
    /// # Errors
    /// Answers that fit no question or not theirs.
    pub fn answer(
        &self,
        questions: &BTreeMap<String, Question>,
        answers: &BTreeMap<String, String>,
        by: &str,
        now: Timestamp,
    ) -> Result<Option<(Self, Step)>, Vec<Fault>> {
        let taken = crate::model::answers::take_answers(questions, answers)?;
        if !matches!(self.state, InstallState::Armed | InstallState::Booting) || taken.is_empty() {
            return Ok(None);
        }
        let mut next = self.clone();
        let keys: Vec<&str> = taken.keys().map(String::as_str).collect();
        let detail = format!("{} by {by}", keys.join(", "));
        next.open_questions.retain(|key, _| !taken.contains_key(key));
        next.asked.extend(taken);
        let last_step = next.last_step;
        let (mut next, step) = next.stepped(StepKind::Answered, detail, now);
        // How far the machine came is not changed by what a person says; how long it may take from now on is.
        next.last_step = last_step;
        Ok(Some((next, step)))
    }

    /// Calls it off. `None` if it has ended already.
    #[must_use]
    pub fn cancel(&self, by: &str, now: Timestamp) -> Option<(Self, Step)> {
        self.stop(InstallState::Cancelled, StepKind::Cancelled, format!("cancelled by {by}"), now)
    }

    pub(super) fn stop(
        &self,
        state: InstallState,
        kind: StepKind,
        reason: String,
        now: Timestamp,
    ) -> Option<(Self, Step)> {
        if !self.state.is_open() {
            return None;
        }
        let mut next = self.clone();
        next.end(state, Some(reason.clone()), now);
        Some(next.stepped(kind, reason, now))
    }

    pub(super) fn begin_boot(&mut self, now: Timestamp) {
        self.state = InstallState::Booting;
        self.booting_at.get_or_insert(now);
    }

    pub(super) fn end(&mut self, state: InstallState, reason: Option<String>, now: Timestamp) {
        self.state = state;
        self.reason = reason;
        self.ended_at = Some(now);
    }

    pub(super) fn stepped(mut self, kind: StepKind, detail: String, now: Timestamp) -> (Self, Step) {
        // How it ended is its state; the last step keeps saying how far it came.
        if !matches!(
            kind,
            StepKind::Failed
                | StepKind::Stalled
                | StepKind::Overdue
                | StepKind::Refused
                | StepKind::Cancelled
        ) {
            self.last_step = Some(kind);
        }
        self.last_step_at = now;
        (self, Step { at: now, kind, detail })
    }
}

#[cfg(test)]
#[path = "evidence_tests.rs"]
mod tests;

#[cfg(test)]
#[path = "life_tests.rs"]
mod life;
