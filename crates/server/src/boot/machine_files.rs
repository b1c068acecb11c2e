//! Answer files and reports, by their token.

use std::net::IpAddr;

use lastmile_core::{
    decide::{answers, answers::AnswerFile, install::Evidence},
    model::{
        image::Sha256,
        install::{Actual, Install, Outcome, ReportStage},
        machine::Machine,
    },
    site::Site,
};
use lastmile_store::StoreError;

use super::Parts;
use crate::clock;

/// What somebody asks for who is refused, as the record says it.
const ANSWER_FILE: &str = "its answer file";
const REPORT: &str = "its report";

/// Why an answer file or a report is refused. The machine is told only that it is.
#[derive(Debug, thiserror::Error)]
pub(super) enum TokenRefusal {
    #[error("the token is for no install that goes on")]
    Unknown,
    #[error("the token is for another machine than {address}")]
    OtherMachine { address: IpAddr },
    #[error("the image of install {install} reads no answer file '{file}'")]
    NoSuchFile { install: i64, file: String },
    #[error("the answer file of install {install} cannot be written: {faults}")]
    Faults { install: i64, faults: String },
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// The answer file of the install that `token` is for.
pub(super) async fn answer_file(
    parts: &Parts,
    address: IpAddr,
    token: &str,
    file: &str,
    head: bool,
) -> Result<(Install, String), TokenRefusal> {
    let site = parts.records.site();
    let Some(install) = site.install_by_token(token) else {
        // Whoever has an ended install's token has it from somewhere: that goes on record.
        let install = recorded(parts, token).await?;
        if let Some(machine) = site.machine_by_id(install.machine) {
            check_address(parts, &site, &install, machine, address, ANSWER_FILE).await?;
        }
        return Err(TokenRefusal::Unknown);
    };
    let unknown_file = || TokenRefusal::NoSuchFile { install: install.number, file: file.into() };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(parts, &site, install, machine, address, ANSWER_FILE).await?;
    let revision = site.revision(install.revision).ok_or_else(unknown_file)?;
    let files = parts.records.answer_files(&site, machine, revision, install).map_err(|faults| {
        TokenRefusal::Faults {
            install: install.number,
            faults: faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "),
        }
    })?;
    let is_main = |found: &AnswerFile| answers::file_names(revision.family).first() == Some(&found.name);
    let Some(found) = files.into_iter().find(|found| found.name == file) else { return Err(unknown_file()) };
    let text = found.text.clone();
    // Who asks only for its size has not read it.
    if is_main(&found) && !head {
        let sha256 = Sha256::of(text.as_bytes());
        // On record before it leaves: what was served is never in doubt.
        parts.records.see(machine.id, Evidence::Answers { sha256 }).await?;
    }
    Ok(((**install).clone(), text))
}

/// Takes a report. One that comes late or twice is taken and changes nothing.
pub(super) async fn report(
    parts: &Parts,
    address: IpAddr,
    token: &str,
    stage: ReportStage,
    text: Option<String>,
) -> Result<Option<Install>, TokenRefusal> {
    let site = parts.records.site();
    let Some(install) = site.install_by_token(token).map(|install| (**install).clone()) else {
        // It may have ended by the very report that is now repeated, or have been taken for stalled.
        let install = recorded(parts, token).await?;
        if let Some(machine) = site.machine_by_id(install.machine) {
            check_address(parts, &site, &install, machine, address, REPORT).await?;
            let evidence = Evidence::Report(stage, text);
            parts
                .records
                .move_recorded(install.number, move |install, now| install.see(&evidence, now))
                .await?;
        }
        return Ok(None);
    };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(parts, &site, &install, machine, address, REPORT).await?;
    parts.records.see(install.machine, Evidence::Report(stage, text)).await?;
    Ok(Some(install))
}

/// Takes lines that an installer wrote.
pub(super) async fn log(parts: &Parts, address: IpAddr, token: &str, text: &str) -> Result<(), TokenRefusal> {
    let site = parts.records.site();
    let Some(install) = site.install_by_token(token) else {
        // What is said after the end is said to nobody; that it was said is no fault.
        return recorded(parts, token).await.map(drop);
    };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(parts, &site, install, machine, address, REPORT).await?;
    Ok(parts.records.log_lines(install, text).await?)
}

/// The install that a token was made for, whether it goes on or not.
async fn recorded(parts: &Parts, token: &str) -> Result<Install, TokenRefusal> {
    if !parts.records.was_given(token) {
        return Err(TokenRefusal::Unknown);
    }
    let known = token.to_owned();
    let found = parts.records.store.read(move |tx| match tx.install_number_by_token(&known)? {
        Some(number) => tx.install(number),
        None => Ok(None),
    });
    found.await?.map(|(install, _)| install).ok_or(TokenRefusal::Unknown)
}

/// Takes what a host says at its first start. Its token is good for that until it was said, also when the install has
/// ended by then.
pub(super) async fn booted(
    parts: &Parts,
    address: IpAddr,
    token: &str,
    actual: Actual,
) -> Result<Install, TokenRefusal> {
    let install = recorded(parts, token).await?;
    let site = parts.records.site();
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    let expected = parts.records.expected(&site, machine, &install);
    // The new system may have an address that its answers gave it.
    let is_expected = matches!(address, IpAddr::V4(address) if expected.addresses.contains(&address));
    if !is_expected {
        check_address(parts, &site, &install, machine, address, REPORT).await?;
    }
    let outcome = Outcome { at: clock::now(), actual, expected };
    parts.records.move_recorded(install.number, move |install, _| install.booted(outcome)).await?;
    Ok(install)
}

/// A token is good only from the machine's own leased address. Who asks from elsewhere goes on record.
async fn check_address(
    parts: &Parts,
    site: &Site,
    install: &Install,
    machine: &Machine,
    address: IpAddr,
    what: &'static str,
) -> Result<(), TokenRefusal> {
    if machine.macs.first().is_some_and(|mac| parts.wire.identify(site, *mac, address).is_own()) {
        return Ok(());
    }
    parts.records.note_refused(install, address, what).await;
    Err(TokenRefusal::OtherMachine { address })
}
