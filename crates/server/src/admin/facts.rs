//! What surveys measured.

use std::{collections::BTreeSet, sync::Arc};

use axum::extract::State;
use lastmile_api::{
    AgentView, FactsCompareQuery, FactsComparison, FactsView, LabelComparison, Problem, SurveyRow,
};
use lastmile_core::{
    model::{compare::spread, condition::Known, machine::Machine, survey::SurveyRecord},
    site::Site,
};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use super::{
    Admin,
    reject::{Json, Path, Query, Reject},
    traces::who,
};
use crate::{sync::lock, wire::Wire};

/// Whose facts are meant, and the latest survey.
fn latest<'a>(site: &'a Site, text: &str) -> Result<(String, Vec<Mac>, &'a Arc<SurveyRecord>), Reject> {
    let (name, macs) = who(site, text)?;
    let surveys = macs.iter().filter_map(|mac| site.survey_at(*mac));
    let latest = surveys.max_by_key(|survey| survey.at).ok_or_else(|| Reject::not_surveyed(&name))?;
    Ok((name, macs, latest))
}

fn view(wire: &Wire, name: String, macs: &[Mac], record: &SurveyRecord) -> FactsView {
    let agent = wire.agents.on(macs).filter(|agent| agent.boot == record.boot);
    FactsView {
        who: name,
        survey: SurveyRow::from(record),
        facts: record.survey.facts.clone(),
        found: record.survey.found.clone(),
        faults: record.survey.faults.clone(),
        agent: agent.map(|agent| AgentView {
            from: agent.from.to_string(),
            since: agent.since,
            doing: lock(&agent.doing).clone(),
        }),
    }
}

/// What the latest survey measured of a machine (by its name) or of a newcomer (by its MAC address).
#[utoipa::path(
    get, operation_id = "facts_read", path = "/facts/{who}", tag = "survey", params(("who" = String, Path)),
    responses((status = 200, body = FactsView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(text): Path<String>,
) -> Result<Json<FactsView>, Reject> {
    let site = admin.app.records.site();
    let (name, macs, record) = latest(&site, &text)?;
    Ok(Json(view(&admin.app.wire, name, &macs, record)))
}

/// Every survey of a machine or a newcomer, the latest first.
#[utoipa::path(
    get, operation_id = "facts_surveys", path = "/facts/{who}/surveys", tag = "survey", params(("who" = String, Path)),
    responses((status = 200, body = [SurveyRow]), (status = 404, body = Problem))
)]
pub(super) async fn surveys(
    State(admin): State<Admin>,
    Path(text): Path<String>,
) -> Result<Json<Vec<SurveyRow>>, Reject> {
    let site = admin.app.records.site();
    let (_, macs) = who(&site, &text)?;
    let machine = site.machine_called(&text).map(|machine| machine.id);
    let all = admin.app.records.store.read(move |tx| tx.surveys(machine, &macs)).await?;
    Ok(Json(all.iter().map(SurveyRow::from).collect()))
}

/// What one survey measured.
#[utoipa::path(
    get, operation_id = "facts_survey", path = "/facts/{who}/surveys/{boot}", tag = "survey",
    params(("who" = String, Path), ("boot" = String, Path)),
    responses((status = 200, body = FactsView), (status = 404, body = Problem))
)]
pub(super) async fn survey(
    State(admin): State<Admin>,
    Path((text, boot)): Path<(String, String)>,
) -> Result<Json<FactsView>, Reject> {
    let site = admin.app.records.site();
    let (name, macs) = who(&site, &text)?;
    let missing = || Reject::not_found("survey", &boot);
    let id: Uuid = boot.parse().map_err(|_| missing())?;
    let record = admin.app.records.store.read(move |tx| tx.survey(id)).await?.ok_or_else(missing)?;
    let is_its = site.machine_called(&text).is_some_and(|machine| record.machine == Some(machine.id));
    if !is_its && !record.macs().any(|mac| macs.contains(&mac)) {
        return Err(missing());
    }
    Ok(Json(view(&admin.app.wire, name, &macs, &record)))
}

/// How the hardware of two machines differs, by their latest surveys.
#[utoipa::path(
    get, operation_id = "facts_compare", path = "/facts/{who}/comparison", tag = "survey",
    params(("who" = String, Path), FactsCompareQuery),
    responses((status = 200, body = FactsComparison), (status = 404, body = Problem))
)]
pub(super) async fn comparison(
    State(admin): State<Admin>,
    Path(text): Path<String>,
    Query(FactsCompareQuery { with }): Query<FactsCompareQuery>,
) -> Result<Json<FactsComparison>, Reject> {
    let site = admin.app.records.site();
    let (left, _, one) = latest(&site, &text)?;
    let (right, _, other) = latest(&site, &with)?;
    let differences = other.survey.facts.differences_from(&one.survey.facts);
    Ok(Json(FactsComparison { left, right, differences }))
}

/// How alike the machines of a label are by their latest surveys: which are otherwise than most of them, and in what.
#[utoipa::path(
    get, operation_id = "labels_facts", path = "/labels/{name}/facts", tag = "survey", params(("name" = String, Path)),
    responses((status = 200, body = LabelComparison), (status = 404, body = Problem))
)]
pub(super) async fn of_label(
    State(admin): State<Admin>,
    Path(label): Path<String>,
) -> Result<Json<LabelComparison>, Reject> {
    let site = admin.app.records.site();
    let has_it = |machine: &&Arc<Machine>| machine.labels.contains(&label);
    let machines: Vec<&Arc<Machine>> = site.machines().filter(has_it).collect();
    if machines.is_empty() && site.label(&label).is_none() {
        return Err(Reject::not_found("label", &label));
    }
    let (mut measured, mut unsurveyed) = (Vec::new(), Vec::new());
    for machine in machines {
        match site.survey_of(machine) {
            Some(survey) => measured.push((machine.name.as_str(), &survey.survey.facts)),
            None => unsurveyed.push(machine.name.clone()),
        }
    }
    let surveyed = measured.len();
    let facts = spread(measured);
    let others = facts.iter().flat_map(|spread| spread.values.iter().skip(1)).flat_map(|one| &one.machines);
    let different: BTreeSet<String> = others.cloned().collect();
    Ok(Json(LabelComparison {
        surveyed,
        unsurveyed,
        different: different.into_iter().collect(),
        facts,
        label,
    }))
}

/// The machine's name, or the newcomer's address.
pub(super) fn name_of(site: &Site, mac: Mac) -> String {
    site.machine_by_mac(mac).map_or_else(|| mac.to_string(), |machine| machine.name.clone())
}

/// What was measured, in one line; empty if nothing was.
pub(super) fn summary(known: &Known) -> String {
    known.survey.as_ref().map(|survey| survey.summary()).unwrap_or_default()
}
