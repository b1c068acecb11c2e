//! docs/coverage.md: for each call of the API the command and the page of the console that make it.

use std::{collections::BTreeMap, path::Path};

use serde_json::Value;

/// Each call by its operation, the command that makes it, and the console's page on which it is made.
const COVERAGE: [(&str, &str, &str); 139] = [
    ("answers_lint", "answers lint", "/answers"),
    ("answers_list", "answers list", "/answers"),
    ("answers_read", "answers show", "/answers/:name"),
    ("answers_save", "answers add", "/answers/:name"),
    ("answers_remove", "answers remove", "/answers/:name"),
    ("answers_compare", "answers compare", "/answers/:name"),
    ("answers_copy", "answers copy", "/answers/:name"),
    ("answers_preview", "answers preview", "/answers/:name"),
    ("answers_rename", "answers rename", "/answers/:name"),
    ("answers_versions", "answers versions", "/answers/:name"),
    ("check_run", "check", "/check"),
    ("content_find", "image add", "/import"),
    ("content_upload", "image add", "/import"),
    ("deliveries_list", "webhook deliveries", "/webhooks"),
    ("deliveries_abandon", "webhook abandon", "/webhooks"),
    ("deliveries_send", "webhook send", "/webhooks"),
    ("events_stream", "install wait", "/machines"),
    ("exports_hosts", "export hosts", "/exports"),
    ("exports_inventory", "export inventory", "/exports"),
    ("exports_machines", "export machines", "/machines"),
    ("exports_zone", "export zone", "/exports"),
    ("facts_compare", "machine facts", "/machines/:name"),
    ("facts_read", "machine facts", "/machines/:name"),
    ("facts_survey", "machine facts", "/machines/:name"),
    ("facts_surveys", "machine surveys", "/machines/:name"),
    ("facts_rules", "machine rules", "/machines/:name"),
    ("locations_import", "location import", "/racks"),
    ("locations_list", "location list", "/racks"),
    ("locations_remove", "location remove", "/racks"),
    ("proposals_accept", "proposal accept", "/rules"),
    ("proposals_decline", "proposal decline", "/rules"),
    ("proposals_list", "proposal list", "/rules"),
    ("racks_list", "rack list", "/racks"),
    ("rules_list", "rule list", "/rules"),
    ("rules_read", "rule show", "/rules/:name"),
    ("rules_remove", "rule remove", "/rules/:name"),
    ("rules_rename", "rule rename", "/rules/:name"),
    ("rules_run", "rule run", "/rules"),
    ("rules_save", "rule add", "/rules/:name"),
    ("rules_try", "rule try", "/rules/:name"),
    ("rules_uses", "rule uses", "/rules/:name"),
    ("labels_facts", "label compare", "/labels/:name"),
    ("history_hosts", "history hosts", "/history"),
    ("history_rates", "history rates", "/history"),
    ("images_list", "image list", "/images"),
    ("images_create", "image add", "/import"),
    ("images_inspect", "image inspect", "/import"),
    ("images_read", "image show", "/images/:name"),
    ("images_remove", "image remove", "/images/:name"),
    ("images_set_current", "image set-current", "/images/:name"),
    ("images_rename", "image rename", "/images/:name"),
    ("revisions_read", "image show", "/images/:name"),
    ("revisions_remove", "image remove", "/images/:name"),
    ("revisions_restore", "image restore", "/images/:name"),
    ("revisions_retire", "image retire", "/images/:name"),
    ("revisions_verify", "image verify", "/images/:name"),
    ("images_set_title", "image change", "/images/:name"),
    ("jobs_arm", "job arm", "/jobs"),
    ("jobs_cancel", "job cancel", "/jobs/:number"),
    ("jobs_list", "job list", "/jobs"),
    ("jobs_read", "job show", "/jobs/:number"),
    ("jobs_recording", "job recording", "/jobs/:number"),
    ("jobs_shell", "machine shell", "/jobs/:number"),
    ("installs_list", "install list", "/installs"),
    ("installs_arm", "install arm", "/arm"),
    ("installs_cancel_several", "install cancel", "/installs"),
    ("installs_preview", "install arm", "/arm"),
    ("installs_retry_several", "install retry", "/installs"),
    ("installs_arm_several", "install arm", "/arm"),
    ("installs_read", "install show", "/installs/:number"),
    ("installs_answer", "install answer", "/installs/:number"),
    ("installs_cancel", "install cancel", "/installs/:number"),
    ("installs_retry", "install retry", "/installs/:number"),
    ("survey_build", "survey build", "/import"),
    ("subnets_suggest", "subnet suggest", "/new-subnet"),
    ("labels_list", "label list", "/labels"),
    ("labels_read", "label show", "/labels/:name"),
    ("labels_save", "label add", "/labels/:name"),
    ("labels_remove", "label remove", "/labels/:name"),
    ("labels_rename", "label rename", "/labels/:name"),
    ("loaders_list", "loader list", "/loaders"),
    ("loaders_create", "loader add", "/loaders"),
    ("loaders_find", "loader find", "/loaders"),
    ("loaders_add_packaged", "loader add", "/loaders"),
    ("loaders_read", "loader show", "/loaders"),
    ("loaders_replace", "loader change", "/loaders"),
    ("loaders_remove", "loader remove", "/loaders"),
    ("machines_list", "machine list", "/machines"),
    ("machines_create", "machine add", "/new-machine"),
    ("machines_adopt", "machine adopt", "/newcomers"),
    ("machines_change", "machine change", "/machines"),
    ("machines_import", "machine import", "/import-machines"),
    ("machines_remove_several", "machine remove", "/machines"),
    ("machines_read", "machine show", "/machines/:name"),
    ("machines_replace", "machine edit", "/machines/:name"),
    ("machines_remove", "machine remove", "/machines"),
    ("menus_list", "menu list", "/menus"),
    ("menus_read", "menu show", "/menus/:name"),
    ("menus_save", "menu add", "/menus/:name"),
    ("menus_remove", "menu remove", "/menus/:name"),
    ("menus_copy", "menu copy", "/menus/:name"),
    ("menus_preview", "menu preview", "/menus/:name"),
    ("menus_rename", "menu rename", "/menus/:name"),
    ("naming_apply", "machine name", "/naming"),
    ("naming_preview", "machine name", "/naming"),
    ("traces_newcomers", "machine newcomers", "/newcomers"),
    ("overview_read", "overview", "/"),
    ("loaders_find_in_packages", "loader find", "/loaders"),
    ("loaders_add_from_packages", "loader add", "/loaders"),
    ("settings_read", "settings show", "/settings"),
    ("settings_save", "settings change", "/settings"),
    ("status_read", "status", "/"),
    ("subnets_list", "subnet list", "/subnets"),
    ("subnets_create", "subnet add", "/new-subnet"),
    ("subnets_read", "subnet show", "/subnets/:name"),
    ("subnets_replace", "subnet change", "/subnets/:name/edit"),
    ("subnets_remove", "subnet remove", "/subnets/:name"),
    ("subnets_advice", "subnet advice", "/subnets/:name"),
    ("subnets_leases", "subnet leases", "/subnets/:name"),
    ("subnets_free", "subnet free", "/subnets/:name"),
    ("subnets_picture", "subnet picture", "/subnets/:name"),
    ("subnets_reservations", "subnet reservations", "/subnets/:name"),
    ("subnets_reserve", "subnet reserve", "/subnets/:name"),
    ("subnets_unreserve", "subnet unreserve", "/subnets/:name"),
    ("traces_read", "machine trace", "/traces/:who"),
    ("traces_capture", "machine trace", "/traces/:who"),
    ("traces_compare", "machine trace", "/traces/:who"),
    ("traces_follow", "machine trace", "/traces/:who"),
    ("uploads_begin", "image add", "/import"),
    ("uploads_read", "image add", "/import"),
    ("uploads_remove", "image add", "/import"),
    ("uploads_append", "image add", "/import"),
    ("webhooks_list", "webhook list", "/webhooks"),
    ("webhooks_read", "webhook show", "/webhooks"),
    ("webhooks_save", "webhook add", "/webhooks"),
    ("webhooks_remove", "webhook remove", "/webhooks"),
    ("webhooks_rename", "webhook rename", "/webhooks"),
    ("webhooks_try", "webhook try", "/webhooks"),
    ("work_list", "image add", "/images"),
];

/// Calls that the console makes by another one that does the same.
const BY_ANOTHER: [(&str, &str); 4] = [
    ("installs_arm", "installs_arm_several"),
    ("machines_remove", "machines_remove_several"),
    ("content_upload", "uploads_begin"),
    ("uploads_remove", "uploads_begin"),
];

/// Every method and path of the API's document, by operation.
fn calls() -> BTreeMap<String, (String, String)> {
    let document: Value = serde_json::from_str(lastmile_api::OPENAPI).unwrap();
    let paths = document["paths"].as_object().unwrap();
    let of_path = paths.iter().flat_map(|(path, calls)| {
        calls.as_object().unwrap().iter().map(move |(method, call)| {
            (call["operationId"].as_str().unwrap().to_owned(), (method.to_uppercase(), path.clone()))
        })
    });
    of_path.collect()
}

/// The text of every file of the console.
fn console() -> String {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/src");
    let files = walkdir::WalkDir::new(root).into_iter().map(|entry| entry.unwrap().into_path());
    let own = files.filter(|path| {
        let name = path.to_string_lossy();
        (name.ends_with(".ts") || name.ends_with(".tsx")) && !name.contains(".gen.")
    });
    own.map(|path| std::fs::read_to_string(path).unwrap() + "\n").collect()
}

#[test]
fn every_call_has_a_command_and_a_place_in_the_console() {
    let calls = calls();
    let commands = include_str!("../../../../docs/commands.md");
    let console = console();
    let compact: String = console.split_whitespace().collect();
    let makes = |operation: &str| {
        let (method, path) = &calls[operation];
        // The generated client names the path whole; uploads and streams are made by the browser's own means.
        compact.contains(&format!("api.{method}(\"{path}\""))
            || (path.contains("/uploads") && console.contains("/api/v1/uploads"))
    };
    let mut wrong = Vec::new();
    for (operation, command, page) in COVERAGE {
        if !calls.contains_key(operation) {
            wrong.push(format!("{operation} is no call of the API"));
            continue;
        }
        if !commands.contains(&format!("\n## `lastmile {command}`\n")) {
            wrong.push(format!("{operation}: there is no command `{command}`"));
        }
        if !console.contains(&format!("path=\"{page}\"")) {
            wrong.push(format!("{operation}: the console has no page {page}"));
        }
        let made_by =
            BY_ANOTHER.iter().find(|(one, _)| *one == operation).map_or(operation, |(_, other)| other);
        if calls[operation].0 != "GET" && !makes(made_by) {
            wrong.push(format!("{operation} changes something, and nothing in the console calls it"));
        }
    }
    for operation in calls.keys().filter(|known| !COVERAGE.iter().any(|(one, ..)| one == known)) {
        wrong.push(format!("{operation} is not in the table"));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));

    let mut text = String::from(
        "# Coverage\n\nFor each call of the API, the command and the page of the console that make it. Written by \
         `make reference`; a test holds it to the API's document, the commands and the console.\n\n\
         | Call | Command | Page |\n|---|---|---|\n",
    );
    for (operation, (method, path)) in &calls {
        let (_, command, page) = COVERAGE.iter().find(|(one, ..)| one == operation).unwrap();
        text.push_str(&format!("| `{method} {path}` | `lastmile {command}` | `{page}` |\n"));
    }
    let changing = calls.values().filter(|(method, _)| method != "GET").count();
    text.push_str(&format!(
        "\n{} calls, {changing} of which change something or make something out.\n",
        calls.len()
    ));
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/coverage.md");
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        std::fs::write(&file, &text).unwrap();
    }
    assert!(
        std::fs::read_to_string(&file).unwrap_or_default() == text,
        "docs/coverage.md is old: run `make reference`"
    );
}

/// Commands whose calls only make something out, or send what keeps no record; and `edit`, which shows what it changed.
const WITHOUT_A_DRY_RUN: [&str; 9] = [
    "answers preview",
    "check",
    "image inspect",
    "image verify",
    "loader find",
    "machine edit",
    "menu preview",
    "rule try",
    "webhook try",
];

/// Calls that cannot be tried, of commands that can: those ask another call first, and do not come to these.
const NOT_REACHED: [&str; 5] =
    ["content_upload", "images_create", "uploads_append", "uploads_begin", "uploads_remove"];

#[test]
fn every_command_that_changes_something_can_be_tried() {
    let commands = include_str!("../../../../docs/commands.md");
    let section = |command: &str| {
        let rest = commands.split(&format!("\n## `lastmile {command}`\n")).nth(1).unwrap();
        rest.split("\n## ").next().unwrap()
    };
    let document: Value = serde_json::from_str(lastmile_api::OPENAPI).unwrap();
    let takes_header = |method: &str, path: &str| {
        let parameters = document["paths"][path][method.to_lowercase()]["parameters"].as_array();
        parameters.is_some_and(|all| all.iter().any(|one| one["name"] == lastmile_api::DRY_RUN))
    };
    let calls = calls();
    for (operation, command, _) in COVERAGE {
        let is_tried = section(command).contains("--dry-run");
        let must = calls[operation].0 != "GET" && !WITHOUT_A_DRY_RUN.contains(&command);
        assert!(is_tried || !must, "`lastmile {command}` has no --dry-run");
        let (method, path) = &calls[operation];
        let answers = takes_header(method, path) || NOT_REACHED.contains(&operation);
        let only_asks = operation.ends_with("_preview") || operation.contains("_find");
        assert!(!must || answers || only_asks, "{operation}, of `lastmile {command}`, cannot be tried");
    }
}
