//! Arming: the check before an install is recorded.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults},
    decide::{
        answers,
        answers::{Collisions, Resolution, Subject, Target},
    },
    model::{
        answers::{AnswersVersion, take_answers},
        image::{Family, Image, ImageKind, Revision},
        install::{Install, InstallState, Token},
        label::Label,
        machine::{DefaultBoot, Machine},
    },
    site::Site,
};

/// What a person wants installed where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ArmRequest {
    /// The machine's name.
    pub machine: String,
    /// The image's name; its current revision is taken.
    pub image: String,
    /// The answers' name; their current version is taken.
    pub answers: String,
    /// Answers to questions, by their names. What is left open can be answered later; the machine waits for it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub asked: BTreeMap<String, String>,
}

/// Gives what is known of a machine that is to get a revision.
pub type Subjects<'a> = &'a dyn Fn(&Machine, &Revision) -> Subject;

impl ArmRequest {
    /// Checks the request against the site.
    ///
    /// # Errors
    /// Everything that stands in its way.
    pub(super) fn examine<'a>(
        &self,
        site: &'a Site,
        subjects: Subjects<'_>,
    ) -> Result<Examined<'a>, Vec<Fault>> {
        let mut faults = Faults::new();
        let unknown = |kind: &str, name: &str| format!("no {kind} is named '{name}'");
        let machine = site.machine_called(&self.machine);
        match machine {
            None => faults.add(
                "machine",
                unknown("machine", &self.machine),
                "Register it first, or see `lastmile machine list`.",
            ),
            Some(machine) => {
                if let Some(open) = site.open_install(machine.id) {
                    let Fault { place, what, fix } = already_open(&machine.name, open);
                    faults.add(place, what, fix);
                }
                if machine.default_boot == DefaultBoot::Ignored {
                    faults.add(
                        "machine",
                        format!("{} is set to be ignored", machine.name),
                        "Give it another default boot first, or it would never boot the install.",
                    );
                }
            }
        }
        let image = site.image(&self.image);
        let nowhere = |what: &str| format!("no {what} named, and no label of {} names any", self.machine);
        match image {
            // Of one machine and not of the request: another may have a label that names one.
            None if self.image.is_empty() => faults.add(
                "machine",
                nowhere("image is"),
                "Name an image, or give its label one: `lastmile label change LABEL --set image=IMAGE`.",
            ),
            None => faults.add(
                "image",
                unknown("image", &self.image),
                "Import it first, or see `lastmile image list`.",
            ),
            Some(image) => {
                let reads_answers = image.current.family != Family::None;
                match image.kind {
                    ImageKind::Installer => {}
                    ImageKind::Live if reads_answers => {}
                    ImageKind::Live => faults.add(
                        "image",
                        format!("live image '{}' reads no answers", image.name),
                        "Import it with --family cloud-config if it has cloud-init, or give the machine the default boot live:IMAGE.",
                    ),
                    _ => faults.add(
                        "image",
                        format!("image '{}' installs nothing", image.name),
                        "Name an image of kind installer, or a live one that reads answers.",
                    ),
                }
                if !image.current.is_ready() {
                    let Fault { place, what, fix } = not_ready(&image.current);
                    faults.add(place, what, fix);
                }
            }
        }
        let answers = site.answers(&self.answers);
        if self.answers.is_empty() {
            faults.add(
                "machine",
                nowhere("answers are"),
                "Name answers, or give its label some: `lastmile label change LABEL --set answers=ANSWERS`.",
            );
        } else if answers.is_none() {
            faults.add(
                "answers",
                format!("no answers are named '{}'", self.answers),
                "Save them first, or see `lastmile answers list`.",
            );
        }
        if let (Some(machine), Some(image), Some(answers)) = (machine, image, answers)
            && faults.is_empty()
        {
            return resolve_answers(site, machine, image, answers, &self.asked, subjects);
        }
        faults.into_result(|| None)
    }

    /// Checks the request against the site and makes install `number` of it.
    ///
    /// # Errors
    /// Everything that stands in its way.
    pub fn check(
        &self,
        site: &Site,
        subjects: Subjects<'_>,
        number: i64,
        token: Token,
        armed_by: &str,
        now: Timestamp,
    ) -> Result<Install, Vec<Fault>> {
        Ok(self.install(self.examine(site, subjects)?, site, number, token, armed_by, now))
    }

    fn install(
        &self,
        examined: Examined<'_>,
        site: &Site,
        number: i64,
        token: Token,
        armed_by: &str,
        now: Timestamp,
    ) -> Install {
        let Examined { machine, image, answers, asked, resolution } = examined;
        Install {
            number,
            machine: machine.id,
            machine_name: machine.name.clone(),
            revision: image.current.id,
            image: image.name.clone(),
            image_title: image.title.clone(),
            image_revision: image.current.number,
            manifest_hash: image.current.manifest_hash(),
            answers: answers.id,
            answers_name: self.answers.clone(),
            answers_version: answers.number,
            labels: machine.labels.clone(),
            subnet: None,
            is_stateless: image.kind == ImageKind::Live,
            layers: site.layers_for(machine, answers).iter().map(|layer| layer.id).collect(),
            asked,
            open_questions: resolution.open,
            state: InstallState::Armed,
            token,
            armed_by: armed_by.into(),
            armed_at: now,
            booting_at: None,
            installing_at: None,
            ended_at: None,
            answer_hash: None,
            kernel_fetches: 0,
            refused_from: BTreeSet::new(),
            outcome: None,
            reason: None,
            last_step: None,
            last_step_at: now,
        }
    }
}

/// That an install of a machine goes on already.
#[must_use]
pub fn already_open(machine: &str, open: &Install) -> Fault {
    Fault {
        place: "machine".into(),
        what: format!("install {} of {} is {} on {machine}", open.number, open.image, open.state),
        fix: format!("Wait for its end, or `lastmile install cancel {}` first.", open.number),
    }
}

/// That a revision cannot be served.
#[must_use]
pub fn not_ready(revision: &Revision) -> Fault {
    let (image, number, lacking) = (&revision.image_name, revision.number, revision.lacking().join("; "));
    Fault {
        place: "image".into(),
        what: format!("'{image}' r{number} cannot be served: {lacking}"),
        fix: "Import it again.".into(),
    }
}

/// A request that nothing stands in the way of: what it names, and what its settings come to.
pub(super) struct Examined<'a> {
    pub(super) machine: &'a Machine,
    pub(super) image: &'a Image,
    pub(super) answers: &'a Arc<AnswersVersion>,
    /// What was answered, in the form it is kept in.
    pub(super) asked: BTreeMap<String, String>,
    pub(super) resolution: Resolution,
}

/// Holds the settings that a machine would get against its image, before anything is armed.
fn resolve_answers<'a>(
    site: &'a Site,
    machine: &'a Machine,
    image: &'a Image,
    answers: &'a Arc<AnswersVersion>,
    asked: &BTreeMap<String, String>,
    subjects: Subjects<'_>,
) -> Result<Examined<'a>, Vec<Fault>> {
    let revision = &image.current;
    let layers = site.layers_for(machine, answers);
    let subject = subjects(machine, revision);
    let asked = take_answers(&answers::questions(site.named(&layers)), asked)?;
    let resolution = answers::resolve(site.named(&layers), &subject, &asked)?;
    let target = Target::preview(&subject, Some(revision), "");
    answers::write(revision.family, &resolution, &target)?;
    let examples = resolution.settings.example_passwords();
    if !examples.is_empty() {
        return Err(examples);
    }
    Ok(Examined { machine, image, answers, asked, resolution })
}

/// What a person wants installed on several machines: on all of them, or on none.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ArmSeveral {
    /// The machines' names.
    #[serde(default)]
    pub machines: Vec<String>,
    /// And every machine that has all of these labels.
    #[serde(default)]
    pub labels: Vec<String>,
    /// The image's name; its current revision is taken. If left out, each machine gets that of its labels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// The answers' name; their current version is taken. If left out, each machine gets those of its labels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answers: Option<String>,
    /// Answers to questions, by their names, for all of the machines.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub asked: BTreeMap<String, String>,
}

impl ArmSeveral {
    /// The machines that are meant, each once, with what each gets.
    ///
    /// # Errors
    /// That no machine is meant.
    pub fn requests(&self, site: &Site) -> Result<Vec<ArmRequest>, Vec<Fault>> {
        let called = |name: &'_ String| site.machine_called(name).map(|machine| machine.name.as_str());
        let mut names: BTreeSet<&str> =
            self.machines.iter().map(|name| called(name).unwrap_or(name)).collect();
        if !self.labels.is_empty() {
            let has_all = |labels: &[String]| self.labels.iter().all(|label| labels.contains(label));
            names.extend(
                site.machines()
                    .filter(|machine| has_all(&machine.labels))
                    .map(|machine| machine.name.as_str()),
            );
        }
        if names.is_empty() {
            let (what, fix) = if self.labels.is_empty() {
                ("no machine is named".into(), "Name machines, or a label.")
            } else {
                let what = format!("no machine has the label {}", self.labels.join(" and "));
                (what, "See `lastmile machine list --label`, or give a machine the label.")
            };
            return Err(vec![Fault { place: "machines".into(), what, fix: fix.into() }]);
        }
        // What is named nowhere has an empty name, and is said of the machine that lacks it.
        let of_label = |name: &str, of: fn(&Label) -> Option<&String>| {
            site.machine(name).and_then(|machine| site.by_label(machine, of)).cloned().unwrap_or_default()
        };
        let request = |name: &str| ArmRequest {
            machine: name.into(),
            image: self.image.clone().unwrap_or_else(|| of_label(name, |label| label.image.as_ref())),
            answers: self.answers.clone().unwrap_or_else(|| of_label(name, |label| label.answers.as_ref())),
            asked: self.asked.clone(),
        };
        Ok(names.into_iter().map(request).collect())
    }
}

impl ArmRequest {
    /// Checks all requests, and makes installs of them that are numbered from `first` on.
    ///
    /// # Errors
    /// Everything that stands in the way of any of them. What is wrong with the image or the answers is said once; what
    /// is wrong with a machine has its name as its place where there are several.
    pub fn check_all(
        requests: &[Self],
        site: &Site,
        subjects: Subjects<'_>,
        first: i64,
        mut token: impl FnMut() -> Token,
        armed_by: &str,
        now: Timestamp,
    ) -> Result<Vec<Install>, Vec<Fault>> {
        let (mut installs, mut of_all, mut of_machines) = (Vec::new(), Vec::new(), Vec::new());
        let mut collisions = claimed_already(requests, site, subjects);
        for (number, request) in (first..).zip(requests) {
            match request.examine(site, subjects) {
                Ok(examined) => {
                    collisions.add(&request.machine, &examined.resolution.settings);
                    installs.push(request.install(examined, site, number, token(), armed_by, now));
                }
                Err(found) => {
                    for mut fault in found {
                        if fault.place == "machine" {
                            if requests.len() > 1 {
                                fault.place.clone_from(&request.machine);
                            }
                            of_machines.push(fault);
                        } else if !of_all.contains(&fault) {
                            of_all.push(fault);
                        }
                    }
                }
            }
        }
        of_all.append(&mut of_machines);
        let is_asked = |machine: &String| requests.iter().any(|request| request.machine == *machine);
        let found = collisions.faults().into_iter().filter(|(_, machines)| machines.iter().any(is_asked));
        of_all.extend(found.map(|(fault, _)| fault));
        if of_all.is_empty() { Ok(installs) } else { Err(of_all) }
    }
}

/// What hosts claim that are being installed with the same answers, but for those that are asked for.
fn claimed_already(requests: &[ArmRequest], site: &Site, subjects: Subjects<'_>) -> Collisions {
    let mut collisions = Collisions::default();
    let answers: BTreeSet<&str> = requests.iter().map(|request| request.answers.as_str()).collect();
    let asked: BTreeSet<&str> = requests.iter().map(|request| request.machine.as_str()).collect();
    for open in site.open_installs().filter(|open| answers.contains(open.answers_name.as_str())) {
        let (machine, revision) = (site.machine_by_id(open.machine), site.revision(open.revision));
        let (Some(machine), Some(revision)) = (machine, revision) else { continue };
        if asked.contains(machine.name.as_str()) {
            continue;
        }
        let layers = site.layers_of(open);
        if let Ok(resolution) =
            answers::resolve(site.named(&layers), &subjects(machine, revision), &open.asked)
        {
            collisions.add(&machine.name, &resolution.settings);
        }
    }
    collisions
}
