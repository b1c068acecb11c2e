//! The answer files of installers that read autoinstall: cloud-config with a part for the installer (its reference, and
//! curtin's and netplan's for storage and network).

use serde_json::{Map, Value, json};

use super::{AnswerFile, Parts, Target, choose::volume_name, heading, quote, steps};
use crate::{
    Fault,
    answers::{
        AtEnd, BootMode, DiskMatch, FileSystem, Firewall, Layout, Resolution, Size, Sudo,
        resolved::{Account, Addressing, Disks, EFI_MIB, LinkKind, Mount, Place, Resolved, Source},
    },
    install::ReportStage,
};

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
        mend: "Look for values that are neither text nor numbers.".into(),
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
    let mend = "Write YAML: keys with their values, without a head of its own.";
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
        Ok(_) => Err(parts.fault(name, 1, 1, "it holds no keys with values", mend)),
        Err(error) => {
            let at = error.location().map_or((1, 1), |at| (at.line(), at.column()));
            let [line, column] = [at.0, at.1].map(|number| usize::try_from(number).unwrap_or(1));
            Err(parts.fault(name, line, column, &error.to_string(), mend))
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
    put("keyboard", json!({ "layout": settings.keyboard }));
    put("timezone", json!(settings.time_zone));
    if let Some(edition) = &settings.edition {
        put("source", json!({ "id": edition }));
    }
    if !settings.links.is_empty() {
        put("network", network(settings));
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
    let mut packages = settings.packages.clone();
    packages.extend(settings.sets.iter().map(|set| format!("{set}^")));
    if !packages.is_empty() {
        put("packages", json!(packages));
    }
    put("storage", storage(&settings.disks, target));
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
    for (name, repository) in &settings.repositories {
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

/// Puts the keys of repositories into the installer's own copy of this file, which it reads again after the early commands
/// (its reference: early-commands). It takes a key's text and no URL, and needs it before it installs a package.
fn fetch_keys(settings: &Resolved) -> Option<String> {
    let keys: Map<String, Value> = settings
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
            "[ \"$(lsblk -dno TYPE | grep -c '^disk$')\" -le 1 ] || {{ curl -fsS -o /dev/null {}; exit 1; }}",
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

/// Netplan's version 2 of the network.
fn network(settings: &Resolved) -> Value {
    let mut kinds: std::collections::BTreeMap<&str, Map<String, Value>> = std::collections::BTreeMap::new();
    for link in &settings.links {
        let mut keys = Map::new();
        let mut name = link.name.clone();
        let kind = match &link.kind {
            LinkKind::Mac(mac) => {
                keys.insert("match".into(), json!({ "macaddress": mac.to_string() }));
                "ethernets"
            }
            LinkKind::Booting => {
                keys.insert("match".into(), json!({ "name": "e*" }));
                "ethernets"
            }
            LinkKind::Device(device) => {
                name.clone_from(device);
                "ethernets"
            }
            LinkKind::Bond(of, mode) => {
                keys.insert("interfaces".into(), json!(names(settings, of)));
                keys.insert(
                    "parameters".into(),
                    json!({ "mode": mode.as_str(), "mii-monitor-interval": 100 }),
                );
                "bonds"
            }
            LinkKind::Bridge(of) => {
                keys.insert("interfaces".into(), json!(names(settings, of)));
                "bridges"
            }
            LinkKind::Vlan(tag, on) => {
                keys.insert("id".into(), json!(tag));
                keys.insert("link".into(), json!(names(settings, std::slice::from_ref(on))[0]));
                "vlans"
            }
        };
        keys.insert("dhcp4".into(), json!(link.addressing == Addressing::Dhcp));
        if let Addressing::Fixed(nets) = &link.addressing {
            keys.insert("addresses".into(), json!(nets.iter().map(ToString::to_string).collect::<Vec<_>>()));
        }
        if let Some(router) = link.router {
            keys.insert("routes".into(), json!([{ "to": "default", "via": router.to_string() }]));
        }
        if !settings.dns.is_empty() && link.addressing != Addressing::None {
            let servers: Vec<String> = settings.dns.iter().map(ToString::to_string).collect();
            let search: Vec<&String> = settings.domain.iter().filter(|domain| !domain.is_empty()).collect();
            keys.insert("nameservers".into(), json!({ "addresses": servers, "search": search }));
            if link.addressing == Addressing::Dhcp {
                keys.insert("dhcp4-overrides".into(), json!({ "use-dns": false }));
            }
        }
        if let Some(mtu) = link.mtu {
            keys.insert("mtu".into(), json!(mtu));
        }
        kinds.entry(kind).or_default().insert(name, Value::Object(keys));
    }
    let mut network = Map::from_iter([("version".to_owned(), json!(2))]);
    network.extend(kinds.into_iter().map(|(kind, links)| (kind.to_owned(), Value::Object(links))));
    Value::Object(network)
}

/// The names by which netplan knows interfaces: a NIC named by its device has that name.
fn names(settings: &Resolved, of: &[String]) -> Vec<String> {
    let name =
        |name: &String| match settings.links.iter().find(|link| link.name == *name).map(|link| &link.kind) {
            Some(LinkKind::Device(device)) => device.clone(),
            _ => name.clone(),
        };
    of.iter().map(name).collect()
}

fn storage(disks: &Disks, target: &Target<'_>) -> Value {
    if disks.volumes.is_none() {
        return guided(disks, target);
    }
    let mut actions: Vec<Value> = Vec::new();
    for (index, (name, disk)) in disks.taken.iter().enumerate() {
        actions.push(json!({
            "type": "disk", "id": format!("disk-{name}"), "match": disk_match(disk), "ptable": "gpt",
            "wipe": "superblock-recursive", "preserve": false,
            "grub_device": disks.boot_mode == BootMode::Bios && disks.boot_disks().contains(&index),
        }));
    }
    let mut arranged = Arranged { disks, actions };
    arranged.boot_partitions();
    arranged.volumes(target);
    let no_swap = !disks.places().iter().any(|place| place.mount == Mount::Swap);
    let mut storage = json!({ "config": arranged.actions });
    if no_swap && let Value::Object(storage) = &mut storage {
        storage.insert("swap".into(), json!({ "size": 0 }));
    }
    storage
}

/// The installer's own arrangement, on the disk that was described.
fn guided(disks: &Disks, target: &Target<'_>) -> Value {
    let name = if disks.layout == Layout::Lvm { "lvm" } else { "direct" };
    let mut layout = Map::from_iter([("name".to_owned(), json!(name))]);
    if let Some((_, disk)) = disks.taken.first().filter(|(_, disk)| !disk.is_any()) {
        layout.insert("match".into(), disk_match(disk));
    }
    if let Some(passphrase) = &disks.passphrase {
        layout.insert("password".into(), json!(target.plain(passphrase).as_str()));
    }
    json!({ "layout": layout })
}

fn disk_match(disk: &DiskMatch) -> Value {
    let keys =
        [("path", &disk.device), ("model", &disk.model), ("serial", &disk.serial), ("size", &disk.size)];
    let said = keys.into_iter().filter_map(|(key, text)| Some((key.to_owned(), json!(text.as_ref()?))));
    Value::Object(said.collect())
}

/// The actions of curtin's storage version 1, being collected.
struct Arranged<'a> {
    disks: &'a Disks,
    actions: Vec<Value>,
}

impl Arranged<'_> {
    fn boot_partitions(&mut self) {
        for (order, index) in self.disks.boot_disks().into_iter().enumerate() {
            let name = &self.disks.taken[index].0;
            match self.disks.boot_mode {
                BootMode::Bios => self.actions.push(json!({
                    "type": "partition", "id": format!("bios-{name}"), "device": format!("disk-{name}"),
                    "size": "1M", "flag": "bios_grub", "preserve": false,
                })),
                BootMode::Uefi => {
                    self.actions.push(json!({
                        "type": "partition", "id": format!("efi-{name}"), "device": format!("disk-{name}"),
                        "size": format!("{EFI_MIB}M"), "flag": "boot", "grub_device": true, "preserve": false,
                    }));
                    self.actions.push(json!({
                        "type": "format", "id": format!("efi-{name}-fs"), "volume": format!("efi-{name}"),
                        "fstype": "fat32", "preserve": false,
                    }));
                    if order == 0 {
                        self.actions.push(json!({
                            "type": "mount", "id": "efi-mount", "device": format!("efi-{name}-fs"), "path": "/boot/efi",
                        }));
                    }
                }
            }
        }
    }

    fn volumes(&mut self, target: &Target<'_>) {
        let disks = self.disks;
        let lvm = disks.layout == Layout::Lvm;
        let mut places = disks.places();
        // A partition that takes the rest comes last on its disk.
        places.sort_by_key(|place| place.size == Size::Rest);
        for place in places.iter().filter(|place| !(lvm && disks.is_inside(place))) {
            let id = volume_name(&place.mount);
            let mut device = self.partition(&id, place.disk, place.size);
            if place.mount.path() != Some("/boot") {
                device = self.encrypted(&id, device, target);
            }
            self.file_system(place, &id, &device);
        }
        if lvm {
            let count = if disks.mirror { 1 } else { disks.taken.len() };
            let mut devices = Vec::new();
            for index in 0..count {
                let id = if count > 1 { format!("pv-{}", disks.taken[index].0) } else { "pv".into() };
                let device = self.partition(&id, index, Size::Rest);
                devices.push(self.encrypted(&id, device, target));
            }
            self.actions.push(json!({
                "type": "lvm_volgroup", "id": "group", "name": disks.group, "devices": devices, "preserve": false,
            }));
            for place in places.iter().filter(|place| disks.is_inside(place)) {
                let id = volume_name(&place.mount);
                self.actions.push(json!({
                    "type": "lvm_partition", "id": id, "name": id, "volgroup": "group", "size": size(place.size),
                    "preserve": false,
                }));
                self.file_system(place, &id, &id);
            }
        }
    }

    /// A partition, or a mirror of two; gives what it is known by.
    fn partition(&mut self, id: &str, disk: usize, wanted: Size) -> String {
        let names: Vec<String> = if self.disks.mirror {
            self.disks.taken.iter().map(|(name, _)| name.clone()).collect()
        } else {
            vec![self.disks.taken[disk].0.clone()]
        };
        let parts: Vec<String> = names.iter().map(|name| format!("{id}-{name}")).collect();
        for (part, name) in parts.iter().zip(&names) {
            self.actions.push(json!({
                "type": "partition", "id": part, "device": format!("disk-{name}"), "size": size(wanted), "preserve": false,
            }));
        }
        if !self.disks.mirror {
            return parts.into_iter().next().unwrap_or_default();
        }
        let mirror = format!("{id}-mirror");
        self.actions.push(json!({
            "type": "raid", "id": mirror, "name": format!("md-{id}"), "raidlevel": 1, "devices": parts, "preserve": false,
        }));
        mirror
    }

    fn encrypted(&mut self, id: &str, device: String, target: &Target<'_>) -> String {
        let Some(passphrase) = &self.disks.passphrase else { return device };
        let crypt = format!("{id}-crypt");
        self.actions.push(json!({
            "type": "dm_crypt", "id": crypt, "dm_name": crypt, "volume": device,
            "key": target.plain(passphrase).as_str(), "preserve": false,
        }));
        crypt
    }

    fn file_system(&mut self, place: &Place, id: &str, device: &str) {
        let kind = match (&place.mount, place.file_system) {
            (Mount::Swap, _) => "swap",
            (_, Some(FileSystem::Vfat)) => "fat32",
            (_, Some(system)) => system.as_str(),
            (_, None) => "ext4",
        };
        self.actions.push(json!({
            "type": "format", "id": format!("{id}-fs"), "volume": device, "fstype": kind, "preserve": false,
        }));
        let path = place.mount.path().unwrap_or("");
        self.actions.push(json!({
            "type": "mount", "id": format!("{id}-mount"), "device": format!("{id}-fs"), "path": path,
        }));
    }
}

/// As curtin reads it: `-1` for what is left.
fn size(size: Size) -> Value {
    match size {
        Size::Mib(mib) => json!(format!("{mib}M")),
        Size::Rest => json!(-1),
    }
}
