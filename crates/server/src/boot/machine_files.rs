//! Answer files and reports, by their token.

use std::net::IpAddr;

use jiff::Timestamp;
use lastmile_core::{
    answers::{self, AnswerFile},
    image::Sha256,
    install::{Actual, Evidence, Install, Outcome, ReportStage},
    machine::Machine,
    site::Site,
};
use lastmile_store::StoreError;

use super::menus::is_own;
use crate::state::App;

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
    app: &App,
    address: IpAddr,
    token: &str,
    file: &str,
) -> Result<(Install, String), TokenRefusal> {
    let site = app.site();
    let Some(install) = site.install_by_token(token) else {
        // Whoever has an ended install's token has it from somewhere: that goes on record.
        let install = recorded(app, token).await?;
        if let Some(machine) = site.machine_by_id(install.machine) {
            check_address(app, &site, &install, machine, address, ANSWER_FILE).await?;
        }
        return Err(TokenRefusal::Unknown);
    };
    let unknown_file = || TokenRefusal::NoSuchFile { install: install.number, file: file.into() };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(app, &site, install, machine, address, ANSWER_FILE).await?;
    let revision = site.revision(install.revision).ok_or_else(unknown_file)?;
    let files =
        app.answer_files(&site, machine, revision, install).map_err(|faults| TokenRefusal::Faults {
            install: install.number,
            faults: faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "),
        })?;
    let is_main = |found: &AnswerFile| answers::file_names(revision.family).first() == Some(&found.name);
    let Some(found) = files.into_iter().find(|found| found.name == file) else { return Err(unknown_file()) };
    let text = found.text.clone();
    if is_main(&found) {
        let sha256 = Sha256::of(text.as_bytes());
        // On record before it leaves: what was served is never in doubt.
        app.see(machine.id, Evidence::Answers { sha256 }).await?;
    }
    Ok(((**install).clone(), text))
}

/// Takes a report. One that comes late or twice is taken and changes nothing.
pub(super) async fn report(
    app: &App,
    address: IpAddr,
    token: &str,
    stage: ReportStage,
    text: Option<String>,
) -> Result<Option<Install>, TokenRefusal> {
    let site = app.site();
    let Some(install) = site.install_by_token(token).map(|install| (**install).clone()) else {
        // It may have ended by the very report that is now repeated, or have been taken for stalled.
        let install = recorded(app, token).await?;
        if let Some(machine) = site.machine_by_id(install.machine) {
            check_address(app, &site, &install, machine, address, REPORT).await?;
            let evidence = Evidence::Report(stage, text);
            app.move_recorded(machine.id, install.number, |install, now| install.see(&evidence, now)).await?;
        }
        return Ok(None);
    };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(app, &site, &install, machine, address, REPORT).await?;
    app.see(install.machine, Evidence::Report(stage, text)).await?;
    Ok(Some(install))
}

/// Takes lines that an installer wrote.
pub(super) async fn log(app: &App, address: IpAddr, token: &str, text: &str) -> Result<(), TokenRefusal> {
    let site = app.site();
    let Some(install) = site.install_by_token(token) else {
        // What is said after the end is said to nobody; that it was said is no fault.
        return recorded(app, token).await.map(drop);
    };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(app, &site, install, machine, address, REPORT).await?;
    Ok(app.log_lines(install, text).await?)
}

/// The install that a token was made for, whether it goes on or not.
async fn recorded(app: &App, token: &str) -> Result<Install, TokenRefusal> {
    let known = token.to_owned();
    let found = app.store.read(move |tx| match tx.install_number_by_token(&known)? {
        Some(number) => tx.install(number),
        None => Ok(None),
    });
    found.await?.map(|(install, _)| install).ok_or(TokenRefusal::Unknown)
}

/// Takes what a host says at its first start. Its token is good for that until it was said, also when the install has
/// ended by then.
pub(super) async fn booted(
    app: &App,
    address: IpAddr,
    token: &str,
    actual: Actual,
) -> Result<Install, TokenRefusal> {
    let install = recorded(app, token).await?;
    let site = app.site();
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    let expected = app.expected(&site, machine, &install);
    // The new system may have an address that its answers gave it.
    let is_expected = matches!(address, IpAddr::V4(address) if expected.addresses.contains(&address));
    if !is_expected {
        check_address(app, &site, &install, machine, address, REPORT).await?;
    }
    let outcome = Outcome { at: Timestamp::now(), actual, expected };
    app.move_recorded(machine.id, install.number, |install, _| install.booted(outcome)).await?;
    Ok(install)
}

/// A token is good only from the machine's own leased address. Who asks from elsewhere goes on record.
async fn check_address(
    app: &App,
    site: &Site,
    install: &Install,
    machine: &Machine,
    address: IpAddr,
    what: &str,
) -> Result<(), TokenRefusal> {
    if machine.macs.iter().any(|mac| is_own(app, site, *mac, address)) {
        return Ok(());
    }
    app.note_refused(install, address, what).await;
    Err(TokenRefusal::OtherMachine { address })
}
