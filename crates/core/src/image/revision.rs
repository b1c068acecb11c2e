//! An image and one immutable revision of it.

use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{FileEntry, Manifest, Sha256, check_files};
use crate::{Fault, Faults, Id, name};

/// What an image is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ImageKind {
    /// Installs an operating system on the machine's disk.
    Installer,
    /// Runs from memory and is fetched at every start.
    Live,
    /// A tool that a person picks from a menu.
    Tool,
}

/// Which answer file an installer reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Family {
    /// A debconf preseed file.
    Preseed,
    /// None.
    None,
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
    /// The revision that new installs get.
    pub current: Arc<Revision>,
}

/// One import of an image. Nothing in it ever changes.
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
    /// Path of the kernel in the manifest.
    pub kernel: String,
    /// Paths of the initrds, in the order the loader is to concatenate them.
    pub initrds: Vec<String>,
    /// Kernel parameters it always needs.
    pub parameters: Vec<String>,
    /// Its files.
    pub manifest: Manifest,
    /// Paths whose content is missing or changed. While there are any, it is not served.
    pub damaged: Vec<String>,
}

impl Revision {
    /// Digest over all of its files.
    #[must_use]
    pub fn manifest_hash(&self) -> Sha256 {
        self.manifest.hash()
    }

    /// Whether it can be booted.
    #[must_use]
    pub const fn is_ready(&self) -> bool {
        self.damaged.is_empty()
    }
}

/// A revision as a person enters it, its contents already uploaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RevisionDraft {
    /// The image's name. A new image is made if there is none of that name.
    pub name: String,
    /// What the person at the machine reads; the name if left out.
    #[serde(default)]
    pub title: Option<String>,
    /// What the image is for.
    pub kind: ImageKind,
    /// Which answer file it reads.
    #[serde(default = "RevisionDraft::default_family")]
    pub family: Family,
    /// Path of the kernel among the files.
    pub kernel: String,
    /// Paths of the initrds among the files, in order.
    #[serde(default)]
    pub initrds: Vec<String>,
    /// Kernel parameters it always needs.
    #[serde(default)]
    pub parameters: Vec<String>,
    /// Its files.
    pub files: Vec<FileEntry>,
}

impl RevisionDraft {
    const fn default_family() -> Family {
        Family::None
    }

    /// Checks the draft and makes it the next revision of `existing`, or the first of a new image.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(
        &self,
        existing: Option<&Image>,
        now: Timestamp,
        has_content: impl Fn(&Sha256, u64) -> bool,
    ) -> Result<Image, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(&self.name), name::THING_NAME_MEND);
        if let Some(title) = &self.title
            && (title.trim().is_empty() || title.chars().any(char::is_control))
        {
            faults.add(
                "title",
                "empty, or with control characters",
                "Give one line of text, or leave it out.",
            );
        }
        if let Some(existing) = existing.filter(|existing| existing.kind != self.kind) {
            faults.add(
                "kind",
                format!("image '{}' has another kind ({:?})", self.name, existing.kind),
                "Import under another name; a revision keeps its image's kind.",
            );
        }
        if self.family != Family::None && self.kind != ImageKind::Installer {
            faults.add(
                "family",
                "only an installer reads an answer file",
                "Leave the family out, or make the image an installer.",
            );
        }
        let names = || self.files.iter().map(|file| file.path.as_str()).collect::<Vec<_>>().join(", ");
        let mut among = |place: String, what: &str, path: &str| {
            if !self.files.iter().any(|file| file.path == path) {
                let what = format!("the {what} '{path}' is not among the files");
                faults.add(place, what, format!("Name one of: {}.", names()));
            }
        };
        among("kernel".into(), "kernel", &self.kernel);
        for (index, path) in self.initrds.iter().enumerate() {
            among(format!("initrds[{index}]"), "initrd", path);
        }
        for (index, word) in self.parameters.iter().enumerate() {
            if word.is_empty() || word.chars().any(char::is_control) {
                faults.add(
                    format!("parameters[{index}]"),
                    "empty, or with control characters",
                    "Give each kernel parameter as one word on one line.",
                );
            }
        }
        let manifest = check_files(&mut faults, &self.files, has_content);
        if let Some(existing) = existing.filter(|existing| existing.current.manifest == manifest)
            && existing.current.parameters == self.parameters
            && existing.current.kernel == self.kernel
            && existing.current.initrds == self.initrds
            && existing.current.family == self.family
            && self.title.as_ref().is_none_or(|title| *title == existing.title)
        {
            faults.add(
                "files",
                format!("these are exactly revision {} of '{}'", existing.current.number, self.name),
                "Nothing needs to be done: that revision is current.",
            );
        }
        faults.into_result(|| {
            let image = existing.map_or_else(Id::generate, |existing| existing.id);
            let title = self.title.clone().or_else(|| existing.map(|existing| existing.title.clone()));
            Some(Image {
                id: image,
                name: self.name.clone(),
                title: title.unwrap_or_else(|| self.name.clone()),
                kind: self.kind,
                current: Arc::new(Revision {
                    id: Id::generate(),
                    image,
                    image_name: self.name.clone(),
                    number: existing.map_or(1, |existing| existing.current.number + 1),
                    created: now,
                    family: self.family,
                    kernel: self.kernel.clone(),
                    initrds: self.initrds.clone(),
                    parameters: self.parameters.clone(),
                    manifest,
                    damaged: Vec::new(),
                }),
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn draft() -> RevisionDraft {
        let file = |path: &str| FileEntry { path: path.into(), size: 3, sha256: Sha256::of(path.as_bytes()) };
        RevisionDraft {
            name: "tidewrack-12".into(),
            title: Some("Tidewrack 12".into()),
            kind: ImageKind::Installer,
            family: Family::Preseed,
            kernel: "linux".into(),
            initrds: vec!["initrd.gz".into()],
            parameters: vec![],
            files: vec![file("linux"), file("initrd.gz")],
        }
    }

    #[test]
    fn revisions_count_up_and_keep_their_image() {
        let first = draft().check(None, Timestamp::UNIX_EPOCH, |_, _| true).unwrap();
        assert_eq!(first.current.number, 1);
        let changed = RevisionDraft { parameters: vec!["quiet".into()], title: None, ..draft() };
        let second = changed.check(Some(&first), Timestamp::UNIX_EPOCH, |_, _| true).unwrap();
        assert_eq!((second.id, second.current.number, second.title.as_str()), (first.id, 2, "Tidewrack 12"));
        let same = draft().check(Some(&first), Timestamp::UNIX_EPOCH, |_, _| true).unwrap_err();
        assert!(same[0].what.contains("exactly revision 1"), "{same:?}");
    }

    #[test]
    fn a_missing_kernel_and_all_else_is_named_at_once() {
        let bad = RevisionDraft {
            kind: ImageKind::Live,
            kernel: "vmlinuz".into(),
            initrds: vec!["initrd.img".into()],
            ..draft()
        };
        let faults = bad.check(None, Timestamp::UNIX_EPOCH, |_, _| false).unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        assert_eq!(places, ["family", "kernel", "initrds[0]", "files[0]", "files[1]"]);
        assert_eq!(faults[1].mend, "Name one of: linux, initrd.gz.");
    }
}
