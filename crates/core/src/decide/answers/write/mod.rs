//! The writers: from the settings of one machine to the file that its installer reads.

use lastmile_formats::cpu::Cpu;
use zeroize::Zeroizing;

use crate::{
    base::Fault,
    decide::answers::{Resolution, Subject, support},
    model::{
        answers::{CryptHash, Password, SealKey, fragments},
        image::{Family, Revision},
        install::{Install, ReportStage},
        service::Service,
        values::Values,
    },
};

mod autoinstall;
mod choose;
mod cloud_config;
mod kickstart;
mod preseed;
mod steps;
mod unattended;

/// What an answer file is written for.
#[derive(Debug, Clone)]
pub struct Target<'a> {
    /// The install it is for; `None` in a preview, which shows placeholders for what is secret.
    pub install: Option<&'a Install>,
    /// Where the machine reaches the service.
    pub service: Service,
    /// The machine's values, for fragments and templates.
    pub values: &'a Values,
    /// The key that secrets are opened with; `None` to have them hidden.
    pub key: Option<&'a SealKey>,
    /// What the image is for.
    pub cpu: Option<Cpu>,
    /// The version that was recognised in the image: `9.4`. Some formats have other words in other versions.
    pub version: Option<&'a str>,
    /// What the file says at its head of where it comes from: `quay-server v3`.
    pub title: &'a str,
}

/// One of the files that an installer reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AnswerFile {
    /// The name under which the installer asks for it.
    pub name: &'static str,
    /// What it holds.
    pub text: String,
}

/// What stands in a preview where a secret would.
const HIDDEN: &str = "(hidden)";

impl<'a> Target<'a> {
    /// What a file is written for that nobody installs by: without secrets, and perhaps for no image yet.
    #[must_use]
    pub fn preview(subject: &'a Subject, revision: Option<&'a Revision>, title: &'a str) -> Self {
        Self {
            install: None,
            service: subject.service,
            values: &subject.values,
            key: None,
            cpu: revision.and_then(|revision| revision.cpu),
            version: revision.and_then(|revision| Some(revision.recognised.version.as_ref()?.value.as_str())),
            title,
        }
    }
}

impl Target<'_> {
    fn report_url(&self, stage: ReportStage) -> String {
        match self.install {
            Some(install) => self.service.report_url(&install.token, stage),
            None => format!("{}/report/TOKEN/{stage}", self.service.http_base()),
        }
    }

    fn log_url(&self) -> String {
        match self.install {
            Some(install) => self.service.log_url(&install.token),
            None => format!("{}/report/TOKEN/log", self.service.http_base()),
        }
    }

    /// What templates have beside the machine's values.
    fn own_values(&self, resolution: &Resolution) -> minijinja::Value {
        let report = |stage| self.report_url(stage);
        minijinja::context! {
            settings => minijinja::Value::from_serialize(&resolution.shown),
            reports => minijinja::context! {
                started => report(ReportStage::Started),
                done => report(ReportStage::Done),
                failed => report(ReportStage::Failed),
                booted => report(ReportStage::Booted),
                log => self.log_url(),
            },
        }
    }

    fn file_url(&self, name: &str) -> String {
        match self.install {
            Some(install) => self.service.answers_url(&install.token, name),
            None => format!("{}/answers/TOKEN/{name}", self.service.http_base()),
        }
    }

    /// The hash of a password that has one.
    fn hash(&self, password: &Password) -> String {
        match self.key {
            Some(_) => password.hash.as_ref().map_or("!", CryptHash::as_str).into(),
            None => HIDDEN.into(),
        }
    }

    /// A secret in clear. One that does not open is found before anything is written.
    fn plain(&self, password: &Password) -> Zeroizing<String> {
        let opened = self.key.zip(password.sealed.as_ref()).and_then(|(key, sealed)| key.open(sealed).ok());
        opened.unwrap_or_else(|| Zeroizing::new(HIDDEN.into()))
    }

    /// A secret that the key does not open.
    fn check_secrets(&self, resolution: &Resolution) -> Result<(), Vec<Fault>> {
        let Some(key) = self.key else { return Ok(()) };
        let settings = &resolution.settings;
        let users =
            settings.users.iter().map(|user| (format!("users.{}.password", user.login), &user.password));
        let all = users
            .chain([("root.password".into(), &settings.root_password)])
            .chain([("storage.encrypt".into(), &settings.disks.passphrase)]);
        let closed = all.filter_map(|(place, password)| {
            let error = key.open(password.as_ref()?.sealed.as_ref()?).err()?;
            Some(Fault {
                place,
                what: error.to_string(),
                fix: "Put the key back, or enter the secret again.".into(),
            })
        });
        let faults: Vec<Fault> = closed.collect();
        if faults.is_empty() { Ok(()) } else { Err(faults) }
    }
}

/// The names under which installers of a family ask for their files; the first is the one that people read.
#[must_use]
pub const fn file_names(family: Family) -> &'static [&'static str] {
    match family {
        Family::Preseed => &["preseed.cfg"],
        Family::Kickstart => &["ks.cfg"],
        Family::Autoinstall | Family::CloudConfig => &["user-data", "meta-data", "vendor-data"],
        Family::UnattendedXml => &["autounattend.xml", "setup.ps1"],
        Family::None => &[],
    }
}

/// The answer files of one machine in the language of its installer; none for an image that reads none.
///
/// # Errors
/// What the format cannot say, and what is wrong with fragments and templates.
pub fn write(
    family: Family,
    resolution: &Resolution,
    target: &Target<'_>,
) -> Result<Vec<AnswerFile>, Vec<Fault>> {
    if family == Family::None {
        return Ok(Vec::new());
    }
    let mut faults = support::faults(family, &resolution.settings);
    faults.extend(support::incomplete(&resolution.settings));
    if family == Family::UnattendedXml {
        faults.extend(unattended::faults(&resolution.settings));
    }
    if !faults.is_empty() {
        return Err(faults);
    }
    target.check_secrets(resolution)?;
    let parts = Parts::fill(family, resolution, target)?;
    let mut files = match family {
        Family::Preseed => preseed::write(resolution, target, &parts),
        Family::Kickstart => kickstart::write(resolution, target, &parts),
        Family::Autoinstall => autoinstall::write(resolution, target, &parts),
        Family::CloudConfig => cloud_config::write(resolution, target, &parts),
        Family::UnattendedXml => unattended::write(resolution, target, &parts),
        Family::None => Ok(Vec::new()),
    }
    .map_err(|fault| vec![fault])?;
    let template = resolution.settings.formats.get(&family).and_then(|format| format.template.as_ref());
    if let (Some(template), Some(main)) = (template, files.first_mut()) {
        let own = minijinja::value::merge_maps([
            minijinja::context! { generated => main.text.as_str() },
            target.own_values(resolution),
        ]);
        let filled = fragments::fill(template, target.values, &own);
        main.text = filled.map_err(|fault| {
            vec![Fault { place: format!("formats.{}.template", family.as_str()), ..fault }]
        })?;
    }
    Ok(files)
}

/// What is wrong with the fragments and the template of a family whatever the machine: a name that is in no value, a place that
/// is not there.
pub(super) fn check_format(family: Family, resolution: &Resolution, target: &Target<'_>) -> Vec<Fault> {
    let mut faults = Parts::fill(family, resolution, target).err().unwrap_or_default();
    let format = resolution.settings.formats.get(&family);
    if let Some(template) = format.and_then(|format| format.template.as_ref()) {
        let own = minijinja::value::merge_maps([
            minijinja::context! { generated => "" },
            target.own_values(resolution),
        ]);
        if let Err(fault) = fragments::fill(template, target.values, &own) {
            let place = format!("formats.{}.template", family.as_str());
            faults.push(Fault { place, ..fault });
        }
    }
    faults
}

/// Fragments with their values put in, by place.
struct Parts {
    family: Family,
    texts: std::collections::BTreeMap<String, String>,
}

impl Parts {
    fn fill(family: Family, resolution: &Resolution, target: &Target<'_>) -> Result<Self, Vec<Fault>> {
        let mut parts = Self { family, texts: std::collections::BTreeMap::new() };
        let Some(format) = resolution.settings.formats.get(&family) else { return Ok(parts) };
        let own = target.own_values(resolution);
        let mut faults = Vec::new();
        for (name, text) in &format.fragments {
            match fragments::fill(text, target.values, &own) {
                Ok(mut filled) => {
                    if !filled.ends_with('\n') {
                        filled.push('\n');
                    }
                    parts.texts.insert(name.clone(), filled);
                }
                Err(fault) => faults.push(Fault { place: parts.place(name), ..fault }),
            }
        }
        if faults.is_empty() { Ok(parts) } else { Err(faults) }
    }

    fn place(&self, name: &str) -> String {
        format!("formats.{}.fragments.{name}", self.family.as_str())
    }

    /// The text for a place; empty if there is none.
    fn at(&self, name: &str) -> &str {
        self.texts.get(name).map_or("", String::as_str)
    }

    /// What is wrong with the text of a place, at a line of it.
    fn fault(&self, name: &str, line: usize, column: usize, what: &str, fix: &str) -> Fault {
        Fault {
            place: self.place(name),
            what: format!("line {line}, column {column}: {what}"),
            fix: fix.into(),
        }
    }
}

/// What the head of a file says.
fn heading(resolution: &Resolution, target: &Target<'_>) -> Vec<String> {
    let mut lines = vec![format!("Answers {} for {}", target.title, resolution.settings.host_name)];
    if let Some(install) = target.install {
        lines.push(format!("Install {} of {} r{}", install.number, install.image, install.image_revision));
    }
    lines
}
