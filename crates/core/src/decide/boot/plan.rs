//! The boot plan: what one machine gets if it boots now, and why.

use std::{fmt, sync::Arc};

use jiff::Timestamp;
use lastmile_formats::mac::Mac;

use crate::{
    model::{
        answers::AnswersVersion,
        image::{Image, Revision},
        install::{Install, MAX_KERNEL_FETCHES},
        job::Job,
        machine::{DefaultBoot, Machine},
        menu::Menu,
        subnet::{Newcomers, Subnet},
    },
    site::Site,
};

/// What a machine gets.
#[derive(Debug, Clone, PartialEq)]
pub enum Action<'a> {
    /// No boot information.
    Nothing,
    /// An installer with its answers.
    Install {
        /// The install.
        install: &'a Arc<Install>,
        /// What it installs.
        revision: &'a Arc<Revision>,
        /// With which answers.
        answers: &'a Arc<AnswersVersion>,
    },
    /// A screen that waits until somebody has answered what is open of an install.
    Wait {
        /// The install.
        install: &'a Arc<Install>,
    },
    /// A live image.
    Live(&'a Arc<Image>),
    /// The survey: of the images for it, the one that runs on its processor.
    Survey,
    /// A menu; `None` for the one that is built in.
    Menu(Option<&'a Arc<Menu>>),
    /// Its own disk.
    LocalDisk,
}

/// Why: the first line of the boot plan's rules that applied.
#[derive(Debug, Clone, PartialEq)]
pub enum Why<'a> {
    /// The machine is set to be ignored.
    Ignored(&'a Machine),
    /// An install is armed.
    Armed(&'a Install),
    /// An install is armed, and questions of it are open.
    Unanswered(&'a Install),
    /// An install is armed, and has begun too often without an end.
    Looping(&'a Install),
    /// An install is armed, or a live image set, that cannot be served.
    Damaged(&'a Revision),
    /// An install is armed whose image or answers are gone.
    Lost(&'a Install),
    /// A job is armed, or under way.
    JobArmed(&'a Job),
    /// A job is armed, for which the survey was started too often.
    JobLooping(&'a Job),
    /// A job is armed, and there is no image of the survey.
    JobWithoutSurvey(&'a Job),
    /// The machine runs a live image.
    Live(&'a Machine, &'a Image),
    /// The live image of the machine is gone.
    NoLiveImage(&'a Machine),
    /// The machine is set to show a menu, which was chosen so.
    ShowsMenu(&'a Machine, MenuFrom<'a>),
    /// The machine is known and nothing is to be done; with its last finished install.
    NothingToDo(&'a Machine, Option<&'a Install>),
    /// Nobody registered the machine; with what its subnet says.
    Newcomer(Mac, Option<&'a Subnet>),
    /// Nobody registered the machine, and its subnet says that it is surveyed, for which there is no image.
    NoSurvey(Mac, &'a Subnet),
}

/// What says which menu a machine gets: the first of these that names one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MenuFrom<'a> {
    /// The machine.
    Machine,
    /// One of its labels, by name; the first in the order of its labels.
    Label(&'a str),
    /// Its subnet, by name.
    Subnet(&'a str),
    /// The site.
    Site,
    /// Nothing: the one that is built in.
    BuiltIn,
}

impl fmt::Display for MenuFrom<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Machine => f.write_str("its own"),
            Self::Label(name) => write!(f, "that of label {name}"),
            Self::Subnet(name) => write!(f, "that of subnet {name}"),
            Self::Site => f.write_str("the site's"),
            Self::BuiltIn => f.write_str("the one that is built in"),
        }
    }
}

/// Which menu a machine is shown, and what says so.
fn choose<'a>(
    site: &'a Site,
    machine: Option<&'a Machine>,
    subnet: Option<&'a Subnet>,
) -> (Option<&'a Arc<Menu>>, MenuFrom<'a>) {
    let own = machine.and_then(|machine| Some((site.menu(machine.menu.as_ref()?)?, MenuFrom::Machine)));
    let labels = || {
        site.by_label(machine?, |label| {
            Some((site.menu(label.menu.as_ref()?)?, MenuFrom::Label(&label.name)))
        })
    };
    let of_subnet = || {
        let subnet = subnet?;
        Some((site.menu(subnet.menu.as_ref()?)?, MenuFrom::Subnet(&subnet.name)))
    };
    let of_site = || Some((site.menu(site.settings().menu.as_ref()?)?, MenuFrom::Site));
    match own.or_else(labels).or_else(of_subnet).or_else(of_site) {
        Some((menu, from)) => (Some(menu), from),
        None => (None, MenuFrom::BuiltIn),
    }
}

/// What one machine gets if it boots now, and why.
#[derive(Debug, Clone, PartialEq)]
pub struct BootPlan<'a> {
    /// What it gets.
    pub action: Action<'a>,
    /// Why.
    pub why: Why<'a>,
}

/// What is booted for a job that is armed for whoever has `mac`.
fn for_job(site: &Site, mac: Mac) -> Option<BootPlan<'_>> {
    let job = site.open_jobs(mac).into_iter().next()?;
    Some(match site.survey_image(None) {
        _ if job.is_looping() => BootPlan { action: Action::LocalDisk, why: Why::JobLooping(job) },
        None => BootPlan { action: Action::LocalDisk, why: Why::JobWithoutSurvey(job) },
        Some(_) => BootPlan { action: Action::Survey, why: Why::JobArmed(job) },
    })
}

/// Decides for whoever is not known to be the machine that has `mac`, though one may be registered: what a newcomer gets on
/// `subnet`.
#[must_use]
pub fn plan_for_newcomer<'a>(site: &'a Site, mac: Mac, subnet: Option<&'a Subnet>) -> BootPlan<'a> {
    let action = match subnet.map(|subnet| (subnet, subnet.newcomers)) {
        Some((_, Newcomers::Menu)) => Action::Menu(choose(site, None, subnet).0),
        Some((subnet, Newcomers::Survey)) if site.survey_image(None).is_none() => {
            return BootPlan { action: Action::Nothing, why: Why::NoSurvey(mac, subnet) };
        }
        Some((_, Newcomers::Survey)) => Action::Survey,
        Some((_, Newcomers::Unanswered | Newcomers::Nothing)) | None => Action::Nothing,
    };
    BootPlan { action, why: Why::Newcomer(mac, subnet) }
}

/// Decides for the machine that has `mac`, booting on `subnet`.
#[must_use]
pub fn plan<'a>(site: &'a Site, mac: Mac, subnet: Option<&'a Subnet>) -> BootPlan<'a> {
    let Some(machine) = site.machine_by_mac(mac) else {
        // Of one that nobody registered a job was picked at its menu.
        return for_job(site, mac).unwrap_or_else(|| plan_for_newcomer(site, mac, subnet));
    };
    if machine.default_boot == DefaultBoot::Ignored {
        return BootPlan { action: Action::Nothing, why: Why::Ignored(machine) };
    }
    match site.open_install(machine.id) {
        Some(install) => armed(site, install),
        None => for_job(site, mac).unwrap_or_else(|| by_default_boot(site, machine, subnet)),
    }
}

/// What a machine gets when no install is armed.
fn by_default_boot<'a>(site: &'a Site, machine: &'a Machine, subnet: Option<&'a Subnet>) -> BootPlan<'a> {
    match &machine.default_boot {
        DefaultBoot::Live(id) => match site.image_by_id(*id) {
            Some(image) if image.current.is_ready() => {
                BootPlan { action: Action::Live(image), why: Why::Live(machine, image) }
            }
            Some(image) => BootPlan { action: Action::LocalDisk, why: Why::Damaged(&image.current) },
            None => BootPlan { action: Action::LocalDisk, why: Why::NoLiveImage(machine) },
        },
        DefaultBoot::Menu => {
            let (menu, from) = choose(site, Some(machine), subnet);
            BootPlan { action: Action::Menu(menu), why: Why::ShowsMenu(machine, from) }
        }
        DefaultBoot::LocalDisk | DefaultBoot::Ignored => {
            let last = site.last_installed(machine.id).map(Arc::as_ref);
            BootPlan { action: Action::LocalDisk, why: Why::NothingToDo(machine, last) }
        }
    }
}

/// The menu that the machine with `mac` shows or has just shown: also while the install goes on that was picked from it.
#[must_use]
pub fn menu_shown<'a>(site: &'a Site, mac: Mac, subnet: Option<&'a Subnet>) -> Option<&'a Arc<Menu>> {
    let action = match site.machine_by_mac(mac) {
        Some(machine) => by_default_boot(site, machine, subnet).action,
        None => plan_for_newcomer(site, mac, subnet).action,
    };
    match action {
        Action::Menu(menu) => menu,
        _ => None,
    }
}

fn armed<'a>(site: &'a Site, install: &'a Arc<Install>) -> BootPlan<'a> {
    let (Some(revision), Some(answers)) =
        (site.revision(install.revision), site.answers_version(install.answers))
    else {
        return BootPlan { action: Action::LocalDisk, why: Why::Lost(install) };
    };
    if !revision.is_ready() {
        return BootPlan { action: Action::LocalDisk, why: Why::Damaged(revision) };
    }
    if install.is_looping() {
        return BootPlan { action: Action::LocalDisk, why: Why::Looping(install) };
    }
    if !install.open_questions.is_empty() {
        return BootPlan { action: Action::Wait { install }, why: Why::Unanswered(install) };
    }
    BootPlan { action: Action::Install { install, revision, answers }, why: Why::Armed(install) }
}

impl<'a> BootPlan<'a> {
    /// The image of which firmware that takes whole discs by HTTP is given the disc, and needs no loader then. A machine
    /// that is given answers at each start is not: it must ask for its menu, with which the record of the start begins.
    #[must_use]
    pub fn whole_disc(&self) -> Option<&'a Arc<Image>> {
        let (Action::Live(image), Why::Live(machine, _)) = (&self.action, &self.why) else { return None };
        (machine.live_answers.is_none() && image.current.boots_as_disc()).then_some(*image)
    }

    /// What the machine gets, in a few words.
    #[must_use]
    pub fn summary(&self) -> String {
        match &self.action {
            Action::Nothing => "no boot information".into(),
            Action::Install { install, revision, .. } => format!(
                "{} {} of {} r{} with answers {} v{}",
                install.action(),
                install.number,
                revision.image_name,
                revision.number,
                install.answers_name,
                install.answers_version
            ),
            Action::Wait { install } => {
                format!("a screen that waits, of install {}", install.number)
            }
            Action::Live(image) => format!("live image {} r{}", image.name, image.current.number),
            Action::Survey => "the survey".into(),
            Action::Menu(Some(menu)) => format!("menu {}", menu.name),
            Action::Menu(None) => "the menu".into(),
            Action::LocalDisk => "its local disk".into(),
        }
    }
}

impl fmt::Display for Why<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Ignored(machine) => write!(f, "{} is set to be ignored", machine.name),
            Self::Armed(install) => write!(
                f,
                "{} {} of {} r{} is armed since {}",
                install.action(),
                install.number,
                install.image,
                install.image_revision,
                minute(install.armed_at)
            ),
            Self::Unanswered(install) => write!(
                f,
                "install {} of {} r{} is armed and waits for answers: {}",
                install.number,
                install.image,
                install.image_revision,
                install.open_questions.keys().cloned().collect::<Vec<_>>().join(", ")
            ),
            Self::Looping(install) => write!(
                f,
                "install {} fetched its kernel {MAX_KERNEL_FETCHES} times without reaching its end, so it is not started again",
                install.number
            ),
            Self::Damaged(revision) => write!(
                f,
                "{} r{} cannot be served: {}",
                revision.image_name,
                revision.number,
                revision.lacking().join("; ")
            ),
            Self::Lost(install) => {
                write!(f, "install {} is armed, but its image or answers are gone", install.number)
            }
            Self::JobArmed(job) => {
                write!(f, "{} of {} is armed since {}", job.title(), job.machine_name, minute(job.armed_at))
            }
            Self::JobLooping(job) => write!(
                f,
                "for {} the survey's kernel was fetched {MAX_KERNEL_FETCHES} times, and its agent did not come to it, so it is \
                 not started again",
                job.title()
            ),
            Self::JobWithoutSurvey(job) => write!(
                f,
                "{} is armed, but there is no image of kind survey: build one with lastmile survey build",
                job.title()
            ),
            Self::Live(machine, image) => write!(f, "{} runs live image {}", machine.name, image.name),
            Self::NoLiveImage(machine) => write!(f, "the live image of {} is gone", machine.name),
            Self::ShowsMenu(machine, from) => write!(f, "{} is set to show the menu: {from}", machine.name),
            Self::NothingToDo(machine, None) => {
                write!(f, "{} is known and no install is armed", machine.name)
            }
            Self::NothingToDo(machine, Some(install)) => write!(
                f,
                "{} was installed with {} r{} by install {} and nothing new is armed",
                machine.name, install.image, install.image_revision, install.number
            ),
            Self::Newcomer(mac, None) => write!(f, "{mac} is a newcomer on no known subnet"),
            Self::Newcomer(mac, Some(subnet)) => {
                let what = match subnet.newcomers {
                    Newcomers::Unanswered => "no answer",
                    Newcomers::Nothing => "nothing",
                    Newcomers::Menu => "the menu",
                    Newcomers::Survey => "the survey",
                };
                write!(f, "{mac} is a newcomer, and subnet {} gives newcomers {what}", subnet.name)
            }
            Self::NoSurvey(mac, subnet) => write!(
                f,
                "{mac} is a newcomer, and subnet {} gives newcomers the survey, but there is no image of kind survey: \
                 build one with lastmile survey build",
                subnet.name
            ),
        }
    }
}

/// `2026-11-23 14:02 UTC`.
fn minute(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M UTC").to_string()
}

#[cfg(test)]
#[path = "plan_tests.rs"]
mod tests;
