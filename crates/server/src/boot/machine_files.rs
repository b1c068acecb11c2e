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
    let install = site.install_by_token(token).ok_or(TokenRefusal::Unknown)?;
    let unknown_file = || TokenRefusal::NoSuchFile { install: install.number, file: file.into() };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(app, &site, machine, address)?;
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
    let Some(install) = site.install_by_token(token) else {
        // The install may have ended by the very report that is now repeated.
        let known = token.to_owned();
        let ended = app.store.read(move |tx| tx.install_number_by_token(&known)).await?;
        return if ended.is_some() { Ok(None) } else { Err(TokenRefusal::Unknown) };
    };
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    check_address(app, &site, machine, address)?;
    app.see(install.machine, Evidence::Report(stage, text)).await?;
    Ok(Some((**install).clone()))
}

/// Takes what a host says at its first start. Its token is good for that until it was said, also when the install has
/// ended by then.
pub(super) async fn booted(
    app: &App,
    address: IpAddr,
    token: &str,
    actual: Actual,
) -> Result<Install, TokenRefusal> {
    let known = token.to_owned();
    let found = app.store.read(move |tx| match tx.install_number_by_token(&known)? {
        Some(number) => tx.install(number),
        None => Ok(None),
    });
    let (install, _) = found.await?.ok_or(TokenRefusal::Unknown)?;
    let site = app.site();
    let machine = site.machine_by_id(install.machine).ok_or(TokenRefusal::Unknown)?;
    let expected = app.expected(&site, machine, &install);
    // The new system may have an address that its answers gave it.
    let is_expected = matches!(address, IpAddr::V4(address) if expected.addresses.contains(&address));
    if !is_expected {
        check_address(app, &site, machine, address)?;
    }
    let outcome = Outcome { at: Timestamp::now(), actual, expected };
    app.see_booted(machine.id, install.number, outcome).await?;
    Ok(install)
}

/// A token is good only from the machine's own leased address.
fn check_address(app: &App, site: &Site, machine: &Machine, address: IpAddr) -> Result<(), TokenRefusal> {
    let own = machine.macs.iter().any(|mac| is_own(app, site, *mac, address));
    if own { Ok(()) } else { Err(TokenRefusal::OtherMachine { address }) }
}
