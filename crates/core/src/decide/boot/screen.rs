//! What the person at one machine sees, before it is written in a loader's language.

use std::time::Duration;

use lastmile_formats::{architecture::Architecture, mac::Mac};

use crate::model::{
    menu::{After, Guard},
    parameter::Parameter,
};

/// A kernel to start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KernelBoot {
    /// Path of the kernel on the service.
    pub kernel: String,
    /// Paths of the initrds.
    pub initrds: Vec<String>,
    /// The kernel's parameters, merged, each with its origin.
    pub parameters: Vec<Parameter>,
}

impl KernelBoot {
    /// The parameters' words.
    pub fn words(&self) -> impl Iterator<Item = &str> {
        self.parameters.iter().map(|parameter| parameter.word.as_str())
    }
}

/// What choosing a line does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LineAction {
    /// Starts a kernel.
    Kernel(KernelBoot),
    /// Hands over to a UEFI application at this path on the service.
    Program(String),
    /// Starts from a disk on the network (RFC 4173).
    NetworkDisk(String),
    /// Asks the service, by the line's path: it arms an install and says what is started.
    Pick,
    /// Asks the service again after a while, for the machine of this address: something is waited for.
    Again(Mac),
    /// Starts from the machine's disk.
    LocalDisk,
    /// Opens the firmware's set-up.
    FirmwareSetup,
    /// Restarts.
    Restart,
    /// Switches off.
    PowerOff,
    /// Opens further lines.
    Lines(Vec<Line>),
    /// Nothing can be started: says why.
    Message(String),
}

/// One line of a screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// What it is called in the loader's text: keys of the entries on the way to it, joined by `.`.
    pub key: String,
    /// What it says.
    pub title: String,
    /// Path on the service at which what it starts is read once it was picked.
    pub path: String,
    /// What choosing it does.
    pub action: LineAction,
    /// The phrase that is asked for before.
    pub guard: Option<Guard>,
}

/// A line that this machine does not get, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// What it would say.
    pub title: String,
    /// Why it is left out.
    pub why: String,
}

/// What the person at one machine sees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Screen {
    /// Why this machine gets it: shown as a comment in the loader's text.
    pub why: String,
    /// The title; empty for none.
    pub title: String,
    /// The lines.
    pub lines: Vec<Line>,
    /// Key of the line that starts by itself. One of `lines`, or nothing is started.
    pub default: String,
    /// Time until the default starts; `None` waits for a person.
    pub timeout: Option<Duration>,
    /// Not shown unless somebody presses a key in that time.
    pub silent: bool,
    /// What follows when a chosen line comes back without having started anything.
    pub after: After,
    /// Lines that this machine does not get.
    pub left_out: Vec<LeftOut>,
    /// The machine's firmware, where that is known.
    pub architecture: Option<Architecture>,
}

impl Screen {
    /// Every line, those within others included, in order.
    #[must_use]
    pub fn all_lines(&self) -> Vec<&Line> {
        fn gather<'a>(lines: &'a [Line], all: &mut Vec<&'a Line>) {
            for line in lines {
                all.push(line);
                if let LineAction::Lines(inner) = &line.action {
                    gather(inner, all);
                }
            }
        }
        let mut all = Vec::new();
        gather(&self.lines, &mut all);
        all
    }

    /// The line of that key.
    #[must_use]
    pub fn line(&self, key: &str) -> Option<&Line> {
        self.all_lines().into_iter().find(|line| line.key == key)
    }

    /// What starts by itself.
    #[must_use]
    pub fn default_line(&self) -> Option<&Line> {
        self.lines.iter().find(|line| line.key == self.default).or_else(|| self.lines.first())
    }

    /// Whether any line asks for a phrase.
    #[must_use]
    pub fn is_guarded(&self) -> bool {
        self.all_lines().iter().any(|line| line.guard.is_some())
    }
}
