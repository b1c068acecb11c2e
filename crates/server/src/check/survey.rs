//! The survey: whether machines that are to be surveyed can be, and what surveys found different.

use std::{collections::BTreeSet, path::Path};

use jiff::SignedDuration;
use lastmile_api::Severity;
use lastmile_core::{
    decide::survey::system::messages_version,
    model::{
        agent::VERSION,
        image::ImageKind,
        subnet::{Mode, Newcomers},
        survey::SurveyRecord,
    },
    site::Site,
};
use lastmile_formats::cpu::Cpu;

use super::{Findings, Topic};
use crate::{app::App, clock};

/// How long ago hardware may have changed to be worth telling.
const RECENT: SignedDuration = SignedDuration::from_hours(24 * 14);
/// Changes of one machine, and machines, that are told one by one.
const CHANGES_TOLD: usize = 3;
const MACHINES_TOLD: usize = 50;

pub(super) fn look(findings: &mut Findings, app: &App) {
    let site = app.records.site();
    systems(findings, &site);
    agents(findings, &site);
    kernels(findings, &site);
    changes(findings, &site);
}

/// Where unknown machines are surveyed, there is a system for every processor that a loader is there for.
fn systems(findings: &mut Findings, site: &Site) {
    let surveyed =
        site.subnets().filter(|subnet| subnet.mode != Mode::Off && subnet.newcomers == Newcomers::Survey);
    let subnets: Vec<&str> = surveyed.map(|subnet| subnet.name.as_str()).collect();
    if subnets.is_empty() {
        return;
    }
    let processors: BTreeSet<Cpu> = site.loaders().filter_map(|loader| loader.architecture.cpu()).collect();
    for cpu in processors {
        match site.survey_image(Some(cpu)) {
            Some(image) => findings.good(
                Topic::Survey,
                &image.name,
                format!("unknown machines with {cpu} processors are surveyed on {}", subnets.join(", ")),
            ),
            None => findings.add(
                Severity::Fault,
                Topic::Survey,
                subnets.join(", "),
                format!(
                    "unknown machines are to be surveyed, but no image of kind survey is for {cpu} processors"
                ),
                "`lastmile survey build` makes one; `--package FILE` of another kernel than this host's.",
            ),
        }
    }
}

/// Whether the agents in the systems speak as this service does.
fn agents(findings: &mut Findings, site: &Site) {
    for image in site.images().filter(|image| image.kind == ImageKind::Survey) {
        let is_other = |version: &u32| *version != VERSION;
        if let Some(version) = messages_version(&image.current.parameters).filter(is_other) {
            findings.add(
                Severity::Fault,
                Topic::Survey,
                &image.name,
                format!("its agent speaks version {version} of the messages, and this service version {VERSION}: machines that start it report nothing"),
                "`lastmile survey build` makes its next revision with this service's agent.",
            );
        }
    }
}

/// Whether this host has a newer kernel than the system that machines are surveyed by.
fn kernels(findings: &mut Findings, site: &Site) {
    let name = rustix::system::uname();
    let release = name.release().to_string_lossy().into_owned();
    let (kernel, modules) = (format!("/boot/vmlinuz-{release}"), format!("/lib/modules/{release}"));
    if !Path::new(&kernel).is_file() || !Path::new(&modules).is_dir() {
        return;
    }
    for image in site.images().filter(|image| image.kind == ImageKind::Survey) {
        let Some(own) = &image.current.recognised.kernel_version else { continue };
        if image.current.cpu == Some(host_cpu()) && numbers(&release) > numbers(&own.value) {
            findings.add(
                Severity::Note,
                Topic::Survey,
                &image.name,
                format!("it has Linux {}, and this host has Linux {release}", own.value),
                "`lastmile survey build` makes its next revision of this host's kernel.",
            );
        }
    }
}

const fn host_cpu() -> Cpu {
    if cfg!(target_arch = "aarch64") { Cpu::Arm64 } else { Cpu::X64 }
}

/// The numbers of a version, by which versions are ordered.
fn numbers(version: &str) -> Vec<u64> {
    version
        .split(|character: char| !character.is_ascii_digit())
        .filter_map(|part| part.parse().ok())
        .collect()
}

/// Machines whose latest survey found something else than the one before.
fn changes(findings: &mut Findings, site: &Site) {
    let now = clock::now();
    let is_recent = |survey: &&std::sync::Arc<SurveyRecord>| {
        !survey.changes.is_empty() && now.duration_since(survey.began) < RECENT
    };
    let mut changed: Vec<_> = site.surveys().filter(is_recent).collect();
    changed.sort_by_key(|survey| std::cmp::Reverse(survey.began));
    for survey in changed.iter().take(MACHINES_TOLD) {
        let machine = site.machine_by_mac(survey.mac);
        let who = machine.map_or_else(|| survey.mac.to_string(), |machine| machine.name.clone());
        let told: Vec<String> = survey.changes.iter().take(CHANGES_TOLD).map(ToString::to_string).collect();
        let more = survey.changes.len().saturating_sub(CHANGES_TOLD);
        let more = if more > 0 { format!("; {more} more") } else { String::new() };
        findings.add(
            Severity::Warning,
            Topic::Survey,
            &who,
            format!("its hardware is not as it was: {}{more}", told.join("; ")),
            format!(
                "`lastmile machine surveys {who}` tells since when. If it is meant so, survey it once more."
            ),
        );
    }
    if changed.len() > MACHINES_TOLD {
        let more = format!("{} more machines are not as they were", changed.len() - MACHINES_TOLD);
        findings.add(Severity::Warning, Topic::Survey, "machines", more, "Begin with those above.");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_ordered_by_their_numbers() {
        assert!(numbers("6.1.0-57-amd64") > numbers("6.1.0-9-amd64"));
        assert!(numbers("6.10.1") > numbers("6.9.12"));
        assert!(numbers("6.1.0-57-amd64") <= numbers("6.1.0-57-amd64"));
    }
}
