//! Failures that teach: what is wrong, where, and what to do; and the exit code that says which kind it is.

use std::{io::Write, path::PathBuf};

use lastmile_api::DraftDifference;
use lastmile_client::ClientError;
use lastmile_core::base::Fault;
use thiserror::Error;

/// How a command ends. What each number means is part of the interface: docs/commands.md lists them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ExitStatus {
    /// Rejected by the service, or failed.
    Failed = 1,
    /// Used wrongly: as clap ends, too.
    Usage = 2,
    /// What was named is not there.
    NotFound = 3,
    /// Somebody else has changed it meanwhile.
    Conflict = 4,
    /// The service does not answer.
    Unreachable = 5,
    /// Time was up.
    TimedOut = 6,
    /// The service does not permit it.
    NotPermitted = 7,
}

/// The table of exit codes, for the reference.
pub(crate) const EXIT_CODES: [(u8, &str); 8] = [
    (0, "done"),
    (ExitStatus::Failed as u8, "rejected or failed; `check`, `wait` and `answers lint`: something is wrong"),
    (ExitStatus::Usage as u8, "used wrongly, or `--yes` is missing where nobody can be asked"),
    (ExitStatus::NotFound as u8, "what was named does not exist"),
    (ExitStatus::Conflict as u8, "somebody else has changed it meanwhile"),
    (ExitStatus::Unreachable as u8, "the service does not answer"),
    (ExitStatus::TimedOut as u8, "the time given by --timeout is over"),
    (ExitStatus::NotPermitted as u8, "not permitted"),
];

/// Why a command did not do what it was asked.
#[derive(Debug, Error)]
pub(crate) enum Failure {
    #[error(transparent)]
    Client(#[from] ClientError),
    #[error(transparent)]
    Start(#[from] lastmile_server::StartError),
    #[error(transparent)]
    Config(#[from] lastmile_server::config::ConfigError),
    #[error("{0}")]
    Io(#[from] std::io::Error),
    #[error("{place}: {what}")]
    Input {
        /// The file or argument.
        place: String,
        /// What is wrong.
        what: String,
        /// What to do.
        fix: &'static str,
    },
    #[error("{place}: {what}")]
    Usage {
        /// The argument.
        place: String,
        /// What is wrong.
        what: String,
        /// What to do.
        fix: &'static str,
    },
    #[error("{what}")]
    TimedOut {
        /// What has not ended.
        what: String,
        /// What to do.
        fix: &'static str,
    },
    #[error("{what}")]
    NotFound {
        /// What is not there.
        what: String,
        /// What to do.
        fix: &'static str,
    },
    #[error("nothing was changed")]
    Declined,
    #[error("{0}")]
    Broken(String),
    #[error("{what}")]
    Faults {
        /// What cannot be done.
        what: String,
        /// Why.
        faults: Vec<Fault>,
    },
    #[error("{why}")]
    Kept {
        /// Why what the person wrote could not be saved.
        why: Box<Failure>,
        /// The file that has it.
        path: PathBuf,
        /// What to do with it.
        next: &'static str,
    },
}

impl Failure {
    /// Something is wrong with how the command was called.
    pub(crate) fn usage(place: impl Into<String>, what: impl Into<String>, fix: &'static str) -> Self {
        Self::Usage { place: place.into(), what: what.into(), fix }
    }

    /// The exit code that says which kind of failure it is.
    pub(crate) fn status(&self) -> ExitStatus {
        match self {
            Self::Client(ClientError::Unreachable { .. }) => ExitStatus::Unreachable,
            Self::Client(ClientError::Problem(problem)) => match problem.status {
                401 | 403 => ExitStatus::NotPermitted,
                404 => ExitStatus::NotFound,
                412 => ExitStatus::Conflict,
                _ => ExitStatus::Failed,
            },
            Self::Usage { .. } => ExitStatus::Usage,
            Self::TimedOut { .. } => ExitStatus::TimedOut,
            Self::NotFound { .. } => ExitStatus::NotFound,
            Self::Kept { why, .. } => why.status(),
            _ => ExitStatus::Failed,
        }
    }

    /// Says on standard error what is wrong, where, and what to do.
    pub(crate) fn print(&self) {
        let mut error = std::io::stderr();
        let _ = writeln!(error, "lastmile: {self}");
        for line in self.advice() {
            let _ = writeln!(error, "  {line}");
        }
    }

    fn advice(&self) -> Vec<String> {
        match self {
            Self::Client(ClientError::Problem(problem)) => {
                let faults = problem.faults.iter().flat_map(fault_lines);
                faults.chain(problem.differences.iter().flat_map(difference_lines)).collect()
            }
            Self::Client(ClientError::Unreachable { .. }) => vec![
                "Is the service running? `systemctl status lastmile` tells, `lastmile serve` starts it."
                    .into(),
                "Is it on another host? Name it with --server or LASTMILE_SERVER.".into(),
            ],
            Self::Input { fix, .. }
            | Self::Usage { fix, .. }
            | Self::TimedOut { fix, .. }
            | Self::NotFound { fix, .. } => vec![(*fix).into()],
            Self::Faults { faults, .. } => faults.iter().flat_map(fault_lines).collect(),
            Self::Kept { why, path, next } => {
                let mut lines = why.advice();
                lines.push(format!("Your text is kept in {}. {next}", path.display()));
                lines
            }
            _ => vec![],
        }
    }
}

fn difference_lines(difference: &DraftDifference) -> [String; 3] {
    let or_nothing = |text: &Option<String>| text.clone().unwrap_or_else(|| "nothing".into());
    [
        format!("{}:", difference.place),
        format!("    saved  {}", or_nothing(&difference.saved)),
        format!("    yours  {}", or_nothing(&difference.yours)),
    ]
}

fn fault_lines(fault: &Fault) -> [String; 2] {
    let place = if fault.place.is_empty() { String::new() } else { format!("{}: ", fault.place) };
    [format!("{place}{}", fault.what), format!("    {}", fault.fix)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_have_their_place_and_fix() {
        let fault =
            Fault { place: "macs[0]".into(), what: "'zz' is no MAC".into(), fix: "Write six.".into() };
        assert_eq!(fault_lines(&fault), ["macs[0]: 'zz' is no MAC", "    Write six."]);
    }

    #[test]
    fn what_was_kept_ends_as_why_it_could_not_be_saved() {
        let why = Failure::usage("--set", "no value", "Give one.");
        let kept = Failure::Kept { why: Box::new(why), path: "/tmp/menu.toml".into(), next: "Correct it." };
        assert_eq!(kept.status(), ExitStatus::Usage);
        assert_eq!(kept.advice(), ["Give one.", "Your text is kept in /tmp/menu.toml. Correct it."]);
    }
}
