//! What arming would do, told before it is done.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{ArmRequest, Subjects, arm::Examined};
use crate::{
    base::Fault,
    decide::answers::{missing_cards, warnings},
    model::{
        answers::{DiskMatch, Prefer},
        image::ImageKind,
    },
    site::Site,
};

/// What arming would do to one machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ArmPreview {
    /// The machine's name.
    pub machine: String,
    /// What it holds now, by the record: image and revision, as in `tidewrack-12 r1`.
    pub holds: Option<String>,
    /// Since when it holds that.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub since: Option<Timestamp>,
    /// What it would get, as in `tidewrack-12 r2`; nothing if it would not be armed.
    pub gets: Option<String>,
    /// With which answers, as in `ticket-kiosk v2`.
    pub answers: Option<String>,
    /// The host name that it would have; with the defaults of what is asked and not answered yet.
    pub host_name: Option<String>,
    /// The disks that would be taken, all that is on them lost. None for what runs from memory.
    pub takes: Vec<String>,
    /// The questions that it would wait for, by their names.
    pub asks: Vec<String>,
    /// What would hardly be what was meant.
    pub warnings: Vec<Fault>,
    /// What stands in the way.
    pub faults: Vec<Fault>,
}

impl ArmRequest {
    /// What the request would do; it changes nothing.
    #[must_use]
    pub fn preview(&self, site: &Site, subjects: Subjects<'_>) -> ArmPreview {
        let held = site.machine(&self.machine).and_then(|machine| site.last_installed(machine.id));
        let mut preview = ArmPreview {
            machine: self.machine.clone(),
            holds: held.map(|install| format!("{} r{}", install.image, install.image_revision)),
            since: held.and_then(|install| install.ended_at),
            gets: None,
            answers: None,
            host_name: None,
            takes: Vec::new(),
            asks: Vec::new(),
            warnings: Vec::new(),
            faults: Vec::new(),
        };
        match self.examine(site, subjects) {
            Err(faults) => preview.faults = faults,
            Ok(Examined { machine, image, answers, resolution, .. }) => {
                let settings = &resolution.settings;
                preview.gets = Some(format!("{} r{}", image.name, image.current.number));
                preview.answers = Some(format!("{} v{}", self.answers, answers.number));
                preview.host_name = Some(settings.host_name.clone());
                if image.kind != ImageKind::Live {
                    preview.takes = settings.disks.taken.iter().map(|(_, disk)| in_words(disk)).collect();
                }
                preview.asks = resolution.open.keys().cloned().collect();
                preview.warnings = warnings(image.current.family, settings);
                if let Some(survey) = site.survey_of(machine) {
                    preview.warnings.extend(missing_cards(settings, &survey.survey.facts));
                }
            }
        }
        preview
    }
}

/// A disk as a person would say it.
fn in_words(disk: &DiskMatch) -> String {
    if let Some(device) = &disk.device {
        return if device.starts_with('/') { device.clone() } else { format!("disk {device}") };
    }
    let size = disk.prefer.map(|prefer| match prefer {
        Prefer::Small => "the smallest",
        Prefer::Large => "the largest",
    });
    let said = [
        ("", size),
        ("model ", disk.model.as_deref()),
        ("serial ", disk.serial.as_deref()),
        ("at least ", disk.at_least.as_deref()),
        ("at most ", disk.at_most.as_deref()),
    ];
    let words: Vec<String> =
        said.into_iter().filter_map(|(head, text)| Some(format!("{head}{}", text?))).collect();
    if words.is_empty() { "its only disk".into() } else { format!("the disk: {}", words.join(", ")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn disks_are_said_as_a_person_would() {
        let of = |disk: DiskMatch| in_words(&disk);
        assert_eq!(of(DiskMatch::default()), "its only disk");
        assert_eq!(of(DiskMatch { device: Some("/dev/sda".into()), ..DiskMatch::default() }), "/dev/sda");
        assert_eq!(of(DiskMatch { device: Some("0".into()), ..DiskMatch::default() }), "disk 0");
        let likeness = DiskMatch {
            model: Some("Puffin*".into()),
            prefer: Some(Prefer::Large),
            at_least: Some("200G".into()),
            ..DiskMatch::default()
        };
        assert_eq!(of(likeness), "the disk: the largest, model Puffin*, at least 200G");
    }
}
