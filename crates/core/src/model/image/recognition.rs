//! What recognition gives: values, each with the place where it was read.

use lastmile_formats::cpu::Cpu;
use serde::{Deserialize, Serialize};

use super::{Family, ImageKind};
use crate::base::Fault;

/// Something that was read, and where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Found<T> {
    /// What was read.
    pub value: T,
    /// Where: a path, and what in it.
    pub from: String,
}

impl<T> Found<T> {
    /// What was read, and where.
    pub const fn new(value: T, from: String) -> Self {
        Self { value, from }
    }
}

/// An edition, environment or package set that an image offers.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Edition {
    /// What answers name it by.
    pub id: String,
    /// What it is called.
    pub title: String,
    /// Where it was read.
    pub from: String,
}

/// What a set of files is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recognition {
    /// Which answer file it reads.
    pub family: Option<Found<Family>>,
    /// What it is for.
    pub kind: Option<Found<ImageKind>>,
    /// What the system calls itself.
    pub system: Option<Found<String>>,
    /// The system's version.
    pub version: Option<Found<String>>,
    /// The processor it is for.
    pub cpu: Option<Found<Cpu>>,
    /// The volume's label.
    pub label: Option<Found<String>>,
    /// Path of the kernel.
    pub kernel: Option<Found<String>>,
    /// The kernel's version, as it stands in the kernel.
    pub kernel_version: Option<Found<String>>,
    /// Paths of the initrds.
    pub initrds: Vec<Found<String>>,
    /// Path of the UEFI application that is started instead of a kernel.
    pub program: Option<Found<String>>,
    /// Path of the raw disk image.
    pub disk: Option<Found<String>>,
    /// Kernel parameters that it needs.
    pub parameters: Vec<Found<String>>,
    /// Editions, environments and package sets that it offers.
    pub editions: Vec<Edition>,
    /// Who signed what is started, for Secure Boot. Empty: nobody.
    pub signers: Vec<Found<String>>,
    /// What is wrong with it.
    pub faults: Vec<Fault>,
    /// What is good to know about it.
    pub notes: Vec<String>,
}

impl Recognition {
    /// A name for an image of it, of the system's name and version.
    #[must_use]
    pub fn proposed_name(&self) -> String {
        let version = self.version.as_ref().map(|found| found.value.as_str()).unwrap_or_default();
        let system = self.system.as_ref().map(|found| found.value.as_str()).unwrap_or_default();
        let both = if system.contains(version) { system.to_owned() } else { format!("{system} {version}") };
        let plain =
            |c: char| if c.is_ascii_alphanumeric() || c == '.' { c.to_ascii_lowercase() } else { ' ' };
        let words: Vec<String> =
            both.chars().map(plain).collect::<String>().split_whitespace().map(str::to_owned).collect();
        words.join("-").trim_matches(['-', '.']).chars().take(crate::base::name::MAX_LABEL).collect()
    }

    /// What a person would read of it: the system and its version.
    #[must_use]
    pub fn proposed_title(&self) -> Option<String> {
        let system = &self.system.as_ref()?.value;
        let version = self
            .version
            .as_ref()
            .map(|found| &found.value)
            .filter(|version| !system.contains(version.as_str()));
        let title = version.map_or_else(|| system.clone(), |version| format!("{system} {version}"));
        Some(title.chars().filter(|c| !c.is_control()).collect())
    }

    /// Everything that was read, in words: what, value, where it was read.
    #[must_use]
    pub fn rows(&self) -> Vec<[String; 3]> {
        let mut rows = Vec::new();
        let mut row =
            |what: &str, value: String, from: &str| rows.push([what.to_owned(), value, from.to_owned()]);
        let text = |found: &Option<Found<String>>| found.clone().map(|found| (found.value, found.from));
        if let Some(kind) = &self.kind {
            row("kind", kind.value.as_str().into(), &kind.from);
        }
        if let Some(family) = &self.family {
            row("answer file", family.value.as_str().into(), &family.from);
        }
        let singles = [("system", &self.system), ("version", &self.version)];
        for (what, (value, from)) in
            singles.into_iter().filter_map(|(what, found)| Some((what, text(found)?)))
        {
            row(what, value, &from);
        }
        if let Some(cpu) = &self.cpu {
            row("processor", cpu.value.as_str().into(), &cpu.from);
        }
        let singles = [
            ("volume label", &self.label),
            ("kernel", &self.kernel),
            ("kernel version", &self.kernel_version),
            ("application", &self.program),
            ("disk", &self.disk),
        ];
        for (what, (value, from)) in
            singles.into_iter().filter_map(|(what, found)| Some((what, text(found)?)))
        {
            row(what, value, &from);
        }
        let lists =
            [("initrd", &self.initrds), ("parameter", &self.parameters), ("signed by", &self.signers)];
        for (what, list) in lists {
            list.iter().for_each(|found| row(what, found.value.clone(), &found.from));
        }
        for edition in &self.editions {
            let title =
                if edition.title.is_empty() { String::new() } else { format!(" ({})", edition.title) };
            row("offers", format!("{}{title}", edition.id), &edition.from);
        }
        rows
    }
}
