//! A network boot program: its files, and how it reads menus.

use std::str::FromStr;

use lastmile_formats::architecture::Architecture;
use serde::{Deserialize, Serialize};

use crate::{
    base::Id,
    model::image::{FileEntry, Found, Manifest},
};

/// What a loader is, as far as its files tell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LoaderFacts {
    /// What it is and its version, as `shim 15.8, then grub 2.06-13+deb12u2`.
    pub program: Option<Found<String>>,
    /// The firmware it runs on.
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub architecture: Option<Found<Architecture>>,
    /// The language it reads menus in.
    pub language: Option<Found<Language>>,
    /// How it can fetch by HTTP.
    pub http: Option<Found<HttpReach>>,
    /// Who signed the program that the firmware starts. Empty: nobody, and Secure Boot refuses it.
    pub signers: Vec<String>,
}

/// The language that a loader reads menus in.
#[derive(
    Debug,
    Clone,
    Copy,
    Default,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Language {
    /// GRUB's (GNU GRUB manual, chapter 6).
    #[default]
    Grub,
    /// PXELINUX's (the Syslinux Project's configuration files).
    Pxelinux,
    /// The script of the network boot firmware that names itself in the user class.
    Script,
}

impl Language {
    /// Every language.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

impl FromStr for Language {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let known = Self::ALL.iter().copied().find(|language| language.as_str() == text);
        known.ok_or_else(|| format!("'{text}' is none of grub, pxelinux, script"))
    }
}

/// The loader that a text is for.
#[derive(Debug, Clone, Copy)]
pub struct Reader {
    /// Its language.
    pub language: Language,
    /// How it reaches HTTP.
    pub http: HttpReach,
    /// Whether it has the modules for a graphical or boxed menu (PXELINUX: `menu.c32`).
    pub boxed: bool,
}

/// How a loader can fetch by HTTP.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HttpReach {
    /// Not at all.
    None,
    /// From port 80 only (GRUB 2.06).
    // Records of earlier releases have it without the hyphen.
    #[serde(rename = "port-80", alias = "port80")]
    Port80,
    /// From any port.
    AnyPort,
}

/// The network boot program for one architecture, and the files it asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loader {
    /// Identity.
    pub id: Id<Loader>,
    /// What people and paths call it.
    pub name: String,
    /// The firmware it runs on.
    pub architecture: Architecture,
    /// Only for clients whose vendor class (option 60) begins so.
    pub class: Option<String>,
    /// Only for clients that name this user class (option 77; RFC 3004).
    pub user_class: Option<String>,
    /// The file that firmware is told to fetch.
    pub boot_file: String,
    /// How it can fetch by HTTP.
    pub http: HttpReach,
    /// The language it reads menus in.
    pub language: Language,
    /// What its files tell of it.
    pub facts: LoaderFacts,
    /// Its files: the boot file, what that fetches beside itself, modules.
    pub manifest: Manifest,
}

impl Loader {
    /// Whether the loader is for a client of these classes.
    #[must_use]
    pub fn fits(&self, class: Option<&str>, user_classes: &[String]) -> bool {
        let begins = |wanted: &String| class.is_some_and(|class| class.starts_with(wanted.as_str()));
        self.class.as_ref().is_none_or(begins)
            && self.user_class.as_ref().is_none_or(|wanted| user_classes.contains(wanted))
    }

    /// How a text must be written for it.
    #[must_use]
    pub fn reader(&self) -> Reader {
        let boxed = self.manifest.files().iter().any(|file| file.path.rsplit('/').next() == Some("menu.c32"));
        Reader { language: self.language, http: self.http, boxed }
    }

    /// How closely it is meant for clients that it fits: by user class before class, by a long class before a short.
    #[must_use]
    pub fn closeness(&self) -> (bool, usize) {
        (self.user_class.is_some(), self.class.as_ref().map_or(0, String::len))
    }

    /// The file a loader means by `path`: the one of exactly that path, or the one whose path is its end.
    ///
    /// Loaders ask under a prefix that was built into them (`debian-installer/amd64/grub/x86_64-efi/http.mod`);
    /// the file is kept without it (`x86_64-efi/http.mod`). Of several ends the longest counts.
    #[must_use]
    pub fn find(&self, path: &str) -> Option<&FileEntry> {
        self.manifest.find(path).or_else(|| {
            let ends = path.match_indices('/').filter_map(|(at, _)| path.get(at + 1..));
            ends.filter_map(|end| self.manifest.find(end)).next()
        })
    }
}
