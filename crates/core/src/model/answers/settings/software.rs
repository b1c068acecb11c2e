//! What is installed and from where, security, and parts in an installer's own format.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Texts, Verdict, check_url, wrong};
use crate::{
    base::Faults,
    model::{answers::fragments, image::Family},
};

/// What is installed, and from where.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Software {
    /// Packages beside the base system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["openssh-server"])))]
    pub packages: Option<Vec<String>>,
    /// Sets of packages, by the name that the installer gives them: tasks, groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["standard"])))]
    pub sets: Option<Vec<String>>,
    /// What of the image is installed, by the name it is recognised by: an environment, a source, an edition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "minimal-environment"))]
    pub edition: Option<String>,
    /// A product key, for systems that ask for one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "GANNT-SOUND-FERRY-INVEN-TED00"))]
    pub product_key: Option<String>,
    /// Where the base system comes from: the URL of a mirror, or `image` for the image itself, served from here. The
    /// installer's own default if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "http://mirror.gannet.example/debian"))]
    pub source: Option<String>,
    /// Further repositories, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "own": {} })))]
    pub repositories: BTreeMap<String, Repository>,
}

/// A further repository.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Repository {
    /// Its URL.
    #[cfg_attr(feature = "schema", schema(example = "http://packages.gannet.example/debian"))]
    pub url: String,
    /// Suite of a repository of Debian packages, as in `bookworm`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "stable"))]
    pub suite: Option<String>,
    /// Components of such a suite; `main` if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["main"])))]
    pub components: Option<Vec<String>>,
    /// URL of the key that it is signed with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "http://packages.gannet.example/key.asc"))]
    pub key: Option<String>,
}

/// Mandatory access control and firewall. What is left out stays as the installer has it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Security {
    /// Whether SELinux's policy is enforced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mandatory_access: Option<MandatoryAccess>,
    /// Whether the system's own firewall is on. SSH stays open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firewall: Option<Firewall>,
}

/// Whether a policy of mandatory access control is enforced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum MandatoryAccess {
    /// Enforced.
    Enforcing,
    /// Only logged.
    Permissive,
    /// Not at all.
    Disabled,
}

impl MandatoryAccess {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// Whether a firewall is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Firewall {
    /// On, with SSH open.
    On,
    /// Off.
    Off,
}

/// Parts in an installer's own format, for those who know it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Format {
    /// Texts that are put in at named places.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fragments: BTreeMap<String, String>,
    /// A template for the whole file; `{{ generated }}` is what would be written without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
}

impl Software {
    /// Packages beside the base system.
    #[must_use]
    pub fn packages(&self) -> &[String] {
        self.packages.as_deref().unwrap_or_default()
    }

    /// Sets of packages.
    #[must_use]
    pub fn sets(&self) -> &[String] {
        self.sets.as_deref().unwrap_or_default()
    }

    pub(super) fn check(&self, texts: &mut Texts<'_>) {
        texts.list("software.packages", self.packages.as_deref(), check_package);
        texts.list("software.sets", self.sets.as_deref(), check_set);
        texts.each("software.edition", self.edition.iter(), |text| {
            if text.trim().is_empty() {
                wrong("it is empty", "Name it as `lastmile image show` does.")
            } else {
                Ok(())
            }
        });
        texts.each("software.product_key", self.product_key.iter(), |text| {
            let is_group = |group: &str| group.len() == 5 && group.chars().all(|c| c.is_ascii_alphanumeric());
            if text.split('-').count() == 5 && text.split('-').all(is_group) {
                return Ok(());
            }
            wrong("it is no product key", "Write five groups of five letters and digits, joined by hyphens.")
        });
        texts.each("software.source", self.source.iter(), |text| {
            if text == "image" { Ok(()) } else { check_url(text, &["http://", "https://"]) }
        });
        for (name, repository) in &self.repositories {
            let place = format!("software.repositories.{name}");
            texts.faults.keep(
                &place,
                crate::base::name::check_thing_name(name),
                crate::base::name::THING_NAME_FIX,
            );
            texts.one(format!("{place}.url"), &repository.url, |text| {
                check_url(text, &["http://", "https://"])
            });
            texts.each(&format!("{place}.key"), repository.key.iter(), |text| {
                check_url(text, &["http://", "https://"])
            });
            texts.each(&format!("{place}.suite"), repository.suite.iter(), check_word);
            texts.list(&format!("{place}.components"), repository.components.as_deref(), check_word);
        }
    }
}

impl Format {
    pub(super) fn check(&self, family: Family, faults: &mut Faults) {
        let place = format!("formats.{}", family.as_str());
        if family == Family::None {
            faults.add(
                &place,
                "this family reads no file",
                "Name preseed, kickstart, autoinstall or unattended-xml.",
            );
            return;
        }
        for (name, text) in &self.fragments {
            let at = format!("{place}.fragments.{name}");
            if !fragments::places(family).contains(&name.as_str()) {
                let known = fragments::places(family).join(", ");
                faults.add(&at, format!("there is no place '{name}'"), format!("Places are: {known}."));
            }
            if let Err(fault) = fragments::check_text(text) {
                faults.add(&at, fault.what, fault.fix);
            }
        }
        if let Some(template) = &self.template
            && let Err(fault) = fragments::check_text(template)
        {
            faults.add(format!("{place}.template"), fault.what, fault.fix);
        }
    }
}

/// Names as package managers take them; `@group` and `task^` are sets.
fn check_package(text: &str) -> Verdict {
    let body = |c: char| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.' | '_' | ':');
    if text.len() >= 2 && text.chars().all(body) && text.starts_with(|c: char| c.is_ascii_alphanumeric()) {
        return Ok(());
    }
    wrong(
        format!("'{text}' is no package name"),
        "Use letters, digits, '+', '-', '.', '_' and ':', at least two. What is a set of packages goes to software.sets.",
    )
}

fn check_set(text: &str) -> Verdict {
    let body = |c: char| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.' | '_' | ' ');
    if !text.is_empty() && text.trim() == text && text.chars().all(body) {
        return Ok(());
    }
    wrong(format!("'{text}' is no set of packages"), "Give the installer's name of it, without '@' or '^'.")
}

fn check_word(text: &str) -> Verdict {
    let body = |c: char| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.' | '_' | '/');
    if !text.is_empty() && text.chars().all(body) {
        return Ok(());
    }
    wrong(
        format!("'{text}' cannot stand in a list of repositories"),
        "Use letters, digits, '-', '.', '_' and '/'.",
    )
}
