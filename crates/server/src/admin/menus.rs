use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    EntryParameters, LabelDraft, LabelView, LeftOutEntry, MenuDraft, MenuPreview, MenuView, PreviewRequest,
    Problem, ScreenView, SiteSettings,
};
use lastmile_core::{
    boot::{HttpReach, Language, LineAction, Menu, Reader, Screen, Viewer, draw, render, screen_of_menu},
    machine::Machine,
    net::Mac,
    site::Site,
};

use super::{
    Admin,
    reject::{Json, Path, Reject},
};
use crate::{
    boot::{lease_of, reader},
    random::random,
    state::App,
};

/// The MAC address of the example that a preview is of where no machine is named (RFC 7042, section 2.1.2).
const EXAMPLE: Mac = Mac::documentation(1);

/// All menus.
#[utoipa::path(get, operation_id = "menus_list", path = "/menus", tag = "menus", responses((status = 200, body = [MenuView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<MenuView>> {
    let site = admin.app.site();
    Json(site.menus().map(|menu| view(&site, menu)).collect())
}

/// One menu. Phrases are never read back.
#[utoipa::path(
    get, operation_id = "menus_read", path = "/menus/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 200, body = MenuView), (status = 404, body = Problem))
)]
pub(super) async fn read(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Json<MenuView>, Reject> {
    let site = admin.app.site();
    Ok(Json(view(&site, site.menu(&name).ok_or_else(|| Reject::not_found("menu", &name))?)))
}

/// Saves a menu: a new one, or in the place of the one of that name.
#[utoipa::path(
    put, operation_id = "menus_save", path = "/menus/{name}", tag = "menus", params(("name" = String, Path)),
    request_body = MenuDraft, responses((status = 200, body = MenuView), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<MenuDraft>,
) -> Result<Json<MenuView>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let menu = check(draft, name, site.clone()).await?;
    let kept = menu.clone();
    app.store.write(move |tx| tx.put_menu(&kept)).await?;
    app.change_site(|site| site.with_menu(menu.clone()));
    Ok(Json(view(&app.site(), &menu)))
}

/// Hashing a phrase takes some time: away from those who answer machines.
async fn check(draft: MenuDraft, name: String, site: Arc<Site>) -> Result<Menu, Reject> {
    let checking = move || {
        let former = site.menu(&name).map(AsRef::as_ref);
        draft.check(&name, &site, former, random)
    };
    let checked = tokio::task::spawn_blocking(checking).await;
    let checked = checked.map_err(|error| {
        Reject::new(StatusCode::INTERNAL_SERVER_ERROR, "The menu cannot be checked", error.to_string())
    })?;
    Ok(checked?)
}

/// Removes a menu, unless somebody is shown it.
#[utoipa::path(
    delete, operation_id = "menus_remove", path = "/menus/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let menu = site.menu(&name).ok_or_else(|| Reject::not_found("menu", &name))?;
    let shown_by = shown_by(&site, &name);
    if !shown_by.is_empty() {
        return Err(Reject::conflict(format!(
            "{} shows menu {name}. Give it another first",
            shown_by.join(", ")
        )));
    }
    let id = menu.id;
    app.store.write(move |tx| tx.remove_menu(id)).await?;
    app.change_site(|site| site.without_menu(&name));
    Ok(StatusCode::NO_CONTENT)
}

/// What a machine would see of a menu, saved or not: the screens, and the text that its loader gets.
#[utoipa::path(
    post, operation_id = "menus_preview", path = "/menus/{name}/preview", tag = "menus", params(("name" = String, Path)),
    request_body = PreviewRequest,
    responses((status = 200, body = MenuPreview), (status = 404, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn preview(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<PreviewRequest>,
) -> Result<Json<MenuPreview>, Reject> {
    let app = &admin.app;
    let site = app.site();
    let (menu, faults) = match request.draft {
        None => (site.menu(&name).ok_or_else(|| Reject::not_found("menu", &name))?.clone(), Vec::new()),
        Some(draft) => {
            // While somebody types, a menu is wrong now and then: what is right of it is shown all the same.
            let shown = Menu::shown_while_wrong(&name, &draft, site.menu(&name).map(AsRef::as_ref));
            let faults = draft.check(&name, &site, site.menu(&name).map(AsRef::as_ref), || [0; 12]).err();
            (Arc::new(shown), faults.unwrap_or_default())
        }
    };
    let (machine, mac) = who(&site, request.machine.as_deref())?;
    let known = app.architecture_of(&site, mac);
    let architecture = request.architecture.or(known);
    let subnet = machine.and_then(|machine| app.subnet_of(&site, machine));
    let service = app.service_for(subnet.as_deref());
    let viewer = Viewer {
        site: &site,
        machine,
        mac,
        subnet: subnet.as_deref(),
        address: lease_of(app, &site, mac),
        architecture,
        service,
    };
    let screen = screen_of_menu(&menu, &format!("preview of menu {name}"), &viewer);
    let reader = reader_for(app, &site, mac, request.architecture, request.language);
    let parameters = screen.all_lines().into_iter().filter_map(|line| match &line.action {
        LineAction::Kernel(boot) if !boot.parameters.is_empty() => {
            Some(EntryParameters { key: line.key.clone(), parameters: boot.parameters.clone() })
        }
        _ => None,
    });
    Ok(Json(MenuPreview {
        machine: machine.map_or_else(|| mac.to_string(), |machine| machine.name.clone()),
        architecture: architecture.map(|architecture| architecture.to_string()),
        language: reader.language,
        http: reader.http,
        screens: screens(&screen, reader.language),
        text: render(&screen, service, reader),
        parameters: parameters.collect(),
        left_out: left_out(&screen),
        faults,
    }))
}

fn screens(screen: &Screen, language: Language) -> Vec<ScreenView> {
    let drawn = draw(screen, language).into_iter();
    drawn.map(|drawn| ScreenView { key: drawn.key, rows: drawn.rows, chosen: drawn.chosen }).collect()
}

fn left_out(screen: &Screen) -> Vec<LeftOutEntry> {
    let left = screen.left_out.iter();
    left.map(|left| LeftOutEntry { title: left.title.clone(), why: left.why.clone() }).collect()
}

/// The loader that a preview is written for: that of the firmware, in the language that is asked for.
fn reader_for(
    app: &App,
    site: &Site,
    mac: Mac,
    architecture: Option<lastmile_core::boot::Architecture>,
    language: Option<Language>,
) -> Reader {
    let of_firmware = architecture.and_then(|architecture| site.loader_for(architecture, None, &[]));
    let reader = of_firmware.map_or_else(|| reader(app, site, mac), |loader| loader.reader());
    match language {
        None => reader,
        Some(language) if language == reader.language => reader,
        // No loader of that language is at hand: as one that has all it may have.
        Some(language @ Language::Grub) => Reader { language, http: HttpReach::Port80, boxed: true },
        Some(language) => Reader { language, http: HttpReach::AnyPort, boxed: true },
    }
}

/// The machine that is meant by a name or a MAC address; the example if none is named.
fn who<'a>(site: &'a Site, text: Option<&str>) -> Result<(Option<&'a Machine>, Mac), Reject> {
    let Some(text) = text.filter(|text| !text.is_empty()) else { return Ok((None, EXAMPLE)) };
    if let Some(machine) = site.machine(text) {
        return Ok((Some(machine), machine.macs.first().copied().unwrap_or(EXAMPLE)));
    }
    let mac: Mac = text.parse().map_err(|_| Reject::not_found("machine", text))?;
    Ok((site.machine_by_mac(mac).map(AsRef::as_ref), mac))
}

fn view(site: &Site, menu: &Menu) -> MenuView {
    MenuView::new(menu, shown_by(site, &menu.name))
}

fn shown_by(site: &Site, name: &str) -> Vec<String> {
    let is_it = |menu: &Option<String>| menu.as_deref() == Some(name);
    let of_site = is_it(&site.settings().menu).then(|| "the site".to_owned());
    let subnets =
        site.subnets().filter(|subnet| is_it(&subnet.menu)).map(|subnet| format!("subnet {}", subnet.name));
    let labels =
        site.labels().filter(|label| is_it(&label.menu)).map(|label| format!("label {}", label.name));
    let machines = site
        .machines()
        .filter(|machine| is_it(&machine.menu))
        .map(|machine| format!("machine {}", machine.name));
    let menus = site
        .menus()
        .filter(|menu| menu.menus().any(|shown| shown == name))
        .map(|menu| format!("menu {}", menu.name));
    of_site.into_iter().chain(subnets).chain(labels).chain(machines).chain(menus).collect()
}

/// All labels: those of which anything is said, and those that machines have.
#[utoipa::path(get, operation_id = "labels_list", path = "/labels", tag = "menus", responses((status = 200, body = [LabelView])))]
pub(super) async fn list_labels(State(admin): State<Admin>) -> Json<Vec<LabelView>> {
    let site = admin.app.site();
    let mut names: std::collections::BTreeMap<&str, usize> =
        site.labels().map(|label| (label.name.as_str(), 0)).collect();
    for label in site.machines().flat_map(|machine| &machine.labels) {
        *names.entry(label).or_default() += 1;
    }
    Json(
        names
            .into_iter()
            .map(|(name, count)| LabelView::new(name, site.label(name).map(AsRef::as_ref), count))
            .collect(),
    )
}

/// Says what machines of a label have in common.
#[utoipa::path(
    put, operation_id = "labels_save", path = "/labels/{name}", tag = "menus", params(("name" = String, Path)),
    request_body = LabelDraft, responses((status = 200, body = LabelView), (status = 422, body = Problem))
)]
pub(super) async fn save_label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(draft): Json<LabelDraft>,
) -> Result<Json<LabelView>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    let site = app.site();
    let label = draft.check(&name, &site)?;
    let kept = label.clone();
    app.store.write(move |tx| tx.put_label(&kept)).await?;
    app.change_site(|site| site.with_label(label.clone()));
    let machines = site.machines().filter(|machine| machine.labels.contains(&name)).count();
    Ok(Json(LabelView::new(&name, Some(&label), machines)))
}

/// Says nothing of a label any more. Machines keep it.
#[utoipa::path(
    delete, operation_id = "labels_remove", path = "/labels/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem))
)]
pub(super) async fn remove_label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<StatusCode, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    app.site().label(&name).ok_or_else(|| Reject::not_found("label", &name))?;
    let gone = name.clone();
    app.store.write(move |tx| tx.remove_label(&gone)).await?;
    app.change_site(|site| site.without_label(&name));
    Ok(StatusCode::NO_CONTENT)
}

/// What holds for the whole site.
#[utoipa::path(get, operation_id = "settings_read", path = "/settings", tag = "status", responses((status = 200, body = SiteSettings)))]
pub(super) async fn settings(State(admin): State<Admin>) -> Json<SiteSettings> {
    Json(admin.app.site().settings().clone())
}

/// Changes what holds for the whole site.
#[utoipa::path(
    put, operation_id = "settings_save", path = "/settings", tag = "status", request_body = SiteSettings,
    responses((status = 200, body = SiteSettings), (status = 422, body = Problem))
)]
pub(super) async fn save_settings(
    State(admin): State<Admin>,
    Json(settings): Json<SiteSettings>,
) -> Result<Json<SiteSettings>, Reject> {
    let app = &admin.app;
    let _alone = app.admin_write.lock().await;
    settings.check(&app.site())?;
    let kept = settings.clone();
    app.store.write(move |tx| tx.put_settings(&kept)).await?;
    app.change_site(|site| site.with_settings(settings.clone()));
    app.verify_soon.notify_one();
    Ok(Json(settings))
}
