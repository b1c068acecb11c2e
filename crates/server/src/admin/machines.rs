use std::collections::BTreeMap;

use axum::{extract::State, http::StatusCode};
use jiff::Timestamp;
use lastmile_api::{
    Event, LoaderChoice, MachineDetail, MachineDraft, MachineList, MachineQuery, MachineRow, MachineSort,
    PlanView, Problem, Stage, TraceLine,
};
use lastmile_core::{
    answers::Scope,
    boot::{LineAction, Parameter, loader_path, plan},
    dhcp::{ClientKey, FurtherOption},
    machine::Machine,
    site::Site,
    trace::diagnose,
};

use super::{
    Admin,
    reject::{Json, Path, Query, Reject},
};
use crate::{boot::preview, state::App};

/// Rows on a page if nobody says how many, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;

/// Machines, filtered, ordered, and a page at a time.
#[utoipa::path(
    get, operation_id = "machines_list", path = "/machines", tag = "machines", params(MachineQuery),
    responses((status = 200, body = MachineList), (status = 422, body = Problem))
)]
pub(super) async fn list(
    State(admin): State<Admin>,
    Query(query): Query<MachineQuery>,
) -> Result<Json<MachineList>, Reject> {
    let site = admin.app.site();
    let mut stages: BTreeMap<String, usize> = BTreeMap::new();
    let mut rows = Vec::new();
    let wanted: Option<Vec<&str>> =
        query.stage.as_deref().map(|stages| stages.split(',').map(str::trim).collect());
    let labels = labels(query.label.as_deref());
    let text = query.text.as_deref().unwrap_or_default().to_lowercase();
    for machine in site.machines() {
        let row = admin.app.machine_row(&site, machine);
        *stages.entry(row.stage.as_str().into()).or_default() += 1;
        let at_stage = wanted.as_ref().is_none_or(|wanted| wanted.contains(&row.stage.as_str()));
        let labelled = labels.iter().all(|label| row.labels.iter().any(|own| own == label));
        if at_stage && labelled && holds(&row, &text) {
            rows.push(row);
        }
    }
    sort(&mut rows, query.sort.unwrap_or_default());
    if query.reverse.unwrap_or(false) {
        rows.reverse();
    }
    let total = rows.len();
    let limit = query.limit.unwrap_or(PAGE).min(LARGEST_PAGE) as usize;
    let machines = rows.into_iter().skip(query.offset.unwrap_or(0) as usize).take(limit).collect();
    Ok(Json(MachineList { machines, total, stages }))
}

/// Labels joined by commas.
pub(super) fn labels(joined: Option<&str>) -> Vec<&str> {
    let labels = joined.into_iter().flat_map(|labels| labels.split(','));
    labels.map(str::trim).filter(|label| !label.is_empty()).collect()
}

fn holds(row: &MachineRow, text: &str) -> bool {
    text.is_empty()
        || row.name.to_lowercase().contains(text)
        || row.macs.iter().any(|mac| mac.contains(text) || mac.replace(':', "-").contains(text))
        || row.address.is_some_and(|address| address.to_string().contains(text))
        || row.labels.iter().any(|label| label.contains(text))
        || row.target.as_ref().is_some_and(|image| image.contains(text))
        || row.installed.as_ref().is_some_and(|installed| installed.image.contains(text))
}

fn sort(rows: &mut [MachineRow], by: MachineSort) {
    // They come ordered by name, and every sort here keeps that order among equals.
    match by {
        // Of those at rest, first who became something else than was expected.
        MachineSort::Stage => rows.sort_by_key(|row| {
            let rests = matches!(row.stage, Stage::Idle | Stage::Installed);
            let differs = row.installed.as_ref().and_then(|installed| installed.differs).unwrap_or(0) > 0;
            (rests, rests && !differs, row.stage)
        }),
        MachineSort::Name => {}
        MachineSort::Seen => rows.sort_by_key(|row| std::cmp::Reverse(row.last_seen)),
        MachineSort::Image => rows.sort_by_cached_key(|row| {
            row.installed.as_ref().map(|installed| (installed.image.clone(), installed.revision))
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
) -> Result<(StatusCode, Json<MachineRow>), Reject> {
    let _alone = admin.app.admin_write.lock().await;
    Ok((StatusCode::CREATED, Json(put(&admin.app, &draft, None).await?)))
}

/// One machine: what the list shows, its boot plan, and its trace.
#[utoipa::path(
    get, operation_id = "machines_read", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    responses((status = 200, body = MachineDetail), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<MachineDetail>, Reject> {
    let app = &admin.app;
    let site = app.site();
    let machine = site.machine(&name).ok_or_else(|| Reject::not_found("machine", &name))?;
    let events = app.traces().of(&machine.macs);
    Ok(Json(MachineDetail {
        machine: app.machine_row(&site, machine),
        created: machine.created,
        plan: plan_view(app, &site, machine),
        options: FurtherOption::texts(&machine.options),
        facts: machine.facts.clone(),
        parameters: machine.parameters.clone(),
        menu: machine.menu.clone(),
        live_answers: machine.live_answers.clone(),
        diagnoses: diagnose(&events, Timestamp::now()),
        trace: events.iter().map(TraceLine::from).collect(),
    }))
}

/// Changes a machine: the whole of it is replaced. Its installs stay with it.
#[utoipa::path(
    put, operation_id = "machines_replace", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    request_body = MachineDraft,
    responses((status = 200, body = MachineRow), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn replace(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<MachineDraft>,
) -> Result<Json<MachineRow>, Reject> {
    let _alone = admin.app.admin_write.lock().await;
    let site = admin.app.site();
    let former = site.machine(&name).ok_or_else(|| Reject::not_found("machine", &name))?;
    if former.name != draft.name && site.open_install(former.id).is_some() {
        return Err(Reject::conflict(format!("{name} is being installed. Rename it when that has ended")));
    }
    let row = put(&admin.app, &draft, Some(former)).await?;
    if former.name != draft.name {
        let _ = admin.app.events.send(Event::Gone { name });
    }
    Ok(Json(row))
}

/// Removes a machine. Its installs stay on record.
#[utoipa::path(
    delete, operation_id = "machines_remove", path = "/machines/{name}", tag = "machines", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let machine = site.machine(&name).ok_or_else(|| Reject::not_found("machine", &name))?;
    if let Some(open) = site.open_install(machine.id) {
        return Err(Reject::conflict(format!(
            "install {} goes on for {name}. Wait for its end, or cancel it",
            open.number
        )));
    }
    let (id, left) = (machine.id, machine.clone());
    let settings = Scope::Machine(id);
    let own = settings.clone();
    app.store
        .write(move |tx| {
            tx.remove_machine(id)?;
            tx.note_left(&left, Timestamp::now())?;
            tx.remove_answers(&own)
        })
        .await?;
    app.change_site(|site| site.without_machine(machine).without_answers(&settings));
    let _ = app.events.send(Event::Gone { name });
    Ok(StatusCode::NO_CONTENT)
}

/// The caller holds the lock of those who change the site.
async fn put(app: &App, draft: &MachineDraft, former: Option<&Machine>) -> Result<MachineRow, Reject> {
    let machine = draft.check(&app.site(), former, Timestamp::now())?;
    let kept = machine.clone();
    app.store.write(move |tx| tx.put_machine(&kept)).await?;
    app.change_site(|site| site.with_machine(machine.clone()));
    app.tell_machine(&machine);
    Ok(app.machine_row(&app.site(), &machine))
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
    let subnet = app.subnet_of(site, machine);
    let plan = plan(site, mac, subnet.as_deref());
    let (screen, text) = preview(app, site, machine, mac);
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

impl App {
    /// The subnet on which a machine holds or held an address.
    pub(crate) fn subnet_of(
        &self,
        site: &Site,
        machine: &Machine,
    ) -> Option<std::sync::Arc<lastmile_core::net::Subnet>> {
        let book = self.book();
        let keys: Vec<ClientKey> = machine.macs.iter().map(|mac| ClientKey::Mac(*mac)).collect();
        let known = |subnet: &&std::sync::Arc<lastmile_core::net::Subnet>| {
            keys.iter().any(|key| book.of_client(subnet.id, key).is_some())
        };
        site.subnets().find(known).cloned()
    }
}
