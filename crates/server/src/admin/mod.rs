//! The admin listener: the API, the event stream, the console.

mod answer_files;
mod answers;
mod bulk;
mod checks;
mod console;
mod content;
mod dry_run;
mod edition;
mod events;
mod exports;
mod facts;
mod guard;
mod history;
mod images;
mod installs;
mod jobs;
mod loaders;
mod locations;
mod machines;
mod menus;
mod named;
mod naming;
mod overview;
mod proposals;
mod reject;
mod rename;
mod rules;
mod shells;
mod status;
mod subnets;
mod survey;
mod traces;
mod uploads;
mod webhooks;

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use axum::{Router, extract::DefaultBodyLimit, middleware};
use tokio_util::sync::CancellationToken;
use utoipa::{
    OpenApi,
    openapi::{
        AllOf, Content, HeaderBuilder, Object, Ref, RefOr, ResponseBuilder, Schema, Type,
        path::{Operation, ParameterBuilder, ParameterIn},
    },
};
use utoipa_axum::{
    router::{OpenApiRouter, UtoipaMethodRouterExt},
    routes,
};

use crate::{app::App, start::Listening};

#[derive(OpenApi)]
#[openapi(
    info(title = "Last Mile", description = "Takes bare machines to working, recorded hosts."),
    components(schemas(
        lastmile_api::Event, lastmile_api::ReportFormat, lastmile_api::ScreenSize, lastmile_api::ShellWord
    )),
    tags(
        (name = "status", description = "How the service stands"),
        (name = "subnets", description = "Networks that machines boot on"),
        (name = "loaders", description = "Network boot programs"),
        (name = "content", description = "Files, by their digest"),
        (name = "images", description = "What is booted"),
        (name = "menus", description = "What people at machines see, and the labels that group machines"),
        (name = "answers", description = "Install settings"),
        (name = "machines", description = "Machines, their boot plan and trace"),
        (name = "traces", description = "What machines did on the wire, and what it means"),
        (name = "check", description = "What stands in the way of a boot"),
        (name = "installs", description = "The record"),
        (name = "history", description = "Reports over the record"),
        (name = "webhooks", description = "Signed webhooks that tell when installs end"),
        (name = "survey", description = "The hardware of machines, measured by a small system of the service's own"),
        (name = "jobs", description = "Work that is done on machines by the survey's system"),
        (name = "rules", description = "What follows for machines of what was measured, and where they are"),
        (name = "exports", description = "What other programs read of the machines"),
    )
)]
struct Document;

/// What every handler gets.
#[derive(Clone)]
pub(crate) struct Admin {
    pub(crate) app: App,
    pub(crate) listening: Arc<Listening>,
    pub(crate) stop: CancellationToken,
}

fn api() -> OpenApiRouter<Admin> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(status::read))
        .routes(routes!(overview::read))
        .routes(routes!(events::stream))
        .routes(routes!(subnets::list, subnets::create))
        .routes(routes!(subnets::read, subnets::replace, subnets::remove))
        .routes(routes!(subnets::leases))
        .routes(routes!(subnets::free))
        .routes(routes!(subnets::picture))
        .routes(routes!(subnets::advice))
        .routes(routes!(subnets::reservations, subnets::reserve))
        .routes(routes!(subnets::unreserve))
        .routes(routes!(subnets::propose))
        .routes(routes!(traces::newcomers))
        .routes(routes!(traces::read))
        .routes(routes!(traces::comparison))
        .routes(routes!(traces::capture))
        .routes(routes!(traces::follow))
        .routes(routes!(checks::run))
        .routes(routes!(loaders::list, loaders::create))
        .routes(routes!(loaders::packaged))
        .routes(routes!(loaders::add_packaged))
        .routes(routes!(loaders::find_in_packages))
        .routes(routes!(loaders::add_from_packages))
        .routes(routes!(loaders::read, loaders::replace, loaders::remove))
        .routes(routes!(content::find, content::upload))
        .routes(routes!(images::list, images::create))
        .routes(routes!(uploads::begin))
        .routes(routes!(uploads::read, uploads::append, uploads::remove))
        .routes(routes!(images::inspect))
        .routes(routes!(images::read, images::remove))
        .routes(routes!(images::set_current))
        .routes(routes!(images::set_title))
        .routes(routes!(rename::image))
        .routes(routes!(images::read_revision, images::remove_revision))
        .routes(routes!(images::retire))
        .routes(routes!(images::restore))
        .routes(routes!(images::verify))
        .routes(routes!(images::work))
        .routes(routes!(menus::list))
        .routes(routes!(menus::read, menus::save, menus::remove))
        .routes(routes!(menus::preview))
        .routes(routes!(rename::menu))
        .routes(routes!(menus::copy))
        .routes(routes!(menus::list_labels))
        .routes(routes!(menus::read_label, menus::save_label, menus::remove_label))
        .routes(routes!(rename::label))
        .routes(routes!(menus::settings, menus::save_settings))
        .routes(routes!(answers::list))
        .routes(routes!(answers::read, answers::save, answers::remove))
        .routes(routes!(answer_files::preview))
        .routes(routes!(rename::answers))
        .routes(routes!(answers::copy))
        .routes(routes!(answers::versions))
        .routes(routes!(answer_files::compare))
        .routes(routes!(answer_files::lint))
        .routes(routes!(installs::answer))
        .routes(routes!(installs::retry))
        .routes(routes!(machines::list, machines::create))
        .routes(routes!(machines::read, machines::replace, machines::remove))
        .routes(routes!(bulk::change))
        .routes(routes!(bulk::remove))
        .routes(routes!(bulk::import).layer(DefaultBodyLimit::max(bulk::MOST_IMPORT)))
        .routes(routes!(bulk::adopt))
        .routes(routes!(installs::list, installs::arm))
        .routes(routes!(installs::arm_several))
        .routes(routes!(installs::preview))
        .routes(routes!(installs::read))
        .routes(routes!(installs::cancel))
        .routes(routes!(installs::retry_several))
        .routes(routes!(installs::cancel_several))
        .routes(routes!(naming::preview))
        .routes(routes!(naming::apply))
        .routes(routes!(history::hosts))
        .routes(routes!(history::rates))
        .routes(routes!(webhooks::list))
        .routes(routes!(webhooks::read, webhooks::save, webhooks::remove))
        .routes(routes!(webhooks::trial))
        .routes(routes!(rename::webhook))
        .routes(routes!(webhooks::deliveries))
        .routes(routes!(webhooks::send))
        .routes(routes!(webhooks::abandon))
        .routes(routes!(exports::hosts))
        .routes(routes!(exports::zone))
        .routes(routes!(exports::inventory))
        .routes(routes!(exports::machines))
        .routes(routes!(jobs::list, jobs::arm))
        .routes(routes!(jobs::read))
        .routes(routes!(jobs::cancel))
        .routes(routes!(shells::attach))
        .routes(routes!(shells::recording))
        .routes(routes!(survey::build))
        .routes(routes!(facts::read))
        .routes(routes!(facts::surveys))
        .routes(routes!(facts::survey))
        .routes(routes!(facts::comparison))
        .routes(routes!(facts::of_label))
        .routes(routes!(rules::list))
        .routes(routes!(rules::read, rules::save, rules::remove))
        .routes(routes!(rename::rule))
        .routes(routes!(rules::uses))
        .routes(routes!(rules::attempt))
        .routes(routes!(proposals::run))
        .routes(routes!(rules::of_machine))
        .routes(routes!(proposals::list))
        .routes(routes!(proposals::accept))
        .routes(routes!(proposals::decline))
        .routes(routes!(locations::list))
        .routes(routes!(locations::import).layer(DefaultBodyLimit::max(bulk::MOST_IMPORT)))
        .routes(routes!(locations::remove))
        .routes(routes!(locations::list_racks))
}

/// The OpenAPI document as the routes make it; held against the reviewed one by a test.
#[must_use]
pub fn openapi() -> String {
    let mut document = OpenApiRouter::<Admin>::new().nest(lastmile_api::BASE, api()).into_openapi();
    // utoipa-axum replaces the information of an outer router by its own.
    document.info = Document::openapi().info;
    document.tags = Document::openapi().tags;
    name_problems(&mut document);
    name_editions(&mut document);
    dry_run::name(&mut document);
    join_forms(&mut document);
    open_parts(&mut document);
    document.to_pretty_json().unwrap_or_default()
}

/// Refusals go out as what they are (RFC 9457, section 3), which their schema alone does not say.
fn name_problems(document: &mut utoipa::openapi::OpenApi) {
    let is_problem = |content: &Content| matches!(&content.schema, Some(RefOr::Ref(schema)) if schema.ref_location.ends_with("/Problem"));
    for item in document.paths.paths.values_mut() {
        let operations = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete, &mut item.patch];
        for operation in operations.into_iter().flatten() {
            name_unread(operation);
            for response in operation.responses.responses.values_mut() {
                if let RefOr::T(response) = response
                    && let Some(content) = response.content.get("application/json").filter(|c| is_problem(c))
                {
                    let content = content.clone();
                    response.content.clear();
                    response.content.insert(lastmile_api::PROBLEM_JSON.into(), content);
                }
            }
        }
    }
}

/// What says which saved form is read, and which one a change is based on ([`edition`]): of everything that is refused when
/// somebody else has changed it.
fn name_editions(document: &mut utoipa::openapi::OpenApi) {
    let is_guarded = |operation: &Operation| operation.responses.responses.contains_key("412");
    let tag = || {
        let text = Schema::Object(Object::with_type(Type::String));
        HeaderBuilder::new().schema(text).description(Some("The saved form that this is")).build()
    };
    for item in document.paths.paths.values_mut() {
        let operations = [&mut item.get, &mut item.put, &mut item.delete];
        if !operations.iter().any(|one| one.as_ref().is_some_and(&is_guarded)) {
            continue;
        }
        for operation in operations.into_iter().flatten() {
            if let Some(RefOr::T(response)) = operation.responses.responses.get_mut("200") {
                response.headers.insert("ETag".into(), tag());
            }
            if is_guarded(operation) {
                let based_on = ParameterBuilder::new()
                    .name("If-Match")
                    .parameter_in(ParameterIn::Header)
                    .description(Some(
                        "The ETag of what the change is based on; left out, nothing is held against it",
                    ))
                    .schema(Some(Schema::Object(Object::with_type(Type::String))));
                operation.parameters.get_or_insert_default().push(based_on.build());
            }
        }
    }
}

/// What every call answers whose path, query or body cannot be read ([`reject`]).
fn name_unread(operation: &mut Operation) {
    let takes_json =
        operation.request_body.as_ref().is_some_and(|b| b.content.contains_key("application/json"));
    let mut unread = Vec::new();
    if takes_json || operation.parameters.as_ref().is_some_and(|all| !all.is_empty()) {
        unread.push(("400", "Path, query or body cannot be read"));
    }
    if takes_json {
        unread.push(("413", "The body is too large"));
        unread.push(("415", "The body is not said to be JSON"));
        unread.push(("422", "The input has faults"));
    }
    for (status, description) in unread {
        let problem = Content::new(Some(Ref::from_schema_name("Problem")));
        let response = ResponseBuilder::new().description(description).content("application/json", problem);
        let responses = &mut operation.responses.responses;
        responses.entry(status.into()).or_insert_with(|| response.build().into());
    }
}

/// What others are put together from must let their further members pass (JSON Schema, core, section 10.3.2.3): utoipa
/// closes it where unknown members are refused on reading.
fn open_parts(document: &mut utoipa::openapi::OpenApi) {
    let Some(components) = &mut document.components else { return };
    let mut parts = BTreeSet::new();
    for whole in components.schemas.values_mut().flat_map(wholes) {
        for part in &whole.items {
            if let RefOr::Ref(part) = part {
                parts.extend(part.ref_location.rsplit('/').next().map(str::to_owned));
            }
        }
    }
    // What is a body of its own as well stays closed there: others are put together from an open copy of it.
    for part in parts {
        let Some(RefOr::T(Schema::Object(object))) = components.schemas.get(&part) else { continue };
        if object.additional_properties.is_none() {
            continue;
        }
        let mut open = object.clone();
        open.additional_properties = None;
        let name = format!("{part}Fields");
        for whole in components.schemas.values_mut().flat_map(wholes) {
            let is_it = |one: &&mut RefOr<Schema>| matches!(one, RefOr::Ref(one) if one.ref_location.ends_with(&format!("/{part}")));
            for one in whole.items.iter_mut().filter(is_it) {
                *one = Ref::from_schema_name(&name).into();
            }
        }
        components.schemas.insert(name, Schema::Object(open).into());
    }
}

/// What a schema puts together from parts.
fn wholes(schema: &mut RefOr<Schema>) -> Option<&mut AllOf> {
    match schema {
        RefOr::T(Schema::AllOf(whole)) => Some(whole),
        _ => None,
    }
}

/// Of what has one of several forms, each that is put together from objects becomes one: as such it can be closed.
fn join_forms(document: &mut utoipa::openapi::OpenApi) {
    let Some(components) = &mut document.components else { return };
    let known = components.schemas.clone();
    for schema in components.schemas.values_mut() {
        let RefOr::T(Schema::OneOf(forms)) = schema else { continue };
        for form in &mut forms.items {
            if let Some(joined) = wholes(form).and_then(|whole| joined(whole, &known)) {
                *form = Schema::Object(joined).into();
            }
        }
    }
}

/// The members of all parts in one object, closed if one of them is; nothing if one is no object.
fn joined(whole: &AllOf, known: &BTreeMap<String, RefOr<Schema>>) -> Option<Object> {
    let mut joined = Object::with_type(Type::Object);
    joined.description.clone_from(&whole.description);
    for part in &whole.items {
        let part = match part {
            RefOr::Ref(part) => known.get(part.ref_location.rsplit('/').next()?)?,
            part => part,
        };
        let RefOr::T(Schema::Object(part)) = part else { return None };
        joined.properties.extend(part.properties.clone());
        joined.required.extend(part.required.clone());
        joined.additional_properties =
            joined.additional_properties.or_else(|| part.additional_properties.clone());
    }
    Some(joined)
}

/// The routes of the admin listener.
pub(crate) fn router(app: App, listening: Listening, stop: CancellationToken) -> Router {
    let admin = Admin { app, listening: Arc::new(listening), stop };
    let (api, document) = OpenApiRouter::new().nest(lastmile_api::BASE, api()).split_for_parts();
    let triable = dry_run::Triable::new(&document);
    let api = api.route_layer(middleware::from_fn(move |request, next| triable.clone().run(request, next)));
    api.fallback(console::serve).layer(middleware::from_fn(guard::own_host_only)).with_state(admin)
}
