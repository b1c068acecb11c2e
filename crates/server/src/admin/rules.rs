//! Rules: entered, and tried before they are.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    EffectView, KeptView, MachineRules, Problem, RuleDraft, RuleTrial, RuleTrialRequest, RuleTrialRow,
    RuleUseView, RuleView, VerdictView,
};
use lastmile_core::{
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
    facts::{name_of, summary},
    named::{self, Named},
    proposals::{proposed, surveyed},
    reject::{Json, Path, Reject},
    traces::who,
};
use crate::{
    app::App,
    clock,
    rules::{counters, hour_before},
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
    let since = hour_before(clock::now());
    let read = move |tx: &mut Tx<'_>| {
        let recent: Result<Vec<i64>, StoreError> =
            names.iter().map(|name| tx.rule_uses_since(name, since)).collect();
        Ok::<_, StoreError>((tx.rule_totals()?, recent?))
    };
    let (totals, recent) = app.records.store.read(read).await?;
    let mut waiting: BTreeMap<String, usize> = BTreeMap::new();
    for proposal in proposed(app, site).await? {
        let its: BTreeSet<String> = proposal.effects.into_iter().map(|effect| effect.rule).collect();
        its.into_iter().for_each(|rule| *waiting.entry(rule).or_default() += 1);
    }
    let (app, site) = (app.clone(), site.clone());
    let work = move || {
        let everybody: Vec<Known> =
            surveyed(&site).into_iter().map(|mac| app.records.known_at(&site, mac)).collect();
        let view = |(rule, last_hour): (Arc<Rule>, i64)| RuleView {
            name: rule.name.clone(),
            rule: RuleDraft::of(&site, &rule),
            holds: everybody.iter().filter(|known| rule.condition.holds(known)).count(),
            waiting: waiting.get(&rule.name).copied().unwrap_or(0),
            uses: totals.get(&rule.name).map_or(0, |(count, _)| *count),
            last_used: totals.get(&rule.name).map(|(_, at)| *at),
            last_hour,
        };
        rules.into_iter().zip(recent).map(view).collect()
    };
    // Each is held against everybody: the wire does not wait for that.
    Ok(tokio::task::spawn_blocking(work).await?)
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
    let rules: Vec<_> = then.rules().cloned().collect();
    let counters = admin.app.records.store.read(move |tx| counters(tx, &rules)).await?;
    let app = admin.app.clone();
    let work = move || {
        let own = app.records.own_addresses();
        let (spent, subnet) = (BTreeSet::new(), |site: &Site, mac: Mac| app.records.boots_on(site, mac));
        let all = preview(&then, &surveyed(&then), counters, &spent, &own, subnet, clock::now());
        trial(&then, &request.name, request.limit.unwrap_or(ROWS).min(MOST_ROWS), all)
    };
    // Thousands of machines take a while, which the wire does not wait for.
    Ok(Json(tokio::task::spawn_blocking(work).await?))
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
    let known = records.known_at(&site, mac);
    let mac = known.survey.as_ref().map_or(mac, |survey| survey.mac);
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
