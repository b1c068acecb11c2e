//! The answer files of installers that read autoinstall: cloud-config with a part for the installer (its reference, and
//! curtin's and netplan's for storage and network).

use lastmile_formats::quote;
use serde_json::{Map, Value, json};

use super::{AnswerFile, Parts, Target, choose::LEAST_MIB, heading, steps};
use crate::{
    base::Fault,
    decide::answers::{Account, Resolution, Resolved, Source},
    model::{
        answers::{AtEnd, Firewall, Keyboard, Sudo},
        install::ReportStage,
    },
};

mod network;
mod storage;

/// Writes what the installer reads below its address: `user-data`, `meta-data` and an empty `vendor-data`.
pub(super) fn write(
    resolution: &Resolution,
    target: &Target<'_>,
    parts: &Parts,
) -> Result<Vec<AnswerFile>, Fault> {
    let settings = &resolution.settings;
    let mut autoinstall = installer(settings, target);
    merge(&mut autoinstall, parts, "autoinstall")?;
    let mut user_data = first_start(settings, target);
    merge(&mut user_data, parts, "user_data")?;
    autoinstall.insert("user-data".into(), Value::Object(user_data));
    files(resolution, target, &json!({ "autoinstall": autoinstall }))
}

/// The three files that the data source reads, with `whole` as the first.
pub(super) fn files(
    resolution: &Resolution,
    target: &Target<'_>,
    whole: &Value,
) -> Result<Vec<AnswerFile>, Fault> {
    let settings = &resolution.settings;
    let mut text = String::from("#cloud-config\n");
    for line in heading(resolution, target) {
        text.push_str(&format!("# {line}\n"));
    }
    text.push_str(&quote::yaml_document(whole).map_err(|error| Fault {
        place: String::new(),
        what: format!("the settings cannot be written as YAML: {error}"),
        fix: "Look for values that are neither text nor numbers.".into(),
    })?);
    let instance =
        target.install.map_or_else(|| "preview".into(), |install| format!("install-{}", install.number));
    let meta = format!("instance-id: {instance}\nlocal-hostname: {}\n", quote::yaml(&settings.host_name));
    Ok(vec![
        AnswerFile { name: "user-data", text },
        AnswerFile { name: "meta-data", text: meta },
        AnswerFile { name: "vendor-data", text: String::new() },
    ])
}

/// The installers' reader takes YAML 1.1: `yes` is true, and `0644` octal.
fn as_installers_read() -> serde_saphyr::Options {
    serde_saphyr::options! { legacy_octal_numbers: true, with_snippet: false }
}

/// Puts a fragment's keys into a mapping. Lists are joined, other values replaced.
pub(super) fn merge(into: &mut Map<String, Value>, parts: &Parts, name: &str) -> Result<(), Fault> {
    let text = parts.at(name);
    if text.is_empty() {
        return Ok(());
    }
    let read: Result<Value, _> = serde_saphyr::from_str_with_options(text, as_installers_read());
    let fix = "Write YAML: keys with their values, without a head of its own.";
    match read {
        Ok(Value::Object(keys)) => {
            for (key, value) in keys {
                match (into.get_mut(&key), value) {
                    (Some(Value::Array(list)), Value::Array(more)) => list.extend(more),
                    (_, value) => {
                        into.insert(key, value);
                    }
                }
            }
            Ok(())
        }
        Ok(_) => Err(parts.fault(name, 1, 1, "it holds no keys with values", fix)),
        Err(error) => {
            let at = error.location().map_or((1, 1), |at| (at.line(), at.column()));
            let [line, column] = [at.0, at.1].map(|number| usize::try_from(number).unwrap_or(1));
            Err(parts.fault(name, line, column, &error.to_string(), fix))
        }
    }
}

fn installer(settings: &Resolved, target: &Target<'_>) -> Map<String, Value> {
    let mut keys = Map::new();
    let mut put = |key: &str, value: Value| {
        keys.insert(key.into(), value);
    };
    put("version", json!(1));
    let mut early = vec![steps::curl(target, ReportStage::Started)];
    early.extend(fetch_keys(settings));
    early.extend(only_disk(settings, target));
    put("early-commands", json!(early));
    // The installer's own reporter (its reference: reporting), which tells every step it begins and ends.
    put("reporting", json!({ "lastmile": { "type": "webhook", "endpoint": target.log_url() } }));
    put("locale", json!(settings.locale));
    put("keyboard", keyboard(settings));
    put("timezone", json!(settings.time_zone));
    if let Some(edition) = &settings.software.edition {
        put("source", json!({ "id": edition }));
    }
    if !settings.links.is_empty() {
        put("network", network::network(settings));
    }
    if let Some(proxy) = &settings.proxy {
        put("proxy", json!(proxy));
    }
    let apt = apt(settings);
    if !apt.is_empty() {
        put("apt", Value::Object(apt));
    }
    let has_keys = !settings.root_keys.is_empty() || settings.users.iter().any(|user| !user.keys.is_empty());
    put("ssh", json!({ "install-server": has_keys, "allow-pw": true }));
    let mut packages = settings.software.packages().to_vec();
    packages.extend(settings.software.sets().iter().map(|set| format!("{set}^")));
    if !packages.is_empty() {
        put("packages", json!(packages));
    }
    put("storage", storage::storage(&settings.disks, target));
    put("late-commands", json!(late(settings, target)));
    put("error-commands", json!([steps::curl(target, ReportStage::Failed)]));
    put("shutdown", json!(if settings.at_end == AtEnd::PowerOff { "poweroff" } else { "reboot" }));
    keys
}

fn apt(settings: &Resolved) -> Map<String, Value> {
    let mut apt = Map::new();
    if let Source::Mirror(url) = &settings.source {
        apt.insert("mirror-selection".into(), json!({ "primary": [{ "uri": url }] }));
        apt.insert("fallback".into(), json!("abort"));
    }
    let mut sources = Map::new();
    for (name, repository) in &settings.software.repositories {
        let suite = repository.suite.as_deref().unwrap_or_default();
        let components = repository.components.clone().unwrap_or_else(|| vec!["main".into()]).join(" ");
        sources.insert(
            format!("{name}.list"),
            json!({ "source": format!("deb {} {suite} {components}", repository.url) }),
        );
    }
    if !sources.is_empty() {
        apt.insert("sources".into(), Value::Object(sources));
    }
    apt
}

/// As the installer and cloud-init have it.
pub(super) fn keyboard(settings: &Resolved) -> Value {
    let Keyboard { layout, variant } = &settings.keyboard;
    match variant {
        Some(variant) => json!({ "layout": layout, "variant": variant }),
        None => json!({ "layout": layout }),
    }
}

/// Puts the keys of repositories into the installer's own copy of this file, which it reads again after the early commands
/// (its reference: early-commands). It takes a key's text and no URL, and needs it before it installs a package.
fn fetch_keys(settings: &Resolved) -> Option<String> {
    let keys: Map<String, Value> = settings
        .software
        .repositories
        .iter()
        .filter_map(|(name, repository)| Some((format!("{name}.list"), json!(repository.key.as_ref()?))))
        .collect();
    if keys.is_empty() {
        return None;
    }
    let program = "import json,sys,yaml,urllib.request as web\n\
        path='/autoinstall.yaml'\n\
        whole=yaml.safe_load(open(path))\n\
        sources=whole.get('autoinstall',whole)['apt']['sources']\n\
        for name,url in json.loads(sys.argv[1]).items(): sources[name]['key']=web.urlopen(url).read().decode()\n\
        open(path,'w').write(yaml.safe_dump(whole))";
    Some(format!("python3 -c {} {}", quote::shell(program), quote::shell(&Value::Object(keys).to_string())))
}

/// Where nobody said which disk, the installer would take the largest: it is stopped if there is more than one.
fn only_disk(settings: &Resolved, target: &Target<'_>) -> Option<String> {
    let [(_, disk)] = settings.disks.taken.as_slice() else { return None };
    let failed = format!(
        "{}?text=there+are+several+disks+and+none+is+described",
        target.report_url(ReportStage::Failed)
    );
    disk.is_any().then(|| {
        format!(
            "[ \"$(lsblk -dnbo TYPE,SIZE | awk '$1 == \"disk\" && $2 >= {}' | wc -l)\" -le 1 ] || \
             {{ curl -fsS -o /dev/null {}; exit 1; }}",
            LEAST_MIB * 1024 * 1024,
            quote::shell(&failed)
        )
    })
}

/// What the installer runs in the end. The report comes last: only what went well is reported so.
fn late(settings: &Resolved, target: &Target<'_>) -> Vec<Value> {
    let mut commands: Vec<Value> = Vec::new();
    let inside = |script: &str| json!(["curtin", "in-target", "--", "sh", "-c", script]);
    if !settings.kernel_parameters.is_empty() {
        commands.push(inside(&steps::default_grub(&settings.kernel_parameters)));
    }
    match settings.security.firewall {
        Some(Firewall::On) => commands.push(inside("ufw allow OpenSSH && ufw --force enable")),
        Some(Firewall::Off) => commands.push(inside("ufw --force disable")),
        None => {}
    }
    let mut script = String::from("set -e\n");
    steps::keys(&mut script, "root", &settings.root_keys);
    steps::first_boot(&mut script, settings, target);
    commands.push(inside(&script));
    if !settings.last_steps.is_empty() {
        let mut script = String::from("set -e\n");
        steps::last_steps(&mut script, settings);
        commands.push(inside(&script));
    }
    commands.push(json!(steps::curl(target, ReportStage::Done)));
    commands
}

/// What cloud-init does at the first start (its reference: hosts, users, NTP).
pub(super) fn first_start(settings: &Resolved, target: &Target<'_>) -> Map<String, Value> {
    let mut keys = Map::new();
    keys.insert("hostname".into(), json!(settings.host_name));
    if let Some(domain) = settings.domain.as_ref().filter(|domain| !domain.is_empty()) {
        keys.insert("fqdn".into(), json!(format!("{}.{domain}", settings.host_name)));
    }
    let users: Vec<Value> = settings.users.iter().map(|user| account(user, target)).collect();
    keys.insert("users".into(), json!(users));
    let is_open = settings.root_password.is_some() || !settings.root_keys.is_empty();
    keys.insert("disable_root".into(), json!(!is_open));
    if let Some(password) = &settings.root_password {
        keys.insert(
            "chpasswd".into(),
            json!({ "expire": false, "users": [{ "name": "root", "password": target.hash(password) }] }),
        );
    }
    if !settings.ntp.is_empty() {
        keys.insert("ntp".into(), json!({ "enabled": true, "servers": settings.ntp }));
    }
    keys
}

fn account(user: &Account, target: &Target<'_>) -> Value {
    let mut groups = user.groups.clone();
    let mut keys = Map::new();
    keys.insert("name".into(), json!(user.login));
    if !user.full_name.is_empty() {
        keys.insert("gecos".into(), json!(user.full_name));
    }
    keys.insert("shell".into(), json!("/bin/bash"));
    keys.insert("lock_passwd".into(), json!(user.password.is_none()));
    if let Some(password) = &user.password {
        keys.insert("passwd".into(), json!(target.hash(password)));
    }
    match user.sudo {
        Sudo::No => {}
        Sudo::Password => groups.push("sudo".into()),
        Sudo::NoPassword => {
            keys.insert("sudo".into(), json!("ALL=(ALL) NOPASSWD:ALL"));
        }
    }
    if !groups.is_empty() {
        keys.insert("groups".into(), json!(groups));
    }
    if !user.keys.is_empty() {
        keys.insert("ssh_authorized_keys".into(), json!(user.keys));
    }
    Value::Object(keys)
}
