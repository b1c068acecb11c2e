//! Rules: entered, tried, run, and what they propose.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use axum::{
    extract::State,
    http::{HeaderMap, StatusCode},
};
use jiff::Timestamp;
use lastmile_api::{
    EffectView, KeptView, MachineRules, Problem, ProposalView, ProposalsChosen, RuleDraft, RuleRun,
    RuleTrial, RuleTrialRequest, RuleTrialRow, RuleUseView, RuleView, RulesRun, VerdictView,
};
use lastmile_core::{
    base::Fault,
    decide::rule::{Outcome, Previewed, preview},
    model::{
        condition::Known,
        rule::{Rule, RuleMode},
    },
    site::{Entity, Site},
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, RuleUseFilter, StoreError, Tx};

use super::{
    Admin,
    edition::{Base, Edited},
    installs,
    named::{self, Named},
    reject::{Json, Path, Reject},
    traces::who,
};
use crate::{
    app::App,
    clock,
    records::is_trying,
    rules::{Ran, Running, counters},
};

impl Named for Rule {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.rule(name).ok_or_else(|| Reject::not_found("rule", name))
    }

    fn entity(&self) -> Entity {
        Entity::Rule(self.name.clone())
    }
}

/// Rows of a trial if nobody says how many, and at most.
const ROWS: usize = 500;
const MOST_ROWS: usize = 10_000;
/// Uses of rules that are shown of one machine or rule.
const USES: i64 = 100;
/// Machines for which rules are run within one change: others wait no longer for it.
const AT_ONCE: usize = 100;

/// All rules, ordered by name.
#[utoipa::path(get, operation_id = "rules_list", path = "/rules", tag = "rules", responses((status = 200, body = [RuleView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Result<Json<Vec<RuleView>>, Reject> {
    let site = admin.app.records.site();
    let rules = site.rules().cloned().collect();
    Ok(Json(views(&admin.app, &site, rules).await?))
}

/// One rule.
#[utoipa::path(
    get, operation_id = "rules_read", path = "/rules/{name}", tag = "rules", params(("name" = String, Path)),
    responses((status = 200, body = RuleView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<RuleView>, Reject> {
    let site = admin.app.records.site();
    let rule = Rule::find(&site, &name)?.clone();
    let view = views(&admin.app, &site, vec![rule]).await?.into_iter().next();
    let view = view.ok_or_else(|| Reject::not_found("rule", &name))?;
    Ok(Edited::new(&site, &Entity::Rule(name), view))
}

async fn views(app: &App, site: &Arc<Site>, rules: Vec<Arc<Rule>>) -> Result<Vec<RuleView>, Reject> {
    let names: Vec<String> = rules.iter().map(|rule| rule.name.clone()).collect();
    let hour_ago = clock::now().saturating_sub(jiff::SignedDuration::from_hours(1)).unwrap_or_default();
    let read = move |tx: &mut Tx<'_>| {
        let totals = tx.rule_totals()?;
        let recent: Result<Vec<i64>, StoreError> =
            names.iter().map(|name| tx.rule_uses_since(name, hour_ago)).collect();
        Ok::<_, StoreError>((totals, recent?))
    };
    let (totals, recent) = app.records.store.read(read).await?;
    let everybody: Vec<Known> =
        surveyed(site).into_iter().map(|mac| app.records.known_at(site, mac)).collect();
    let mut waiting: BTreeMap<String, usize> = BTreeMap::new();
    for proposal in proposed(app, site).await? {
        let mut its: Vec<&str> = proposal.effects.iter().map(|effect| effect.rule.as_str()).collect();
        its.sort_unstable();
        its.dedup();
        its.into_iter().for_each(|rule| *waiting.entry(rule.into()).or_default() += 1);
    }
    let view = |(rule, last_hour): (Arc<Rule>, i64)| RuleView {
        name: rule.name.clone(),
        rule: RuleDraft::of(site, &rule),
        holds: everybody.iter().filter(|known| rule.condition.holds(known)).count(),
        waiting: waiting.get(&rule.name).copied().unwrap_or(0),
        uses: totals.get(&rule.name).map_or(0, |(count, _)| *count),
        last_used: totals.get(&rule.name).map(|(_, at)| *at),
        last_hour,
    };
    Ok(rules.into_iter().zip(recent).map(view).collect())
}

/// Adds a rule, or changes the one of its name. Nothing is done by that: rules run after surveys, and where they are run.
#[utoipa::path(
    put, operation_id = "rules_save", path = "/rules/{name}", tag = "rules", params(("name" = String, Path)),
    request_body = RuleDraft,
    responses((status = 200, body = RuleView), (status = 409, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<RuleDraft>,
) -> Result<Edited<RuleView>, Reject> {
    let kept = name.clone();
    let save = move |change: &mut Change<'_>| {
        let (site, entity) = (change.site(), Entity::Rule(kept.clone()));
        let former = site.rule(&kept).cloned();
        base.check_new(former.is_some(), "rule", &kept)?;
        let entered = || former.as_ref().map(|former| RuleDraft::of(site, former));
        base.check(site, &entity, entered, Some(&draft))?;
        let rule = draft.check(&kept, site)?;
        change.put_rule(rule.clone())?;
        Ok::<_, Reject>((Arc::new(change.site().clone()), Arc::new(rule)))
    };
    let (site, rule) = admin.app.records.change(save).await?;
    let view = views(&admin.app, &site, vec![rule]).await?.into_iter().next();
    let view = view.ok_or_else(|| Reject::not_found("rule", &name))?;
    Ok(Edited::new(&site, &Entity::Rule(name), view))
}

/// Removes a rule. What it gave machines stays.
#[utoipa::path(
    delete, operation_id = "rules_remove", path = "/rules/{name}", tag = "rules", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, rule: Arc<Rule>| Ok(change.remove_rule(&rule.name)?);
    named::remove(&admin, name, base, remove).await
}

/// When a rule changed machines, the latest first.
#[utoipa::path(
    get, operation_id = "rules_uses", path = "/rules/{name}/uses", tag = "rules", params(("name" = String, Path)),
    responses((status = 200, body = [RuleUseView]), (status = 404, body = Problem))
)]
pub(super) async fn uses(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<Vec<RuleUseView>>, Reject> {
    Rule::find(&admin.app.records.site(), &name)?;
    let filter = RuleUseFilter { rule: Some(name), macs: None, limit: USES };
    let uses = admin.app.records.store.read(move |tx| tx.rule_uses(&filter)).await?;
    Ok(Json(uses.into_iter().map(RuleUseView::from).collect()))
}

/// What a rule would do to every machine and newcomer that was surveyed, if it were saved so. Nothing is changed.
#[utoipa::path(
    post, operation_id = "rules_try", path = "/rules/try", tag = "rules", request_body = RuleTrialRequest,
    responses((status = 200, body = RuleTrial), (status = 422, body = Problem))
)]
pub(super) async fn attempt(
    State(admin): State<Admin>,
    Json(request): Json<RuleTrialRequest>,
) -> Result<Json<RuleTrial>, Reject> {
    let site = admin.app.records.site();
    // One that is off is looked at as if it were not: that is what a trial is for.
    let mut rule = request
        .rule
        .check_unfinished(&request.name, &site)
        .map_err(|faults| Reject::from(faults).of_question())?;
    if rule.mode == RuleMode::Off {
        rule.mode = RuleMode::Propose;
    }
    let then = Arc::new(site.with_rule(rule));
    let held = then.clone();
    let counters = admin.app.records.store.read(move |tx| counters(tx, &held)).await?;
    let app = admin.app.clone();
    let work = move || {
        let own: Vec<_> = app.wire.services.addresses().collect();
        let (spent, subnet) = (BTreeSet::new(), |site: &Site, mac: Mac| app.records.boots_on(site, mac));
        let all = preview(&then, &surveyed(&then), counters, &spent, &own, subnet, clock::now());
        trial(&then, &request.name, request.limit.unwrap_or(ROWS).min(MOST_ROWS), all)
    };
    // Thousands of machines take a while, which the wire does not wait for.
    let trial = tokio::task::spawn_blocking(work).await;
    Ok(Json(trial.map_err(|error| Reject::conflict(format!("the trial broke off: {error}")))?))
}

fn trial(site: &Site, rule: &str, limit: usize, all: Vec<Previewed>) -> RuleTrial {
    let mut trial = RuleTrial { surveyed: all.len(), ..RuleTrial::default() };
    let mut rows: Vec<RuleTrialRow> = all.iter().map(|one| trial_row(site, rule, one)).collect();
    for row in &rows {
        let is_blocked = row.effects.iter().any(|effect| effect.obstacle.is_some());
        trial.holds += usize::from(row.holds);
        trial.changes += usize::from(row.effects.iter().any(|effect| effect.obstacle.is_none()));
        trial.obstacles += usize::from(is_blocked);
    }
    rows.sort_by_cached_key(|row| {
        let is_free = row.effects.iter().all(|effect| effect.obstacle.is_none());
        (is_free, row.effects.is_empty(), !row.holds, row.failing.len(), row.who.clone())
    });
    rows.truncate(limit);
    trial.rows = rows;
    trial
}

fn trial_row(site: &Site, rule: &str, one: &Previewed) -> RuleTrialRow {
    let verdict = one.outcome.verdicts.iter().find(|verdict| verdict.rule == rule);
    let view = verdict.map(VerdictView::from);
    let own = one.outcome.effects.iter().filter(|effect| effect.rule == rule);
    RuleTrialRow {
        who: name_of(site, one.mac),
        summary: summary(&one.known),
        holds: verdict.is_some_and(|verdict| verdict.holds),
        failing: view.map(|view| view.failing).unwrap_or_default(),
        effects: own.map(EffectView::from).collect(),
        kept: one.outcome.kept.iter().filter(|kept| kept.rule == rule).map(KeptView::from).collect(),
    }
}

/// What rules say of a machine or a newcomer: those that hold, those that do not and why, what would change, and what they did.
#[utoipa::path(
    get, operation_id = "facts_rules", path = "/facts/{who}/rules", tag = "rules", params(("who" = String, Path)),
    responses((status = 200, body = MachineRules), (status = 404, body = Problem))
)]
pub(super) async fn of_machine(
    State(admin): State<Admin>,
    Path(text): Path<String>,
) -> Result<Json<MachineRules>, Reject> {
    let records = &admin.app.records;
    let site = records.site();
    let (name, macs) = who(&site, &text)?;
    let mac = *macs.first().ok_or_else(|| Reject::not_found("machine", &text))?;
    let said = records.outcomes(&site, vec![mac]).await?;
    let Previewed { known, outcome, .. } =
        said.into_iter().next().ok_or_else(|| Reject::not_found("machine", &text))?;
    let filter = RuleUseFilter { rule: None, macs: Some(macs), limit: USES };
    let uses = records.store.read(move |tx| tx.rule_uses(&filter)).await?;
    // Of who was never surveyed rules say nothing.
    let outcome = if known.survey.is_some() { outcome } else { Outcome { effects: Vec::new(), ..outcome } };
    Ok(Json(MachineRules {
        who: name,
        rules: outcome.verdicts.iter().map(VerdictView::from).collect(),
        effects: outcome.effects.iter().map(EffectView::from).collect(),
        kept: outcome.kept.iter().map(KeptView::from).collect(),
        lacks_name: outcome.lacks_name,
        given: known.machine.map(|machine| machine.given.clone()).unwrap_or_default(),
        uses: uses.into_iter().map(RuleUseView::from).collect(),
    }))
}

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
pub(super) async fn proposals(State(admin): State<Admin>) -> Result<Json<Vec<ProposalView>>, Reject> {
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
                change.put_proposal(lastmile_core::model::rule::Proposal {
                    declined: Some(digest),
                    ..(*held).clone()
                })?;
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

/// Runs rules for these addresses, and arms what they say.
async fn run_all(app: &App, macs: Vec<Mac>, running: Running) -> Result<Vec<RuleRun>, Reject> {
    let mut rows = Vec::new();
    for some in macs.chunks(AT_ONCE) {
        let (some, records, running) = (some.to_vec(), app.records.clone(), running.clone());
        let run = move |change: &mut Change<'_>| {
            let mut all = Vec::new();
            for mac in some {
                let ran = records.run_rules(change, mac, &running)?;
                all.push((mac, name_of(change.site(), mac), ran));
            }
            Ok::<_, Reject>(all)
        };
        for (mac, who, mut ran) in app.records.change(run).await? {
            app.records.arm_by_rule(mac, &mut ran).await;
            rows.push(ran_view(who, &ran));
        }
    }
    // Shown as the list of proposals has them: each with the number that it would get among all of them.
    if !is_trying() && rows.iter().any(|row| !row.proposed.is_empty()) {
        let all = proposed(app, &app.records.site()).await?;
        for row in rows.iter_mut().filter(|row| !row.proposed.is_empty()) {
            if let Some(listed) = all.iter().find(|listed| listed.who == row.who) {
                row.proposed.clone_from(&listed.effects);
            }
        }
    }
    Ok(rows)
}

fn ran_view(who: String, ran: &Ran) -> RuleRun {
    RuleRun {
        who,
        effects: ran.effects.iter().map(EffectView::from).collect(),
        proposed: ran.left.iter().map(EffectView::from).collect(),
        refused: ran.refused.clone(),
    }
}

/// The first address of everyone who was surveyed: machines by name, then newcomers by address.
fn surveyed(site: &Site) -> Vec<Mac> {
    let machines = site.machines().filter(|machine| site.survey_of(machine).is_some());
    let machines = machines.filter_map(|machine| machine.macs.first().copied());
    let is_registered = |mac: Mac| site.machine_by_mac(mac).is_some();
    let mut newcomers: Vec<Mac> =
        site.surveys().filter(|survey| !survey.macs().any(is_registered)).map(|survey| survey.mac).collect();
    newcomers.sort_unstable();
    machines.chain(newcomers).collect()
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

/// The machine's name, or the newcomer's address.
pub(super) fn name_of(site: &Site, mac: Mac) -> String {
    site.machine_by_mac(mac).map_or_else(|| mac.to_string(), |machine| machine.name.clone())
}

fn summary(known: &Known) -> String {
    known.survey.as_ref().map(|survey| survey.summary()).unwrap_or_default()
}
