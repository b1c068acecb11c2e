//! A revision as a person enters it, and what is checked then.

use std::sync::Arc;

use jiff::Timestamp;
use lastmile_formats::cpu::Cpu;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, Id, name},
    decide::references::check_parameters,
    model::{
        image::{
            Family, FileEntry, Found, Holding, Image, ImageKind, Manifest, Recognition, Revision, Sha256,
            Start, Volume, check_files, check_title,
        },
        parameter::Said,
    },
};

/// A revision as a person enters it, its contents already uploaded or lying on the service's host. What is left out is
/// filled with what is recognised in the files.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct RevisionDraft {
    /// The image's name. A new image is made if there is none of that name.
    pub name: String,
    /// What the person at the machine reads; the name if left out.
    pub title: Option<String>,
    /// What the image is for.
    pub kind: Option<ImageKind>,
    /// Which answer file it reads.
    pub family: Option<Family>,
    /// Path of the kernel among the files.
    pub kernel: Option<String>,
    /// Paths of the initrds among the files, in order.
    pub initrds: Option<Vec<String>>,
    /// Path of the UEFI application that is started instead of a kernel.
    pub program: Option<String>,
    /// Path of the raw disk image.
    pub disk: Option<String>,
    /// The processor it is for.
    pub cpu: Option<Cpu>,
    /// Kernel parameters it always needs.
    pub parameters: Option<Vec<String>>,
    /// Keys of the installer family's kernel parameters that it does without, as in `priority`.
    pub without_parameters: Vec<String>,
    /// Its files, uploaded before. A single one may be an ISO, which is served as it is, or a tar archive.
    pub files: Vec<FileEntry>,
    /// An ISO on the service's own host, served from where it lies: an absolute path. Instead of `files`.
    pub in_place: Option<String>,
    /// Digest that the ISO must have, as its publisher gives it.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, pattern = "^[0-9A-Fa-f]{64}$"))]
    pub sha256: Option<Sha256>,
    /// Take it though something was found to be wrong with it.
    pub despite_faults: bool,
}

impl RevisionDraft {
    /// Fills what is left out with what was recognised.
    #[must_use]
    pub fn filled(&self, recognised: &Recognition) -> Self {
        let value = |found: &Option<Found<String>>| found.as_ref().map(|found| found.value.clone());
        let mut filled = self.clone();
        filled.kind = self.kind.or_else(|| recognised.kind.as_ref().map(|found| found.value));
        filled.family = self.family.or_else(|| recognised.family.as_ref().map(|found| found.value));
        filled.cpu = self.cpu.or_else(|| recognised.cpu.as_ref().map(|found| found.value));
        if self.kernel.is_none() && self.program.is_none() && self.disk.is_none() {
            filled.kernel = value(&recognised.kernel);
            filled.program = value(&recognised.program);
            filled.disk = value(&recognised.disk);
        }
        let list = |list: &[Found<String>]| list.iter().map(|found| found.value.clone()).collect();
        filled.initrds = self.initrds.clone().or_else(|| Some(list(&recognised.initrds)));
        filled.parameters = self.parameters.clone().or_else(|| Some(list(&recognised.parameters)));
        if self.name.is_empty() {
            filled.name = recognised.proposed_name();
        }
        if self.title.is_none() {
            filled.title = recognised.proposed_title();
        }
        filled
    }

    /// Checks the draft, already [filled](Self::filled), against what it holds, and makes it the next revision of
    /// `existing`, or the first of a new image. `last_number` is the last that an image of that name ever had: numbers are not used
    /// again, also not after an image was removed.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(
        &self,
        existing: Option<&Image>,
        last_number: u32,
        holding: Holding,
        now: Timestamp,
        has_content: impl Fn(&Sha256, u64) -> bool,
    ) -> Result<Image, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(&self.name), name::THING_NAME_FIX);
        if let Some(Err(fault)) = self.title.as_deref().map(check_title) {
            faults.add(fault.place, fault.what, fault.fix);
        }
        let kind = self.check_kind(&mut faults, existing);
        let start = self.check_start(&mut faults, kind, &holding);
        let parameters = self.parameters.clone().unwrap_or_default();
        let said = Said { words: &parameters, without: &self.without_parameters };
        check_parameters(&mut faults, "", said);
        let manifest = match &holding.volume {
            Some(_) => Manifest::new(holding.files),
            None => check_files(&mut faults, &holding.files, has_content),
        };
        let family = self.family.unwrap_or(Family::None);
        if let Some(existing) = existing {
            let current = &existing.current;
            if current.manifest.same_files(&manifest)
                && current.volume.as_deref().map(Volume::place) == holding.volume.as_ref().map(Volume::place)
                && current.parameters == parameters
                && current.without_parameters == self.without_parameters
                && Some(&current.start) == start.as_ref()
                && current.family == family
                && current.is_ready()
                && self.title.as_ref().is_none_or(|title| *title == existing.title)
            {
                faults.add(
                    "files",
                    format!("these are exactly revision {} of '{}'", current.number, self.name),
                    "Nothing needs to be done: that revision is current.",
                );
            }
        }
        faults.into_result(|| {
            let image = existing.map_or_else(Id::generate, |existing| existing.id);
            let title = self.title.clone().or_else(|| existing.map(|existing| existing.title.clone()));
            let lacks = if self.despite_faults { Vec::new() } else { holding.recognised.faults.clone() };
            Some(Image {
                id: image,
                name: self.name.clone(),
                title: title.unwrap_or_else(|| self.name.clone()),
                kind: kind?,
                last_number: last_number + 1,
                current: Arc::new(Revision {
                    id: Id::generate(),
                    image,
                    image_name: self.name.clone(),
                    number: last_number + 1,
                    created: now,
                    family,
                    start: start?,
                    cpu: self.cpu,
                    parameters,
                    without_parameters: self.without_parameters.clone(),
                    manifest,
                    volume: holding.volume.map(Arc::new),
                    recognised: Arc::new(holding.recognised),
                    lacks,
                    retired: None,
                    verified: None,
                    damaged: Vec::new(),
                }),
            })
        })
    }

    fn check_kind(&self, faults: &mut Faults, existing: Option<&Image>) -> Option<ImageKind> {
        let Some(kind) = self.kind else {
            let fix = "Say it by hand: installer, live, tool, survey, disk or firmware-app.";
            faults.add("kind", "what the image is for was not recognised", fix);
            return None;
        };
        if let Some(existing) = existing.filter(|existing| existing.kind != kind) {
            faults.add(
                "kind",
                format!("image '{}' is of kind {}, not {}", self.name, existing.kind.as_str(), kind.as_str()),
                "Import under another name; a revision keeps its image's kind.",
            );
        }
        let family = self.family.unwrap_or(Family::None);
        match kind {
            ImageKind::Installer if family == Family::CloudConfig => faults.add(
                "family",
                "an installer reads a file of its own, not cloud-config alone",
                "Say autoinstall for one that reads it inside cloud-config, or make the image a live one.",
            ),
            ImageKind::Live if !matches!(family, Family::None | Family::CloudConfig) => faults.add(
                "family",
                "a live image reads cloud-config or nothing",
                "Say cloud-config if it has cloud-init, or leave the family out.",
            ),
            ImageKind::Installer | ImageKind::Live => {}
            _ if family != Family::None => faults.add(
                "family",
                "only an installer or a live image reads answers",
                "Leave the family out, or make the image an installer.",
            ),
            _ => {}
        }
        Some(kind)
    }

    fn check_start(&self, faults: &mut Faults, kind: Option<ImageKind>, holding: &Holding) -> Option<Start> {
        let there = |path: &str| holding.files.iter().any(|file| file.path == path);
        let mut among = |place: String, what: &str, path: &str| {
            if !there(path) {
                faults.add(place, format!("the {what} '{path}' is not among the files"), holding.fix(path));
            }
        };
        let start = match (&self.kernel, &self.program, &self.disk) {
            (Some(kernel), None, None) => {
                among("kernel".into(), "kernel", kernel);
                let initrds = self.initrds.clone().unwrap_or_default();
                for (index, path) in initrds.iter().enumerate() {
                    among(format!("initrds[{index}]"), "initrd", path);
                }
                Start::Kernel { kernel: kernel.clone(), initrds }
            }
            (None, Some(path), None) => {
                among("program".into(), "UEFI application", path);
                Start::Program { path: path.clone() }
            }
            (None, None, Some(path)) => {
                among("disk".into(), "disk", path);
                Start::Disk { path: path.clone() }
            }
            (None, None, None) => {
                let fix = "Name the kernel, the UEFI application (program) or the disk among the files.";
                faults.add("kernel", "what is to be started was not recognised", fix);
                return None;
            }
            _ => {
                let fix = "Name one of kernel, program and disk.";
                faults.add("kernel", "more than one thing is to be started", fix);
                return None;
            }
        };
        if kind.is_some_and(|kind| (kind == ImageKind::Disk) != matches!(start, Start::Disk { .. })) {
            let fix =
                "An image of kind disk has a disk and nothing that is started; other kinds have no disk.";
            faults.add("kind", "the kind does not fit what is to be started", fix);
        }
        Some(start)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn draft() -> RevisionDraft {
        let file = |path: &str| FileEntry::new(path, 3, Sha256::of(path.as_bytes()));
        RevisionDraft {
            name: "tidewrack-12".into(),
            title: Some("Tidewrack 12".into()),
            kind: Some(ImageKind::Installer),
            family: Some(Family::Preseed),
            kernel: Some("linux".into()),
            initrds: Some(vec!["initrd.gz".into()]),
            files: vec![file("linux"), file("initrd.gz")],
            ..RevisionDraft::default()
        }
    }

    fn check(draft: &RevisionDraft, existing: Option<&Image>) -> Result<Image, Vec<Fault>> {
        let last = existing.map_or(0, |existing| existing.last_number);
        draft.check(existing, last, Holding::of(&draft.files), Timestamp::UNIX_EPOCH, |_, _| true)
    }

    #[test]
    fn revisions_count_up_and_keep_their_image() {
        let first = check(&draft(), None).unwrap();
        assert_eq!(first.current.number, 1);
        let changed = RevisionDraft { parameters: Some(vec!["quiet".into()]), title: None, ..draft() };
        let second = check(&changed, Some(&first)).unwrap();
        assert_eq!((second.id, second.current.number, second.title.as_str()), (first.id, 2, "Tidewrack 12"));
        let same = check(&draft(), Some(&first)).unwrap_err();
        assert!(same[0].what.contains("exactly revision 1"), "{same:?}");
    }

    #[test]
    fn a_missing_kernel_and_all_else_is_named_at_once() {
        let bad = RevisionDraft {
            kind: Some(ImageKind::Live),
            kernel: Some("vmlinuz".into()),
            initrds: Some(vec!["initrd.img".into()]),
            parameters: Some(vec!["a={{ adress }}".into(), String::new()]),
            ..draft()
        };
        let holding = Holding::of(&bad.files);
        let faults = bad.check(None, 0, holding, Timestamp::UNIX_EPOCH, |_, _| false).unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        let expected =
            ["family", "kernel", "initrds[0]", "parameters[0]", "parameters[1]", "files[0]", "files[1]"];
        assert_eq!(places, expected);
        assert_eq!(faults[1].fix, "Name one of: linux, initrd.gz.");
        let nothing = RevisionDraft { kind: None, kernel: None, ..draft() };
        let places: Vec<_> =
            check(&nothing, None).unwrap_err().into_iter().map(|fault| fault.place).collect();
        assert_eq!(places, ["kind", "kernel"]);
    }

    #[test]
    fn names_that_disagree_with_the_content_are_told() {
        let image = check(&draft(), None).unwrap();
        let says = |version: &str| {
            let mut revision = (*image.current).clone();
            let version = Found::new(version.to_owned(), ".disk/info".to_owned());
            revision.recognised = Arc::new(Recognition { version: Some(version), ..Recognition::default() });
            revision.disagreements("Tidewrack x64")
        };
        assert!(says("12.5.0").is_empty());
        assert_eq!(says("13.1"), ["the name 'tidewrack-12' says 12, but .disk/info says 13.1"]);
        assert!(says("trixie").is_empty());
    }
}
