//! Rules at work: run for machines, and what they propose, which a person accepts or declines.

use std::{collections::HashMap, sync::Arc};

use axum::{extract::State, http::HeaderMap};
use jiff::Timestamp;
use lastmile_api::{EffectView, Problem, ProposalView, ProposalsChosen, RuleRun, RulesRun};
use lastmile_core::{
    base::Fault,
    decide::rule::Previewed,
    model::{machine::Machine, rule::Proposal, survey::SurveyRecord},
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::Change;

use super::{
    Admin,
    facts::{name_of, summary},
    installs,
    reject::{Json, Reject},
};
use crate::{
    app::App,
    records::{is_trying, to_the_end},
    rules::{Ran, Running},
};

/// Machines for which rules are run within one change: others wait no longer for it.
const AT_ONCE: usize = 100;

/// Runs all rules for some machines and newcomers, by what their last surveys measured. What rules of mode `apply` say is done, what
/// others say is proposed. Each machine is a change of its own.
#[utoipa::path(
    post, operation_id = "rules_run", path = "/rules/run", tag = "rules", request_body = RulesRun,
    responses((status = 200, body = [RuleRun]), (status = 422, body = Problem))
)]
pub(super) async fn run(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(wanted): Json<RulesRun>,
) -> Result<Json<Vec<RuleRun>>, Reject> {
    let site = admin.app.records.site();
    let mut macs = chosen(&site, wanted.who.iter().map(String::as_str))?;
    if wanted.all {
        macs.extend(surveyed(&site));
        macs.sort_unstable();
        macs.dedup();
    }
    if macs.is_empty() {
        let fix = "Name machines, or MAC addresses of newcomers, or ask for all.";
        let what = "no machine is named".into();
        return Err(vec![Fault { place: "who".into(), what, fix: fix.into() }].into());
    }
    let running =
        Running { by: Some(installs::who(&headers)), accepted: Arc::default(), arms_again: wanted.arm_again };
    Ok(Json(run_all(&admin.app, macs, running).await?))
}

/// What rules propose, the longest waiting first.
#[utoipa::path(
    get, operation_id = "proposals_list", path = "/proposals", tag = "rules", responses((status = 200, body = [ProposalView]))
)]
pub(super) async fn list(State(admin): State<Admin>) -> Result<Json<Vec<ProposalView>>, Reject> {
    Ok(Json(proposed(&admin.app, &admin.app.records.site()).await?))
}

/// What is proposed as it is now: of whom nothing is proposed any more is left out.
pub(super) async fn proposed(app: &App, site: &Arc<Site>) -> Result<Vec<ProposalView>, Reject> {
    let said = open(app, site).await?;
    let view = |(one, since): &(Previewed, Timestamp)| {
        let (mac, registered) = (one.mac.to_string(), one.known.machine.is_some());
        ProposalView::new(name_of(site, one.mac), mac, registered, summary(&one.known), *since, &one.outcome)
    };
    Ok(said.iter().map(view).collect())
}

/// What is proposed, and since when; the longest waiting first.
async fn open(app: &App, site: &Arc<Site>) -> Result<Vec<(Previewed, Timestamp)>, Reject> {
    let mut held: Vec<_> = site.proposals().cloned().collect();
    held.sort_by_key(|proposal| (proposal.since, proposal.mac));
    if held.is_empty() {
        return Ok(Vec::new());
    }
    let macs = held.iter().map(|proposal| proposal.mac).collect();
    let said = app.records.outcomes(site, macs).await?.into_iter().zip(held);
    let is_open = |one: &Previewed, declined: Option<&String>| {
        !one.outcome.effects.is_empty() && declined != Some(&one.outcome.uncounted_digest())
    };
    let open = said.filter(|(one, held)| is_open(one, held.declined.as_ref()));
    Ok(open.map(|(one, held)| (one, held.since)).collect())
}

/// Accepts what rules propose: all that nothing stands in the way of is done. Each machine is a change of its own.
#[utoipa::path(
    post, operation_id = "proposals_accept", path = "/proposals/accept", tag = "rules", request_body = ProposalsChosen,
    responses((status = 200, body = [RuleRun]), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn accept(
    State(admin): State<Admin>,
    headers: HeaderMap,
    Json(wanted): Json<ProposalsChosen>,
) -> Result<Json<Vec<RuleRun>>, Reject> {
    let site = admin.app.records.site();
    let chosen = chosen_of(&admin, &site, &wanted).await?;
    let macs = chosen.iter().map(|one| one.mac).collect();
    let accepted = Arc::new(chosen.into_iter().map(|one| (one.mac, one.outcome)).collect());
    let running = Running { by: Some(installs::who(&headers)), accepted, arms_again: false };
    Ok(Json(run_all(&admin.app, macs, running).await?))
}

/// Declines what rules propose. The same is not proposed again; something else is.
#[utoipa::path(
    post, operation_id = "proposals_decline", path = "/proposals/decline", tag = "rules", request_body = ProposalsChosen,
    responses((status = 200, body = ProposalsChosen), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn decline(
    State(admin): State<Admin>,
    Json(wanted): Json<ProposalsChosen>,
) -> Result<Json<ProposalsChosen>, Reject> {
    let site = admin.app.records.site();
    let chosen = chosen_of(&admin, &site, &wanted).await?;
    let digests: Vec<(Mac, String)> =
        chosen.into_iter().map(|one| (one.mac, one.outcome.uncounted_digest())).collect();
    let decline = move |change: &mut Change<'_>| {
        for (mac, digest) in digests {
            if let Some(held) = change.site().proposal(mac).cloned() {
                change.put_proposal(Proposal { declined: Some(digest), ..(*held).clone() })?;
            }
        }
        Ok::<_, Reject>(())
    };
    admin.app.records.change(decline).await?;
    Ok(Json(wanted))
}

/// Those proposals that a person has chosen, as they are now.
///
/// # Errors
/// That one is no proposal, or is another one than the person has seen.
async fn chosen_of(
    admin: &Admin,
    site: &Arc<Site>,
    wanted: &ProposalsChosen,
) -> Result<Vec<Previewed>, Reject> {
    let (mut faults, mut found) = (Vec::new(), Vec::new());
    let all = open(&admin.app, site).await?;
    for (index, chosen) in wanted.proposals.iter().enumerate() {
        let mac = chosen.who.parse::<Mac>().ok();
        let is_it = |(one, _): &&(Previewed, Timestamp)| {
            Some(one.mac) == mac || name_of(site, one.mac).eq_ignore_ascii_case(&chosen.who)
        };
        match all.iter().find(is_it) {
            None => faults.push(Fault {
                place: format!("proposals[{index}]"),
                what: format!("nothing is proposed for '{}'", chosen.who),
                fix: "See `lastmile proposal list`.".into(),
            }),
            Some((one, _)) if chosen.digest.as_ref().is_some_and(|seen| *seen != one.outcome.digest()) => {
                let who = name_of(site, one.mac);
                let what = format!("something else is proposed for {who} now. Look at it again");
                return Err(Reject::conflict(what));
            }
            Some((one, _)) => found.push(one.clone()),
        }
    }
    if wanted.proposals.is_empty() {
        let what = "no proposal is named".into();
        faults.push(Fault { place: "proposals".into(), what, fix: "Name machines, or all.".into() });
    }
    if faults.is_empty() { Ok(found) } else { Err(faults.into()) }
}

/// Runs rules for these addresses, and arms what they say: all of it, also if the caller goes away.
async fn run_all(app: &App, macs: Vec<Mac>, running: Running) -> Result<Vec<RuleRun>, Reject> {
    let app = app.clone();
    let work = async move {
        let mut rows = Vec::new();
        for some in macs.chunks(AT_ONCE) {
            rows.append(&mut run_some(&app, some.to_vec(), running.clone()).await?);
        }
        show_as_listed(&app, &mut rows).await?;
        Ok(rows)
    };
    to_the_end(work).await?
}

/// The same for so many as one change may be for.
async fn run_some(app: &App, macs: Vec<Mac>, running: Running) -> Result<Vec<RuleRun>, Reject> {
    let records = app.records.clone();
    let run = move |change: &mut Change<'_>| {
        let mut all = Vec::new();
        for mac in macs {
            let ran = records.run_rules(change, mac, &running)?;
            all.push((name_of(change.site(), mac), ran));
        }
        Ok::<_, Reject>(all)
    };
    let mut rows = Vec::new();
    for (who, mut ran) in app.records.change(run).await? {
        app.records.arm_by_rule(&mut ran).await;
        rows.push(ran_view(who, &ran));
    }
    Ok(rows)
}

/// Shows what is proposed as the list of proposals has it: each with the number that it would get among all of them.
async fn show_as_listed(app: &App, rows: &mut [RuleRun]) -> Result<(), Reject> {
    if is_trying() || rows.iter().all(|row| row.proposed.is_empty()) {
        return Ok(());
    }
    let listed = proposed(app, &app.records.site()).await?;
    let listed: HashMap<String, Vec<EffectView>> =
        listed.into_iter().map(|proposal| (proposal.who, proposal.effects)).collect();
    for row in rows.iter_mut().filter(|row| !row.proposed.is_empty()) {
        if let Some(effects) = listed.get(&row.who) {
            row.proposed.clone_from(effects);
        }
    }
    Ok(())
}

fn ran_view(who: String, ran: &Ran) -> RuleRun {
    RuleRun {
        who,
        effects: ran.effects.iter().map(EffectView::from).collect(),
        proposed: ran.left.iter().map(EffectView::from).collect(),
        refused: ran.refused.clone(),
    }
}

/// The address of everyone who was surveyed: machines by name, then newcomers by address.
pub(super) fn surveyed(site: &Site) -> Vec<Mac> {
    let of_machine = |machine: &Arc<Machine>| site.survey_of(machine).map(|survey| survey.mac);
    let is_newcomer = |survey: &&Arc<SurveyRecord>| site.machine_by_mac(survey.mac).is_none();
    let mut newcomers: Vec<Mac> = site.surveys().filter(is_newcomer).map(|survey| survey.mac).collect();
    newcomers.sort_unstable();
    site.machines().filter_map(of_machine).chain(newcomers).collect()
}

/// The addresses of who is called so.
fn chosen<'a>(site: &Site, names: impl Iterator<Item = &'a str>) -> Result<Vec<Mac>, Reject> {
    let (mut macs, mut faults) = (Vec::new(), Vec::new());
    for (index, name) in names.enumerate() {
        let machine = site.machine_called(name).and_then(|machine| machine.macs.first().copied());
        let newcomer = || name.parse::<Mac>().ok().filter(|mac| site.survey_at(*mac).is_some());
        match machine.or_else(newcomer) {
            Some(mac) => macs.push(mac),
            None => faults.push(Fault {
                place: format!("who[{index}]"),
                what: format!("no machine is named '{name}', and no newcomer of that address was surveyed"),
                fix: "See `lastmile machine list` and `lastmile machine newcomers`.".into(),
            }),
        }
    }
    if faults.is_empty() { Ok(macs) } else { Err(faults.into()) }
}
