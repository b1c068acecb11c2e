//! Which answers go with which images, and what is wrong with each pair.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use super::{Collisions, Resolved, Subject, Target, cards, resolve, support, write, write::check_format};
use crate::{
    base::Fault,
    model::{
        answers::AnswersVersion,
        image::Revision,
        machine::Machine,
        menu::{MenuAction, MenuEntry},
    },
    site::Site,
};

/// Something that is wrong with a pair of answers and image, on all of these machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// The answers' name.
    pub answers: String,
    /// The image's name.
    pub image: String,
    /// The machines' names; empty if it is wrong whatever the machine.
    pub machines: Vec<String>,
    /// What.
    pub fault: Fault,
}

/// What came of looking at every pair.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lint {
    /// How many pairs of answers and image were looked at.
    pub pairs: usize,
    /// How many machines each pair was looked at with.
    pub machines: usize,
    /// Answers that no image is named for.
    pub unpaired: Vec<String>,
    /// What is wrong.
    pub findings: Vec<Finding>,
}

/// The images that answers go with: those they name, those of menus' entries and of labels, and those of installs that go
/// on.
fn images_of(site: &Site, answers: &AnswersVersion, name: &str) -> BTreeSet<String> {
    fn gather(entries: &[MenuEntry], name: &str, images: &mut BTreeSet<String>) {
        for entry in entries {
            match &entry.action {
                MenuAction::Image { name: image, answers: Some(answers) } if answers == name => {
                    images.insert(image.clone());
                }
                MenuAction::Entries(inner) => gather(inner, name, images),
                _ => {}
            }
        }
    }
    let mut images: BTreeSet<String> = answers.settings.images.iter().cloned().collect();
    for menu in site.menus() {
        gather(&menu.entries, name, &mut images);
    }
    let armed = site.labels().filter(|label| label.answers.as_deref() == Some(name));
    images.extend(armed.filter_map(|label| label.image.clone()));
    images
        .extend(site.open_installs().filter(|open| open.answers_name == name).map(|open| open.image.clone()));
    images
}

/// Looks at every pair of answers and image with every machine. `subject` gives what is known of a machine.
pub fn lint(site: &Site, subject: &dyn Fn(&Machine, &Revision) -> Subject) -> Lint {
    let mut lint = Lint { machines: site.machine_count(), ..Lint::default() };
    for answers in site.all_answers() {
        let crate::model::answers::Scope::Answers(name) = &answers.scope else { continue };
        let images = images_of(site, answers, name);
        if images.is_empty() {
            lint.unpaired.push(name.clone());
        }
        for image_name in images {
            lint.pairs += 1;
            let Some(image) = site.image(&image_name) else {
                lint.findings.push(missing(name, &image_name));
                continue;
            };
            let revision = &image.current;
            // By place and text: what is wrong on a thousand machines is said once.
            let mut found: BTreeMap<(String, String, String), Vec<String>> = BTreeMap::new();
            let mut note = |faults: Vec<Fault>, machine: Option<&str>| {
                for fault in faults {
                    let machines = found.entry((fault.place, fault.what, fault.fix)).or_default();
                    machines.extend(machine.map(str::to_owned));
                }
            };
            if site.machine_count() == 0 {
                note(faults_on(site, answers, revision, None, &mut |_| {}), None);
            }
            let mut collisions = Collisions::default();
            for machine in site.machines() {
                let subject = subject(machine, revision);
                let mut claim = |settings: &Resolved| collisions.add(&machine.name, settings);
                let faults = faults_on(site, answers, revision, Some((machine, &subject)), &mut claim);
                note(faults, Some(&machine.name));
            }
            for (fault, machines) in collisions.faults() {
                machines.iter().for_each(|machine| note(vec![fault.clone()], Some(machine)));
            }
            lint.findings.extend(found.into_iter().map(|((place, what, fix), mut machines)| {
                if machines.len() == site.machine_count() {
                    machines.clear();
                }
                Finding {
                    answers: name.clone(),
                    image: image_name.clone(),
                    machines,
                    fault: Fault { place, what, fix },
                }
            }));
        }
    }
    lint
}

fn missing(answers: &str, image: &str) -> Finding {
    Finding {
        answers: answers.into(),
        image: image.into(),
        machines: Vec::new(),
        fault: Fault {
            place: "images".into(),
            what: format!("no image is named '{image}'"),
            fix: "Import it, or take its name out of `images`.".into(),
        },
    }
}

fn faults_on(
    site: &Site,
    answers: &Arc<AnswersVersion>,
    revision: &Revision,
    on: Option<(&Machine, &Subject)>,
    claim: &mut dyn FnMut(&Resolved),
) -> Vec<Fault> {
    let example = Subject::example();
    let (layers, subject) = match on {
        Some((machine, subject)) => (site.layers_for(machine, answers), subject),
        None => {
            let below = site.settings_of(&crate::model::answers::Scope::Site);
            (below.into_iter().chain([answers]).cloned().collect(), &example)
        }
    };
    let resolution = match resolve(site.named(&layers), subject, &BTreeMap::new()) {
        Ok(resolution) => resolution,
        Err(faults) => return faults,
    };
    claim(&resolution.settings);
    let target = Target::preview(subject, Some(revision), "");
    match write(revision.family, &resolution, &target) {
        Ok(_) => {
            let mut faults = resolution.settings.example_passwords();
            faults.extend(support::warnings(revision.family, &resolution.settings));
            let survey = on.and_then(|(machine, _)| site.survey_of(machine));
            faults.extend(
                survey.iter().flat_map(|survey| cards::missing(&resolution.settings, &survey.survey.facts)),
            );
            faults
        }
        Err(faults) => faults,
    }
}

/// What the formats of the images that answers name cannot say, as the site would be: the fault that stops saving.
#[must_use]
pub fn pairing_faults(site: &Site, answers: &Arc<AnswersVersion>) -> Vec<Fault> {
    let mut faults = Vec::new();
    let below = site.settings_of(&crate::model::answers::Scope::Site);
    let layers: Vec<_> = below.into_iter().chain([answers]).cloned().collect();
    let resolution = match resolve(site.named(&layers), &Subject::example(), &BTreeMap::new()) {
        Ok(resolution) => resolution,
        Err(faults) => return faults,
    };
    // What stands in a format's own language is tried on example values: a name that is not there is a mistake on every
    // machine.
    let example = Subject::example();
    let target = Target::preview(&example, None, "");
    for family in resolution.settings.formats.keys() {
        faults.extend(check_format(*family, &resolution, &target));
    }
    for (index, name) in answers.settings.images.iter().enumerate() {
        let place = format!("images[{index}]");
        match site.image(name) {
            None => faults.push(Fault {
                place,
                what: format!("no image is named '{name}'"),
                fix: "Import it first, or see `lastmile image list`.".into(),
            }),
            Some(image) if !image.reads_answers() => {
                faults.push(Fault {
                    place,
                    what: format!("image '{name}' reads no answer file"),
                    fix: "Name an image that reads answers: `lastmile image list` shows which do.".into(),
                });
            }
            Some(image) => {
                let found = support::faults(image.current.family, &resolution.settings);
                faults.extend(found.into_iter().map(|mut fault| {
                    fault.what = format!("{} (for image {name})", fault.what);
                    fault
                }));
            }
        }
    }
    faults
}
