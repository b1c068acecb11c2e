use std::{collections::BTreeMap, net::Ipv4Addr, sync::Arc};

use axum::{extract::State, http::StatusCode};
use jiff::Timestamp;
use lastmile_api::{
    LoaderChoice, MachineDetail, MachineDraft, MachineList, MachineRow, MachineSort, MachinesListQuery,
    PlanView, Problem, Stage, TraceLine,
};
use lastmile_core::{
    base::Fault,
    decide::{
        boot::{LineAction, loader_path, plan},
        rule::known_at,
    },
    model::{
        condition::{FactCondition, FactExpression, FactValue},
        install::Install,
        machine::Machine,
        option::FurtherOption,
        parameter::Parameter,
    },
    report::trace::diagnose,
    site::{Entity, Site},
};
use lastmile_formats::mac::Mac;
use lastmile_store::Change;

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Query, Reject},
};
use crate::{app::App, boot::preview, clock, jobs::cancel_of_removed};

impl Named for Machine {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.machine_called(name).ok_or_else(|| Reject::not_found("machine", name))
    }

    fn entity(&self) -> Entity {
        Entity::Machine(self.id)
    }
}

/// Beside the stages, those that are something else than was expected can be asked for, and are counted.
const DIFFERS: &str = "differs";
/// Columns beside the usual ones.
const MOST_COLUMNS: usize = 20;
/// Rows on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;

/// Machines, filtered, ordered, and a page at a time.
#[utoipa::path(
    get, operation_id = "machines_list", path = "/machines", tag = "machines", params(MachinesListQuery),
    responses((status = 200, body = MachineList), (status = 422, body = Problem))
)]
pub(super) async fn list(
    State(admin): State<Admin>,
    Query(query): Query<MachinesListQuery>,
) -> Result<Json<MachineList>, Reject> {
    let site = admin.app.records.site();
    let mut stages: BTreeMap<String, usize> = BTreeMap::new();
    let mut listed = Vec::new();
    let stages_of = |stages: &str| {
        stages.split(',').map(str::trim).filter(|stage| *stage != DIFFERS).map(str::parse).collect()
    };
    let wanted: Option<Result<Vec<Stage>, String>> = query.stage.as_deref().map(stages_of);
    let wants_differing =
        query.stage.iter().any(|stages| stages.split(',').any(|stage| stage.trim() == DIFFERS));
    let unknown = |what| Reject::new(StatusCode::UNPROCESSABLE_ENTITY, "No such stage", what);
    let wanted = wanted.transpose().map_err(unknown)?;
    let labels = labels(query.label.as_deref());
    let text = query.text.as_deref().unwrap_or_default().to_lowercase();
    let records = &admin.app.records;
    let condition = query.condition.as_deref().map(FactCondition::new).transpose();
    let condition = condition
        .map_err(|fault| Reject::from(vec![Fault { place: "where".into(), ..fault }]).of_question())?;
    let columns =
        query.columns.as_deref().map(|all| expressions("columns", all)).transpose()?.unwrap_or_default();
    let sort_by = query.sort_by.as_deref().map(|text| expression("sort_by", text)).transpose()?;
    let wire = &admin.app.wire;
    // Which subnet a machine boots on is found by its leases: of ten thousand, only where it is asked for.
    let all = [&query.condition, &query.columns, &query.sort_by];
    let wants_subnet = all.into_iter().flatten().any(|text| text.contains("subnet"));
    let known = |machine: &Machine| {
        let subnet = if wants_subnet { wire.subnet_of(&site, &machine.macs, None) } else { None };
        machine.macs.first().map(|mac| known_at(&site, *mac, subnet)).unwrap_or_default()
    };
    for machine in site.machines() {
        let one = Listed::new(&site, machine);
        *stages.entry(one.stage.as_str().into()).or_default() += 1;
        let differs = one.differs();
        *stages.entry(DIFFERS.into()).or_default() += usize::from(differs);
        let at_stage =
            wanted.as_ref().is_none_or(|wanted| wanted.contains(&one.stage)) || wants_differing && differs;
        let labelled = labels.iter().all(|label| machine.labels.iter().any(|own| own == label));
        let holds = || text.is_empty() || one.holds(&text, || records.address_of(&site, machine));
        let is_so = || condition.as_ref().is_none_or(|condition| condition.holds(&known(machine)));
        if at_stage && labelled && holds() && is_so() {
            listed.push(one);
        }
    }
    sort(&mut listed, query.sort.unwrap_or_default(), |machine| records.last_seen(&site, machine));
    let is_reverse = query.reverse.unwrap_or(false);
    match &sort_by {
        Some(by) => sort_by_value(&mut listed, is_reverse, |machine| by.value(&known(machine))),
        None if is_reverse => listed.reverse(),
        None => {}
    }
    let total = listed.len();
    let limit = query.limit.unwrap_or(PAGE).min(LARGEST_PAGE) as usize;
    let page = listed.into_iter().skip(query.offset.unwrap_or(0) as usize).take(limit);
    let row = |one: Listed<'_>| {
        let of_it = (!columns.is_empty()).then(|| known(one.machine));
        let value = |column: &FactExpression| Some(column.value(of_it.as_ref()?)?.to_string());
        let columns = columns.iter().map(value).collect();
        MachineRow { columns, ..records.machine_row(&site, one.machine) }
    };
    let machines = page.map(row).collect();
    Ok(Json(MachineList { machines, total, stages }))
}

/// What was asked for beside the usual columns, joined by semicolons.
fn expressions(place: &str, joined: &str) -> Result<Vec<FactExpression>, Reject> {
    let texts: Vec<&str> = joined.split(';').map(str::trim).filter(|text| !text.is_empty()).collect();
    if texts.len() > MOST_COLUMNS {
        let what = format!("{} columns are asked for, and a list has {MOST_COLUMNS} at most", texts.len());
        let fix = "Ask for fewer, or export the inventory with its facts.".into();
        return Err(Reject::from(vec![Fault { place: place.into(), what, fix }]).of_question());
    }
    texts.into_iter().map(|text| expression(place, text)).collect()
}

fn expression(place: &str, text: &str) -> Result<FactExpression, Reject> {
    let named = |fault: Fault| Reject::from(vec![Fault { place: place.into(), ..fault }]).of_question();
    FactExpression::new(text).map_err(named)
}

/// Orders by a value; those of which it is not known come last, whichever way round.
fn sort_by_value(listed: &mut [Listed<'_>], is_reverse: bool, value: impl Fn(&Machine) -> Option<FactValue>) {
    let mut keyed: Vec<(Option<FactValue>, Listed<'_>)> =
        listed.iter().map(|one| (value(one.machine), *one)).collect();
    keyed.sort_by(|(one, _), (other, _)| match (one, other) {
        (Some(one), Some(other)) if is_reverse => other.cmp(one),
        (Some(one), Some(other)) => one.cmp(other),
        (one, other) => other.is_some().cmp(&one.is_some()),
    });
    for (place, (_, one)) in listed.iter_mut().zip(keyed) {
        *place = one;
    }
}

/// What the list is filtered and ordered by: of ten thousand machines, a hundred are shown.
#[derive(Clone, Copy)]
struct Listed<'a> {
    machine: &'a Machine,
    stage: Stage,
    latest: Option<&'a Install>,
    installed: Option<&'a Install>,
}

impl<'a> Listed<'a> {
    fn new(site: &'a Site, machine: &'a Machine) -> Self {
        let latest = site.latest_install(machine.id).map(AsRef::as_ref);
        let installed = site.last_installed(machine.id).map(AsRef::as_ref);
        let stage = Stage::of(latest.map(|install| install.state), installed.is_some());
        Self { machine, stage, latest, installed }
    }

    /// Whether it is at rest, and something else than was expected.
    fn differs(&self) -> bool {
        let outcome = self.installed.and_then(|install| install.outcome.as_ref());
        matches!(self.stage, Stage::Idle | Stage::Installed)
            && outcome.is_some_and(|outcome| !outcome.differences().is_empty())
    }

    fn holds(&self, text: &str, address: impl Fn() -> Option<Ipv4Addr>) -> bool {
        let Self { machine, latest, installed, .. } = self;
        let of_mac = |mac: &Mac| {
            let mac = mac.to_string();
            mac.contains(text) || mac.replace(':', "-").contains(text)
        };
        machine.name.to_lowercase().contains(text)
            || machine.macs.iter().any(of_mac)
            || machine.labels.iter().any(|label| label.contains(text))
            || latest.is_some_and(|install| install.image.contains(text))
            || installed.is_some_and(|install| install.image.contains(text))
            || address().is_some_and(|address| address.to_string().contains(text))
    }
}

/// Labels joined by commas.
pub(super) fn labels(joined: Option<&str>) -> Vec<&str> {
    let labels = joined.into_iter().flat_map(|labels| labels.split(','));
    labels.map(str::trim).filter(|label| !label.is_empty()).collect()
}

fn sort(listed: &mut [Listed<'_>], by: MachineSort, seen: impl Fn(&Machine) -> Option<Timestamp>) {
    // They come ordered by name, and every sort here keeps that order among equals.
    match by {
        // Of those at rest, first who became something else than was expected.
        MachineSort::Stage => listed.sort_by_cached_key(|one| {
            let rests = matches!(one.stage, Stage::Idle | Stage::Installed);
            (rests, rests && !one.differs(), one.stage)
        }),
        MachineSort::Name => {}
        MachineSort::Seen => listed.sort_by_cached_key(|one| std::cmp::Reverse(seen(one.machine))),
        MachineSort::Image => listed.sort_by_cached_key(|one| {
            one.installed.map(|install| (install.image.as_str(), install.image_revision))
        }),
    }
}

/// Registers a machine.
#[utoipa::path(
    post, operation_id = "machines_create", path = "/machines", tag = "machines", request_body = MachineDraft,
    responses((status = 201, body = MachineRow), (status = 422, body = Problem))
)]
pub(super) async fn create(
    State(admin): State<Admin>,
    Json(draft): Json<MachineDraft>,
) -> Result<Edited<MachineRow>, Reject> {
    let app = admin.app.clone();
    let create = move |change: &mut Change<'_>| save(&app, change, &draft, None);
    Ok(admin.app.records.change(create).await?.created())
}

/// One machine: what the list shows, its boot plan, and its trace.
#[utoipa::path(
    get, operation_id = "machines_read", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    responses((status = 200, body = MachineDetail), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<MachineDetail>, Reject> {
    named::read(&admin, &name, |site, machine: &Arc<Machine>| detail(&admin.app, site, machine))
}

fn detail(app: &App, site: &Site, machine: &Machine) -> MachineDetail {
    let events = app.wire.traces().of(&machine.macs);
    MachineDetail {
        machine: app.records.machine_row(site, machine),
        created: machine.created,
        reserved: site.reserved_for_macs(&machine.macs).collect(),
        plan: plan_view(app, site, machine),
        options: FurtherOption::texts(&machine.options),
        details: machine.details.clone(),
        parameters: machine.parameters.clone(),
        without_parameters: machine.without_parameters.clone(),
        menu: machine.menu.clone(),
        live_answers: machine.live_answers.clone(),
        diagnoses: diagnose(&events, clock::now()),
        trace: events.iter().map(|event| TraceLine::from(&**event)).collect(),
    }
}

/// Changes a machine: the whole of it is replaced. Its installs stay with it.
#[utoipa::path(
    put, operation_id = "machines_replace", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    request_body = MachineDraft,
    responses((status = 200, body = MachineRow), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn replace(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<MachineDraft>,
) -> Result<Edited<MachineRow>, Reject> {
    let app = admin.app.clone();
    let replace = move |change: &mut Change<'_>, former: Arc<Machine>, draft: MachineDraft| {
        if former.name != draft.name {
            refuse_while_installing(change.site(), &former)?;
        }
        save(&app, change, &draft, Some(&former))
    };
    named::change(&admin, name, base, draft, MachineDraft::of, replace).await
}

/// Removes a machine. Its installs stay on record.
#[utoipa::path(
    delete, operation_id = "machines_remove", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, machine: Arc<Machine>| {
        refuse_while_installing(change.site(), &machine)?;
        cancel_of_removed(change, &machine)?;
        Ok(change.remove_machine(&machine, clock::now())?)
    };
    named::remove(&admin, name, base, remove).await
}

/// That no install of the machine is in progress: it would be renamed or removed under its hands.
pub(super) fn refuse_while_installing(site: &Site, machine: &Machine) -> Result<(), Reject> {
    match site.open_install(machine.id) {
        Some(open) => Err(Reject::conflict(format!(
            "install {} of {} is in progress. Wait for its end, or cancel it",
            open.number, machine.name
        ))),
        None => Ok(()),
    }
}

fn save(
    app: &App,
    change: &mut Change<'_>,
    draft: &MachineDraft,
    former: Option<&Machine>,
) -> Result<Edited<MachineRow>, Reject> {
    let machine = draft.check(change.site(), former, clock::now())?;
    change.put_machine(machine.clone())?;
    let site = change.site();
    Ok(Edited::new(site, &Entity::Machine(machine.id), app.records.machine_row(site, &machine)))
}

/// What the machine gets if it boots now. The token is left out of it.
fn plan_view(app: &App, site: &Site, machine: &Machine) -> PlanView {
    let Some(mac) = machine.macs.first().copied() else {
        return PlanView {
            gets: String::new(),
            why: String::new(),
            parameters: vec![],
            loaders: vec![],
            menu: None,
        };
    };
    let subnet = app.wire.subnet_of(site, &machine.macs, None);
    let plan = plan(site, mac, subnet.as_deref());
    let (screen, text) = preview(&app.boot(), site, machine, mac);
    let token = site.open_install(machine.id).map(|open| open.token.reveal().to_owned());
    let hide = |text: &str| match &token {
        Some(token) => text.replace(token, "(token)"),
        None => text.to_owned(),
    };
    let shown = |parameter: &Parameter| Parameter {
        word: hide(&parameter.word),
        replaces: parameter.replaces.iter().map(|word| hide(word)).collect(),
        ..parameter.clone()
    };
    let parameters = match screen.default_line().map(|line| &line.action) {
        Some(LineAction::Kernel(boot)) => boot.parameters.iter().map(shown).collect(),
        _ => vec![],
    };
    let loaders = site.loaders().filter(|_| plan.boots()).map(|loader| LoaderChoice {
        architecture: loader.architecture.to_string(),
        class: loader.class.clone(),
        user_class: loader.user_class.clone(),
        file: loader_path(mac, &loader.name, &loader.boot_file),
    });
    PlanView {
        gets: plan.summary(),
        why: plan.why.to_string(),
        parameters,
        loaders: loaders.collect(),
        menu: plan.boots().then(|| hide(&text)),
    }
}
