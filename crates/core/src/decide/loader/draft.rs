//! Loaders as people enter them.

use lastmile_formats::architecture::Architecture;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, Id, name},
    model::{
        image::{FileEntry, Sha256, check_files},
        loader::{HttpReach, Language, Loader, LoaderFacts},
    },
};

/// A loader as a person enters it, its contents already uploaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoaderDraft {
    /// What people and paths call it.
    pub name: String,
    /// The firmware it runs on: `bios`, `uefi-x64`, `uefi-x86`, `uefi-arm64`, `uefi-arm32`; what is recognised in the
    /// boot file if left out.
    #[serde(default)]
    pub architecture: Option<String>,
    /// Only for clients whose vendor class (option 60) begins so, as in `HTTPClient`.
    #[serde(default)]
    pub class: Option<String>,
    /// Only for clients that name this user class (option 77).
    #[serde(default)]
    pub user_class: Option<String>,
    /// The file that firmware is told to fetch.
    pub boot_file: String,
    /// How it can fetch by HTTP; what is recognised if left out.
    #[serde(default)]
    pub http: Option<HttpReach>,
    /// The language it reads menus in; what is recognised if left out.
    #[serde(default)]
    pub language: Option<Language>,
    /// Its files.
    pub files: Vec<FileEntry>,
}

impl LoaderDraft {
    /// A loader for every client of an architecture.
    #[must_use]
    pub fn new(
        name: impl Into<String>,
        architecture: impl Into<String>,
        boot_file: impl Into<String>,
        files: Vec<FileEntry>,
    ) -> Self {
        Self {
            name: name.into(),
            architecture: Some(architecture.into()),
            class: None,
            user_class: None,
            boot_file: boot_file.into(),
            http: None,
            language: None,
            files,
        }
    }

    /// A loader in the form in which it is entered.
    #[must_use]
    pub fn of(loader: &Loader) -> Self {
        Self {
            class: loader.class.clone(),
            user_class: loader.user_class.clone(),
            http: Some(loader.http),
            language: Some(loader.language),
            ..Self::new(
                loader.name.clone(),
                loader.architecture.to_string(),
                loader.boot_file.clone(),
                loader.manifest.files().to_vec(),
            )
        }
    }

    /// Checks the draft against itself and the other loaders.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check<'a>(
        &self,
        id: Id<Loader>,
        facts: LoaderFacts,
        others: impl IntoIterator<Item = &'a Loader>,
        has_content: impl Fn(&Sha256, u64) -> bool,
    ) -> Result<Loader, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(&self.name), name::THING_NAME_FIX);
        let fix = "Give one of bios, uefi-x64, uefi-x86, uefi-arm64, uefi-arm32, another name that docs/firmware.md lists, \
             or code- and the number of option 93.";
        let read = facts.architecture.as_ref().map(|found| found.value);
        let architecture = match (&self.architecture, read) {
            (Some(text), _) => faults.keep("architecture", text.parse::<Architecture>(), fix),
            (None, Some(read)) => Some(read),
            (None, None) => {
                faults.add("architecture", "it was not recognised in the boot file", fix);
                None
            }
        };
        if let (Some(said), Some(read)) = (architecture, read)
            && said != read
            && facts.program.is_some()
        {
            let what = format!("the boot file is for {read}, not {said}");
            faults.add(
                "architecture",
                what,
                "Give the loader for that firmware, or leave the architecture out.",
            );
        }
        for (place, class) in [("class", &self.class), ("user_class", &self.user_class)] {
            if class.as_ref().is_some_and(|class| class.trim().is_empty() || class.len() > 255) {
                faults.add(place, "an empty or overlong class", "Leave it out, or give 1 to 255 bytes.");
            }
        }
        for other in others {
            if other.name == self.name {
                let what = format!("a loader named '{}' exists already", self.name);
                faults.add("name", what, "Choose another name, or remove the existing one first.");
            }
            let same_clients = other.class == self.class && other.user_class == self.user_class;
            if Some(other.architecture) == architecture && same_clients {
                faults.add(
                    "architecture",
                    format!("{} has loader '{}' already for these clients", other.architecture, other.name),
                    format!("Remove '{}' first, or tell the two apart by class or user class.", other.name),
                );
            }
        }
        if !self.files.iter().any(|file| file.path == self.boot_file) {
            faults.add(
                "boot_file",
                format!("the boot file '{}' is not among the files", self.boot_file),
                "Name one of the files.",
            );
        }
        let manifest = check_files(&mut faults, &self.files, has_content);
        faults.into_result(|| {
            Some(Loader {
                id,
                name: self.name.clone(),
                architecture: architecture?,
                class: self.class.clone(),
                user_class: self.user_class.clone(),
                boot_file: self.boot_file.clone(),
                http: self.http.or(facts.http.as_ref().map(|found| found.value)).unwrap_or(HttpReach::Port80),
                language: self
                    .language
                    .or(facts.language.as_ref().map(|found| found.value))
                    .unwrap_or_default(),
                facts,
                manifest,
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_found_under_any_built_in_prefix() {
        let file = |path: &str| FileEntry::new(path, 3, Sha256::of(path.as_bytes()));
        let draft = LoaderDraft {
            name: "signed-x64".into(),
            architecture: Some("uefi-x64".into()),
            class: None,
            user_class: None,
            boot_file: "shimx64.efi".into(),
            http: Some(HttpReach::Port80),
            language: None,
            files: vec![file("shimx64.efi"), file("grubx64.efi"), file("x86_64-efi/http.mod")],
        };
        let loader = draft.check(Id::generate(), LoaderFacts::default(), [], |_, _| true).unwrap();
        let found = |path: &str| loader.find(path).map(|file| file.path.as_str());
        assert_eq!(found("debian-installer/amd64/grub/x86_64-efi/http.mod"), Some("x86_64-efi/http.mod"));
        assert_eq!(found("grubx64.efi"), Some("grubx64.efi"));
        assert_eq!(found("loader/signed-x64/grubx64.efi"), Some("grubx64.efi"));
        assert_eq!(found("grub/x86_64-efi/crypto.lst"), None);
        assert_eq!(found("http.mod"), None);
        assert_eq!(found("SHIMX64.EFI"), Some("shimx64.efi"), "firmware asks in any case");
        assert_eq!(loader.manifest.nearest("shimx46.efi"), Some("shimx64.efi"));
        assert_eq!(loader.manifest.nearest("vmlinuz"), None);
        let twice = draft.check(Id::generate(), LoaderFacts::default(), [&loader], |_, _| true).unwrap_err();
        assert_eq!(twice.len(), 2, "{twice:?}");
        // Told apart by what the client says it is, both are there, and the closest is given.
        let http = LoaderDraft { name: "http-x64".into(), class: Some("HTTPClient".into()), ..draft };
        let http = http.check(Id::generate(), LoaderFacts::default(), [&loader], |_, _| true).unwrap();
        assert!(http.fits(Some("HTTPClient:Arch:00016"), &[]) && !http.fits(Some("PXEClient"), &[]));
        assert!(loader.fits(None, &[]) && http.closeness() > loader.closeness());
    }
}
