//! Asking before anything is lost.

use std::io::{IsTerminal, Write};

use clap::Args;

use crate::output::Failure;

/// Whether a person has agreed.
#[derive(Debug, Clone, Copy, Default, Args)]
pub(crate) struct Confirm {
    /// Do not ask. Needed where nobody can be asked, as in a script.
    #[arg(long, short)]
    yes: bool,
}

impl Confirm {
    /// Asks, and goes on only if the answer is yes.
    ///
    /// # Errors
    /// That the answer is no, or that nobody can be asked and `--yes` is not given.
    pub(crate) fn ask(self, question: &str) -> Result<(), Failure> {
        if self.yes {
            return Ok(());
        }
        if !std::io::stdin().is_terminal() {
            return Err(Failure::usage(
                "--yes",
                question.to_owned(),
                "Give --yes: nobody can be asked here.",
            ));
        }
        if agreed(question)? { Ok(()) } else { Err(Failure::Declined) }
    }
}

/// Asks a question on the terminal.
///
/// # Errors
/// That the terminal cannot be read.
pub(crate) fn agreed(question: &str) -> Result<bool, Failure> {
    let mut error = std::io::stderr();
    write!(error, "{question} [y/N] ")?;
    error.flush()?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
