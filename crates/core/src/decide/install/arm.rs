//! Arming: the check before an install is recorded.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Install, InstallState, Token};
use crate::{
    Fault, Faults,
    answers::{self, AnswersVersion, Question, Resolution, Subject, Target},
    image::{Family, Image, ImageKind, Revision},
    machine::{Machine, Standing},
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
    pub(super) fn weigh<'a>(
        &self,
        site: &'a Site,
        subjects: Subjects<'_>,
    ) -> Result<Weighed<'a>, Vec<Fault>> {
        let mut faults = Faults::new();
        let unknown = |kind: &str, name: &str| format!("no {kind} is named '{name}'");
        let machine = site.machine(&self.machine);
        match machine {
            None => faults.add(
                "machine",
                unknown("machine", &self.machine),
                "Register it first, or see `lastmile machine list`.",
            ),
            Some(machine) => {
                if let Some(open) = site.open_install(machine.id) {
                    faults.add(
                        "machine",
                        format!(
                            "install {} of {} is {} on {}",
                            open.number, open.image, open.state, machine.name
                        ),
                        format!("Wait for its end, or `lastmile install cancel {}` first.", open.number),
                    );
                }
                if machine.standing == Standing::Ignored {
                    faults.add(
                        "machine",
                        format!("{} is set to be ignored", machine.name),
                        "Give it another standing first, or it would never boot the install.",
                    );
                }
            }
        }
        let image = site.image(&self.image);
        match image {
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
                        "Import it with --family cloud-config if it has cloud-init, or give the machine the standing live:IMAGE.",
                    ),
                    _ => faults.add(
                        "image",
                        format!("image '{}' installs nothing", image.name),
                        "Name an image of kind installer, or a live one that reads answers.",
                    ),
                }
                if !image.current.is_ready() {
                    faults.add(
                        "image",
                        format!(
                            "'{}' r{} cannot be served: {}",
                            image.name,
                            image.current.number,
                            image.current.lacking().join("; ")
                        ),
                        "Import it again.",
                    );
                }
            }
        }
        let answers = site.answers(&self.answers);
        if answers.is_none() {
            faults.add(
                "answers",
                format!("no answers are named '{}'", self.answers),
                "Save them first, or see `lastmile answers list`.",
            );
        }
        if let (Some(machine), Some(image), Some(answers)) = (machine, image, answers)
            && faults.is_empty()
        {
            return settle(site, machine, image, answers, &self.asked, subjects);
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
        let Weighed { machine, image, answers, asked, resolution } = self.weigh(site, subjects)?;
        Ok(Install {
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
        })
    }
}

/// A request that nothing stands in the way of: what it names, and what its settings come to.
pub(super) struct Weighed<'a> {
    pub(super) machine: &'a Machine,
    pub(super) image: &'a Image,
    pub(super) answers: &'a Arc<AnswersVersion>,
    /// What was answered, in the form it is kept in.
    pub(super) asked: BTreeMap<String, String>,
    pub(super) resolution: Resolution,
}

/// Holds the settings that a machine would get against its image, before anything is armed.
fn settle<'a>(
    site: &'a Site,
    machine: &'a Machine,
    image: &'a Image,
    answers: &'a Arc<AnswersVersion>,
    asked: &BTreeMap<String, String>,
    subjects: Subjects<'_>,
) -> Result<Weighed<'a>, Vec<Fault>> {
    let revision = &image.current;
    let layers = site.layers_for(machine, answers);
    let subject = subjects(machine, revision);
    let asked = take_answers(&answers::questions(site.named(&layers)), asked)?;
    let resolution = answers::resolve(site.named(&layers), &subject, &asked)?;
    let target = Target::preview(&subject, Some(revision), "");
    answers::write(revision.family, &resolution, &target)?;
    Ok(Weighed { machine, image, answers, asked, resolution })
}

/// Answers in the form they are kept in.
///
/// # Errors
/// Answers that fit no question or not theirs.
pub(super) fn take_answers(
    questions: &BTreeMap<String, Question>,
    answers: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>, Vec<Fault>> {
    let mut faults = Faults::new();
    let mut taken = BTreeMap::new();
    for (key, answer) in answers {
        let place = format!("asked.{key}");
        match questions.get(key).map(|question| question.take(answer)) {
            Some(Ok(answer)) => {
                taken.insert(key.clone(), answer);
            }
            Some(Err(fault)) => faults.add(place, fault.what, fault.mend),
            None => {
                let known: Vec<&str> = questions.keys().map(String::as_str).collect();
                let mend = if known.is_empty() {
                    "Nothing is asked.".into()
                } else {
                    format!("Questions are: {}.", known.join(", "))
                };
                faults.add(place, format!("nothing is asked under '{key}'"), mend);
            }
        }
    }
    faults.into_result(|| Some(taken))
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
    /// The image's name; its current revision is taken.
    pub image: String,
    /// The answers' name; their current version is taken.
    pub answers: String,
    /// Answers to questions, by their names, for all of the machines.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub asked: BTreeMap<String, String>,
}

impl ArmSeveral {
    /// The machines that are meant, each once.
    ///
    /// # Errors
    /// That no machine is meant.
    pub fn requests(&self, site: &Site) -> Result<Vec<ArmRequest>, Vec<Fault>> {
        let mut names: BTreeSet<&str> = self.machines.iter().map(String::as_str).collect();
        if !self.labels.is_empty() {
            let has_all = |labels: &[String]| self.labels.iter().all(|label| labels.contains(label));
            names.extend(
                site.machines()
                    .filter(|machine| has_all(&machine.labels))
                    .map(|machine| machine.name.as_str()),
            );
        }
        if names.is_empty() {
            let (what, mend) = if self.labels.is_empty() {
                ("no machine is named".into(), "Name machines, or a label.")
            } else {
                let what = format!("no machine has the label {}", self.labels.join(" and "));
                (what, "See `lastmile machine list --label`, or give a machine the label.")
            };
            return Err(vec![Fault { place: "machines".into(), what, mend: mend.into() }]);
        }
        let request = |name: &str| ArmRequest {
            machine: name.into(),
            image: self.image.clone(),
            answers: self.answers.clone(),
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
        for (number, request) in (first..).zip(requests) {
            match request.check(site, subjects, number, token(), armed_by, now) {
                Ok(install) => installs.push(install),
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
        if of_all.is_empty() { Ok(installs) } else { Err(of_all) }
    }
}
