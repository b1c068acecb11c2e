use std::sync::Arc;

use axum::{extract::State, http::StatusCode};
use lastmile_api::{
    EntryParameters, LabelDraft, LabelView, LeftOutEntry, MenuDraft, MenuPreview, MenuView, PreviewRequest,
    Problem, RenameRequest, ScreenView, SiteSettings,
};
use lastmile_core::{
    base::{Fault, Id},
    decide::{
        boot::{LineAction, Screen, Viewer, render, screen_of_menu},
        rename::check_new_name,
    },
    model::{
        label::Label,
        loader::{HttpReach, Language, Reader},
        machine::Machine,
        menu::Menu,
    },
    report::drawing::draw,
    site::{Entity, Site},
};
use lastmile_formats::{architecture::Architecture, mac::Mac};
use lastmile_store::Change;

use super::{
    Admin,
    edition::{Base, Edited},
    named::{self, Named},
    reject::{Json, Path, Reject},
};
use crate::{app::App, boot::reader, jobs::cancel_commands, random::random};

impl Named for Menu {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.menu(name).ok_or_else(|| Reject::not_found("menu", name))
    }

    fn entity(&self) -> Entity {
        Entity::Menu(self.id)
    }
}

impl Named for Label {
    fn find<'a>(site: &'a Site, name: &str) -> Result<&'a Arc<Self>, Reject> {
        site.label(name).ok_or_else(|| Reject::not_found("label", name))
    }

    fn entity(&self) -> Entity {
        Entity::Label(self.name.clone())
    }
}

/// The MAC address of the example that a preview is of where no machine is named (RFC 7042, section 2.1.2).
const EXAMPLE: Mac = Mac::documentation(1);

/// All menus.
#[utoipa::path(get, operation_id = "menus_list", path = "/menus", tag = "menus", responses((status = 200, body = [MenuView])))]
pub(super) async fn list(State(admin): State<Admin>) -> Json<Vec<MenuView>> {
    let site = admin.app.records.site();
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
) -> Result<Edited<MenuView>, Reject> {
    named::read(&admin, &name, |site, menu: &Arc<Menu>| view(site, menu))
}

/// Saves a menu: a new one, or in the place of the one of that name.
#[utoipa::path(
    put, operation_id = "menus_save", path = "/menus/{name}", tag = "menus", params(("name" = String, Path)),
    request_body = MenuDraft, responses((status = 200, body = MenuView), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<MenuDraft>,
) -> Result<Edited<MenuView>, Reject> {
    let (wanted, called) = (draft.clone(), name.clone());
    admin
        .app
        .records
        .change_prepared(
            // Hashing a phrase takes some time.
            move |site| {
                let former = site.menu(&called).map(AsRef::as_ref);
                Ok(wanted.check(&called, site, former, random)?)
            },
            move |change, menu: Menu| {
                let site = change.site();
                base.check_new(site.menu(&name).is_some(), "menu", &name)?;
                if let Some(former) = site.menu(&name) {
                    base.check(site, &Entity::Menu(former.id), || MenuDraft::from(&**former), Some(&draft))?;
                }
                change.put_menu(menu.clone())?;
                let site = change.site();
                Ok(Edited::new(site, &Entity::Menu(menu.id), view(site, &menu)))
            },
        )
        .await
}

/// Adds a menu like another, with its phrases, which are never read back.
#[utoipa::path(
    post, operation_id = "menus_copy", path = "/menus/{name}/copy", tag = "menus", params(("name" = String, Path)),
    request_body = RenameRequest,
    responses((status = 201, body = MenuView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn copy(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    Json(request): Json<RenameRequest>,
) -> Result<Edited<MenuView>, Reject> {
    let copy = move |change: &mut Change<'_>| {
        check_new_name(&name, &request.to)?;
        let site = change.site();
        let menu = Menu { id: Id::generate(), name: request.to, ..(**Menu::find(site, &name)?).clone() };
        if site.menu(&menu.name).is_some() {
            return Err(Reject::conflict(format!("a menu named '{}' exists already", menu.name)));
        }
        change.put_menu(menu.clone())?;
        let site = change.site();
        Ok(Edited::new(site, &menu.entity(), view(site, &menu)))
    };
    Ok(admin.app.records.change(copy).await?.created())
}

/// Removes a menu, unless somebody is shown it.
#[utoipa::path(
    delete, operation_id = "menus_remove", path = "/menus/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, menu: Arc<Menu>| {
        let (shown_by, name) = (shown_by(change.site(), &menu.name), &menu.name);
        if !shown_by.is_empty() {
            return Err(Reject::conflict(format!(
                "{} shows menu {name}. Give it another first",
                shown_by.join(", ")
            )));
        }
        Ok(change.remove_menu(&menu)?)
    };
    named::remove(&admin, name, base, remove).await
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
    let site = app.records.site();
    let (menu, faults) = match request.draft {
        None => (Menu::find(&site, &name)?.clone(), Vec::new()),
        Some(draft) => {
            // While somebody types, a menu is wrong now and then: what is right of it is shown all the same.
            let shown = Menu::shown_while_wrong(&name, &draft, site.menu(&name).map(AsRef::as_ref));
            let faults = draft.check(&name, &site, site.menu(&name).map(AsRef::as_ref), || [0; 12]).err();
            (Arc::new(shown), faults.unwrap_or_default())
        }
    };
    let (machine, mac) = who(&site, request.machine.as_deref())?;
    let wanted = request.architecture.map(|text| text.parse::<Architecture>()).transpose();
    let wanted = wanted.map_err(|error| {
        let fix = "Write uefi-x64, uefi-arm64, bios or another of IANA's registry.".into();
        let fault = Fault { place: "architecture".into(), what: error.to_string(), fix };
        Reject::from(vec![fault]).of_question()
    })?;
    let known = app.wire.architecture_of(&site, mac);
    let architecture = wanted.or(known);
    let subnet = machine.and_then(|machine| app.wire.subnet_of(&site, &machine.macs, None));
    let service = app.wire.service_for(subnet.as_deref());
    let viewer = Viewer {
        site: &site,
        machine,
        mac,
        subnet: subnet.as_deref(),
        address: app.wire.address_of_macs(&site, &[mac]),
        architecture,
        service,
        agent_token: None,
    };
    let screen = screen_of_menu(&menu, &format!("preview of menu {name}"), &viewer);
    let reader = reader_for(app, &site, mac, wanted, request.language);
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
    architecture: Option<Architecture>,
    language: Option<Language>,
) -> Reader {
    let of_firmware = architecture.and_then(|architecture| site.loader_for(architecture, None, &[]));
    let reader = of_firmware.map_or_else(|| reader(&app.boot(), site, mac), |loader| loader.reader());
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
    if let Some(machine) = site.machine_called(text) {
        return Ok((Some(machine), machine.macs.first().copied().unwrap_or(EXAMPLE)));
    }
    let mac: Mac = text.parse().map_err(|_| Reject::not_found("machine", text))?;
    Ok((None, mac))
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
    let site = admin.app.records.site();
    let mut names: std::collections::BTreeMap<&str, usize> =
        site.labels().map(|label| (label.name.as_str(), 0)).collect();
    for label in site.machines().flat_map(|machine| &machine.labels) {
        *names.entry(label).or_default() += 1;
    }
    Json(
        names
            .into_iter()
            .map(|(name, count)| {
                let edition = site.edition(&Entity::Label(name.into()));
                LabelView::new(name, site.label(name).map(AsRef::as_ref), count, edition)
            })
            .collect(),
    )
}

/// What is said of one label, which may be nothing, and how many machines have it.
#[utoipa::path(
    get, operation_id = "labels_read", path = "/labels/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 200, body = LabelView), (status = 404, body = Problem))
)]
pub(super) async fn read_label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
) -> Result<Edited<LabelView>, Reject> {
    let site = admin.app.records.site();
    let label = site.label(&name).map(AsRef::as_ref);
    let view = label_view(&site, &name, label);
    if label.is_none() && view.machines == 0 {
        return Err(Reject::not_found("label", &name));
    }
    Ok(Edited::new(&site, &Entity::Label(name.clone()), view))
}

fn label_view(site: &Site, name: &str, label: Option<&Label>) -> LabelView {
    let has_it = |machine: &&Arc<Machine>| machine.labels.iter().any(|own| own == name);
    let edition = site.edition(&Entity::Label(name.into()));
    LabelView::new(name, label, site.machines().filter(has_it).count(), edition)
}

/// Says what machines of a label have in common.
#[utoipa::path(
    put, operation_id = "labels_save", path = "/labels/{name}", tag = "menus", params(("name" = String, Path)),
    request_body = LabelDraft, responses((status = 200, body = LabelView), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save_label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
    Json(draft): Json<LabelDraft>,
) -> Result<Edited<LabelView>, Reject> {
    let save = move |change: &mut Change<'_>| {
        let (site, entity) = (change.site(), Entity::Label(name.clone()));
        base.check_new(site.label(&name).is_some(), "label", &name)?;
        base.check(
            site,
            &entity,
            || site.label(&name).map(|label| LabelDraft::from(label.as_ref())),
            Some(&draft),
        )?;
        let label = draft.check(&name, site)?;
        change.put_label(label.clone())?;
        let site = change.site();
        Ok::<_, Reject>(Edited::new(site, &entity, label_view(site, &name, Some(&label))))
    };
    admin.app.records.change(save).await
}

/// Says nothing of a label any more. Machines keep it.
#[utoipa::path(
    delete, operation_id = "labels_remove", path = "/labels/{name}", tag = "menus", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem))
)]
pub(super) async fn remove_label(
    State(admin): State<Admin>,
    Path(name): Path<String>,
    base: Base,
) -> Result<StatusCode, Reject> {
    let remove = |change: &mut Change<'_>, label: Arc<Label>| Ok(change.remove_label(&label.name)?);
    named::remove(&admin, name, base, remove).await
}

/// What holds for the whole site.
#[utoipa::path(get, operation_id = "settings_read", path = "/settings", tag = "status", responses((status = 200, body = SiteSettings)))]
pub(super) async fn settings(State(admin): State<Admin>) -> Edited<SiteSettings> {
    let site = admin.app.records.site();
    Edited::new(&site, &Entity::Settings, site.settings().clone())
}

/// Changes what holds for the whole site.
#[utoipa::path(
    put, operation_id = "settings_save", path = "/settings", tag = "status", request_body = SiteSettings,
    responses((status = 200, body = SiteSettings), (status = 412, body = Problem), (status = 422, body = Problem))
)]
pub(super) async fn save_settings(
    State(admin): State<Admin>,
    base: Base,
    Json(settings): Json<SiteSettings>,
) -> Result<Edited<SiteSettings>, Reject> {
    let save = move |change: &mut Change<'_>| {
        let site = change.site();
        base.check(site, &Entity::Settings, || site.settings().clone(), Some(&settings))?;
        settings.check(site)?;
        change.put_settings(settings.clone())?;
        if !settings.allow_commands {
            cancel_commands(change)?;
        }
        Ok::<_, Reject>(Edited::new(change.site(), &Entity::Settings, settings))
    };
    admin.app.records.change(save).await
}
