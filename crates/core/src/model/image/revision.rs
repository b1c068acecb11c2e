//! An image and one immutable revision of it.

use std::sync::Arc;

use jiff::Timestamp;
use lastmile_formats::cpu::Cpu;
use lastmile_formats::iso9660::BOOT_FILES;
use serde::{Deserialize, Serialize};

use super::{Manifest, Recognition, Sha256, Volume};
use crate::base::{Fault, Id};

/// What an image is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum ImageKind {
    /// Installs an operating system on the machine's disk.
    Installer,
    /// Runs from memory and is fetched at every start.
    Live,
    /// A tool that a person picks from a menu: a memory test, a hardware listing.
    Tool,
    /// The system that machines are surveyed by.
    Survey,
    /// A raw disk image, written to the machine's disk.
    Disk,
    /// A UEFI application: an operating system's own boot manager, with its files.
    FirmwareApp,
}

impl ImageKind {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// Which answer file an installer reads.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Family {
    /// A debconf preseed file.
    Preseed,
    /// A kickstart file.
    Kickstart,
    /// An autoinstall file, as cloud-config.
    Autoinstall,
    /// Cloud-config for a live image, which cloud-init reads at each start.
    CloudConfig,
    /// An XML file for unattended set-up.
    UnattendedXml,
    /// None, or one that is not known here.
    None,
}

impl Family {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// What is started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Start {
    /// A kernel with its initrds, by a loader.
    Kernel {
        /// Path of the kernel in the manifest.
        kernel: String,
        /// Paths of the initrds, in the order the loader is to concatenate them.
        initrds: Vec<String>,
    },
    /// A UEFI application, which a loader hands over to.
    Program {
        /// Its path in the manifest.
        path: String,
    },
    /// Nothing: the file is written to a disk.
    Disk {
        /// Its path in the manifest.
        path: String,
    },
}

impl Start {
    /// The path of what is started or written.
    #[must_use]
    pub fn path(&self) -> &str {
        match self {
            Self::Kernel { kernel, .. } => kernel,
            Self::Program { path } | Self::Disk { path } => path,
        }
    }

    /// The initrds.
    #[must_use]
    pub fn initrds(&self) -> &[String] {
        match self {
            Self::Kernel { initrds, .. } => initrds,
            Self::Program { .. } | Self::Disk { .. } => &[],
        }
    }
}

/// An image and its current revision.
#[derive(Debug, Clone, PartialEq)]
pub struct Image {
    /// Identity.
    pub id: Id<Image>,
    /// What people and paths call it.
    pub name: String,
    /// What the person at the machine reads.
    pub title: String,
    /// What it is for.
    pub kind: ImageKind,
    /// The highest number that a revision of it ever had.
    pub last_number: u32,
    /// The revision that new installs get.
    pub current: Arc<Revision>,
}

impl Image {
    /// Whether machines are given answers with it.
    #[must_use]
    pub fn reads_answers(&self) -> bool {
        matches!(self.kind, ImageKind::Installer | ImageKind::Live) && self.current.family != Family::None
    }

    /// The same image under another title.
    ///
    /// # Errors
    /// What is wrong with the title.
    pub fn retitled(&self, title: &str) -> Result<Self, Fault> {
        check_title(title)?;
        Ok(Self { title: title.trim().into(), ..self.clone() })
    }
}

pub(crate) fn check_title(title: &str) -> Result<(), Fault> {
    if title.trim().is_empty() || title.chars().any(char::is_control) {
        let fix = "Give one line of text: it is what the person at the machine reads.".into();
        return Err(Fault { place: "title".into(), what: "empty, or with control characters".into(), fix });
    }
    Ok(())
}

/// One import of an image. What it holds never changes; what is known of it does.
#[derive(Debug, Clone, PartialEq)]
pub struct Revision {
    /// Identity.
    pub id: Id<Revision>,
    /// The image it is of.
    pub image: Id<Image>,
    /// That image's name.
    pub image_name: String,
    /// 1, 2, 3 …
    pub number: u32,
    /// When it was imported.
    pub created: Timestamp,
    /// Which answer file it reads.
    pub family: Family,
    /// What is started.
    pub start: Start,
    /// The processor it is for, if that is known.
    pub cpu: Option<Cpu>,
    /// Kernel parameters it always needs. They may name the machine's values (`{{ address }}`).
    pub parameters: Vec<String>,
    /// Keys of the installer family's kernel parameters that it does without.
    pub without_parameters: Vec<String>,
    /// Its files.
    pub manifest: Manifest,
    /// The volume that its files lie in, if they lie in one.
    pub volume: Option<Arc<Volume>>,
    /// What was recognised in it.
    pub recognised: Arc<Recognition>,
    /// What was wrong with it when it was imported. While there is anything, it is not served.
    pub lacks: Vec<Fault>,
    /// When it was taken out of use.
    pub retired: Option<Timestamp>,
    /// When every file was last found to be as its digest says.
    pub verified: Option<Timestamp>,
    /// Paths whose content is missing or changed. While there are any, it is not served.
    pub damaged: Vec<String>,
}

impl Revision {
    /// Whether it is a disc whose boot program lies in a boot image only: firmware that takes it whole has the disc beside its
    /// program, which a loader that starts the program alone has not.
    #[must_use]
    pub fn boots_as_disc(&self) -> bool {
        let in_boot_image =
            |path: &str| path.strip_prefix(BOOT_FILES).is_some_and(|rest| rest.starts_with('/'));
        self.volume.is_some() && matches!(&self.start, Start::Program { path } if in_boot_image(path))
    }

    /// Digest over all of its files, once every one of them was read.
    #[must_use]
    pub fn manifest_hash(&self) -> Option<Sha256> {
        self.manifest.hash()
    }

    /// Why it cannot be served, in words for a person; empty if it can.
    #[must_use]
    pub fn lacking(&self) -> Vec<String> {
        let damaged =
            (!self.damaged.is_empty()).then(|| format!("{} missing or changed", self.damaged.join(", ")));
        self.lacks.iter().map(|fault| format!("{}: {}", fault.place, fault.what)).chain(damaged).collect()
    }

    /// Whether it can be served.
    #[must_use]
    pub const fn is_ready(&self) -> bool {
        self.damaged.is_empty() && self.lacks.is_empty()
    }

    /// Whether firmware of a processor can start it; also where the image's is not known.
    #[must_use]
    pub fn runs_on(&self, cpu: Option<Cpu>) -> bool {
        match (self.cpu, cpu) {
            // 64-bit x86 firmware starts a 32-bit kernel, too, but no 32-bit application.
            (Some(Cpu::X86), Some(Cpu::X64)) => matches!(self.start, Start::Kernel { .. }),
            (Some(own), Some(asked)) => own == asked,
            _ => true,
        }
    }

    /// What in its name disagrees with what is in it.
    #[must_use]
    pub fn disagreements(&self, title: &str) -> Vec<String> {
        let mut all = Vec::new();
        if let Some(version) = &self.recognised.version {
            let inner: Vec<&str> = numbers(&version.value).collect();
            for (what, text) in [("name", self.image_name.as_str()), ("title", title)] {
                let outer: Vec<&str> = numbers(text).collect();
                let agrees =
                    outer.is_empty() || inner.is_empty() || outer.iter().any(|n| inner.first() == Some(n));
                if !agrees {
                    all.push(format!(
                        "the {what} '{text}' says {}, but {} says {}",
                        outer.join("."),
                        version.from,
                        version.value
                    ));
                }
            }
        }
        if let (Some(by_hand), Some(read)) = (self.cpu, &self.recognised.cpu)
            && by_hand != read.value
        {
            all.push(format!("it is said to be for {by_hand}, but {} is for {}", read.from, read.value));
        }
        all
    }
}

/// The numbers in a text: `tidewrack-12.5` has 12 and 5. Those in words like `x64` do not count.
fn numbers(text: &str) -> impl Iterator<Item = &str> {
    let parts = text.split(|c: char| !c.is_ascii_alphanumeric());
    parts.filter(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()))
}
