//! The answers of hosts that run from memory: cloud-config, which cloud-init reads at each start (its reference: modules;
//! data source "NoCloud").

use lastmile_formats::quote;
use serde_json::{Map, Value, json};

use super::{
    AnswerFile, Parts, Target,
    autoinstall::{files, first_start, keyboard, merge},
    steps,
};
use crate::{
    base::Fault,
    decide::answers::{Resolution, Resolved, Source},
    model::install::ReportStage,
};

/// Writes what cloud-init reads below its address: `user-data`, `meta-data` and an empty `vendor-data`.
pub(super) fn write(
    resolution: &Resolution,
    target: &Target<'_>,
    parts: &Parts,
) -> Result<Vec<AnswerFile>, Fault> {
    let settings = &resolution.settings;
    let mut keys = first_start(settings, target);
    let mut put = |key: &str, value: Value| {
        keys.insert(key.into(), value);
    };
    put("locale", json!(settings.locale));
    put("keyboard", keyboard(settings));
    put("timezone", json!(settings.time_zone));
    put("ssh_pwauth", json!(true));
    put("preserve_hostname", json!(false));
    put("prefer_fqdn_over_hostname", json!(false));
    if !settings.software.packages().is_empty() {
        put("packages", json!(settings.software.packages()));
    }
    let apt = apt(settings);
    if !apt.is_empty() {
        put("apt", Value::Object(apt));
    }
    // Before anything else can go wrong, and whatever tools the image has.
    let report = steps::report_by_shell(&target.report_url(ReportStage::Started));
    let mut first = vec![json!(["bash", "-c", report])];
    first.extend(settings.software.repositories.iter().filter_map(|(name, repository)| {
        let (key, path) =
            (quote::shell(repository.key.as_ref()?), format!("/etc/apt/trusted.gpg.d/{name}.asc"));
        Some(json!(["sh", "-c", format!("curl -fsS -o {path} {key} || wget -q -O {path} {key}")]))
    }));
    put("bootcmd", json!(first));
    put("reporting", json!({ "lastmile": { "type": "webhook", "endpoint": target.log_url() } }));
    put("runcmd", json!([["bash", "-c", setup(settings, target)]]));
    merge(&mut keys, parts, "user_data")?;
    files(resolution, target, &Value::Object(keys))
}

/// What runs once the host is up: keys of root, last steps, first-boot scripts, and the report.
fn setup(settings: &Resolved, target: &Target<'_>) -> String {
    let mut script = String::from("set -e\n");
    steps::keys(&mut script, "root", &settings.root_keys);
    steps::last_steps(&mut script, settings);
    steps::first_boot_scripts(&mut script, settings, target);
    script
}

fn apt(settings: &Resolved) -> Map<String, Value> {
    let mut apt = Map::new();
    if let Some(proxy) = &settings.proxy {
        apt.insert("proxy".into(), json!(proxy));
    }
    if let Source::Mirror(url) = &settings.source {
        apt.insert("primary".into(), json!([{ "arches": ["default"], "uri": url }]));
    }
    let mut sources = Map::new();
    for (name, repository) in &settings.software.repositories {
        let suite = repository.suite.as_deref().unwrap_or_default();
        let components = repository.components.clone().unwrap_or_else(|| vec!["main".into()]).join(" ");
        let line = format!("deb {} {suite} {components}", repository.url);
        sources.insert(format!("{name}.list"), json!({ "source": line }));
    }
    if !sources.is_empty() {
        apt.insert("sources".into(), Value::Object(sources));
    }
    apt
}
