//! From layers to the settings of one machine.

use std::{collections::BTreeMap, net::Ipv4Addr};

use serde_json::Value;

use super::{Account, Addressing, Disks, Link, LinkKind, Mount, Place, Resolved, Source, layers::merge};
use crate::{
    base::{Fault, Faults, name},
    model::{
        answers::{
            BootMode, DiskMatch, Interface, Layer, Network, Password, Question, Settings, Size, Storage,
            Volume,
        },
        service::Service,
        values::{Bound, VALUES_FIX, Values},
    },
};

/// What layers come to for one machine.
#[derive(Debug, Clone, PartialEq)]
pub struct Resolution {
    /// The settings.
    pub settings: Resolved,
    /// The same as a person may read them: with values put in, and without secrets.
    pub shown: Settings<crate::model::answers::PasswordShown>,
    /// Where each value comes from, by its path.
    pub origins: BTreeMap<String, Layer>,
    /// Questions that nobody answered yet; their sample answers stand in the settings.
    pub open: BTreeMap<String, Question>,
}

/// What is known of the machine whose settings are wanted.
#[derive(Debug, Clone)]
pub struct Subject {
    /// Its values. What was asked is added to these.
    pub values: Values,
    /// The firmware it booted by, where that was seen.
    pub boot_mode: Option<BootMode>,
    /// Where it reaches the service.
    pub service: Service,
}

impl Subject {
    /// A machine as there might be one: what settings are held against before there is one.
    #[must_use]
    pub fn example() -> Self {
        let service = Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None };
        Self { values: Values::example(), boot_mode: None, service }
    }
}

/// What layers ask, by name.
pub fn questions<'a>(
    layers: impl IntoIterator<Item = (Layer, &'a Settings<Password>)>,
) -> BTreeMap<String, Question> {
    asked_in(&merge(layers).tree)
}

fn asked_in(tree: &Value) -> BTreeMap<String, Question> {
    let questions = tree.get("questions");
    questions.and_then(|questions| serde_json::from_value(questions.clone()).ok()).unwrap_or_default()
}

/// What is looked into for questions, and cannot name what is asked.
const UNFILLED: [&str; 7] = [
    "questions",
    "images",
    "installer_parameters",
    "without_installer_parameters",
    "last_steps",
    "first_boot",
    "formats",
];

/// Puts layers on each other, the machine's values into their texts, and checks the whole.
///
/// `answered` is what was answered to the questions, by name.
///
/// # Errors
/// Everything that is wrong for this machine. The origin of a value that is wrong is named with it.
pub fn resolve<'a>(
    layers: impl IntoIterator<Item = (Layer, &'a Settings<Password>)>,
    subject: &Subject,
    answered: &BTreeMap<String, String>,
) -> Result<Resolution, Vec<Fault>> {
    let mut merged = merge(layers);
    let questions = asked_in(&merged.tree);
    let mut asked = BTreeMap::new();
    let mut open = BTreeMap::new();
    for (key, question) in questions {
        match answered.get(&key) {
            Some(answer) => {
                asked.insert(key, answer.clone());
            }
            None => {
                asked.insert(key.clone(), question.sample());
                open.insert(key, question);
            }
        }
    }
    let mut faults = Faults::new();
    let values = Values { asked: Some(asked), ..subject.values.clone() };
    fill(&mut merged.tree, "", &Bound::from(values.clone()), &mut faults);
    let origins = merged.origins;
    if !faults.is_empty() {
        return named(faults.into_result(|| None), &origins);
    }
    let settings: Settings<Password> = match serde_json::from_value(merged.tree) {
        Ok(settings) => settings,
        Err(error) => {
            faults.add("", format!("the layers do not fit together: {error}"), "Look at each of them.");
            return faults.into_result(|| None);
        }
    };
    // What looks like the name of a value now came out of a value, and is not read again.
    settings.check(&mut faults, None);
    let resolved = complete(&settings, subject, &values, &mut faults);
    named(
        faults.into_result(|| {
            Some(Resolution { settings: resolved?, shown: settings.shown(), origins: origins.clone(), open })
        }),
        &origins,
    )
}

/// With the origin of the value that is wrong.
fn named<T>(result: Result<T, Vec<Fault>>, origins: &BTreeMap<String, Layer>) -> Result<T, Vec<Fault>> {
    result.map_err(|mut faults| {
        for fault in &mut faults {
            let path = fault.place.split('[').next().unwrap_or_default();
            if let Some(layer) = origins.get(path).filter(|layer| **layer != Layer::BuiltIn) {
                fault.what = format!("{} (from {layer})", fault.what);
            }
        }
        faults
    })
}

fn fill(tree: &mut Value, path: &str, values: &Bound, faults: &mut Faults) {
    match tree {
        Value::String(text) => match values.fill(text) {
            Ok(filled) => *text = filled,
            Err(error) => faults.add(path, error.to_string(), VALUES_FIX),
        },
        Value::Array(items) => {
            for (index, item) in items.iter_mut().enumerate() {
                fill(item, &format!("{path}[{index}]"), values, faults);
            }
        }
        Value::Object(items) => {
            for (key, item) in items {
                if path.is_empty() && UNFILLED.contains(&key.as_str()) || key == "ssh_keys" {
                    continue;
                }
                let path = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                fill(item, &path, values, faults);
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

fn complete(
    settings: &Settings<Password>,
    subject: &Subject,
    values: &Values,
    faults: &mut Faults,
) -> Option<Resolved> {
    let host_name = settings.host_name.clone().unwrap_or_else(|| values.name.clone());
    if settings.host_name.is_none() {
        faults.keep("host_name", name::check_host_name(&host_name), name::HOST_NAME_FIX);
    }
    let network = settings.network.clone().unwrap_or_default();
    network.check_whole(faults);
    let links = links(&network, values, faults);
    let users: Vec<Account> = settings
        .users
        .iter()
        .map(|(login, user)| Account {
            login: login.clone(),
            full_name: user.full_name.clone().unwrap_or_default(),
            password: user.password.clone(),
            keys: user.ssh_keys.clone().unwrap_or_default(),
            sudo: user.sudo.unwrap_or_default(),
            groups: user.groups.clone().unwrap_or_default(),
        })
        .collect();
    let root_password = settings.root.as_ref().and_then(|root| root.password.clone());
    let root_keys = settings.root.as_ref().and_then(|root| root.ssh_keys.clone()).unwrap_or_default();
    let disks = disks(&settings.storage.clone().unwrap_or_default(), subject.boot_mode, faults);
    let software = settings.software.clone().unwrap_or_default();
    let source = match software.source.as_deref() {
        None => Source::Default,
        Some("image") => Source::Image(values.image_url.clone().unwrap_or_default()),
        Some(url) => Source::Mirror(url.trim_end_matches('/').into()),
    };
    Some(Resolved {
        host_name,
        domain: settings.domain.clone().or_else(|| values.domain.clone()),
        locale: settings.locale.clone()?,
        keyboard: settings.keyboard.as_ref()?.parse().ok()?,
        time_zone: settings.time_zone.clone()?,
        ntp: settings.ntp.clone().unwrap_or_default(),
        proxy: settings.proxy.clone(),
        dns: network.dns.iter().flatten().filter_map(|text| text.parse().ok()).collect(),
        links: links?,
        root_password,
        root_keys,
        users,
        disks: disks?,
        software,
        source,
        security: settings.security.unwrap_or_default(),
        kernel_parameters: settings.kernel_parameters.clone().unwrap_or_default(),
        last_steps: settings.last_steps.clone(),
        first_boot: settings.first_boot.clone(),
        at_end: settings.at_end.unwrap_or_default(),
        formats: settings.formats.clone(),
    })
}

/// The interfaces, each after those it is made of.
fn links(network: &Network, values: &Values, faults: &mut Faults) -> Option<Vec<Link>> {
    let mut open: Vec<(&String, &Interface)> = network.interfaces.iter().collect();
    // NICs first, as they are what the rest is made of.
    open.sort_by_key(|(_, interface)| !interface.is_nic());
    let mut links: Vec<Link> = Vec::new();
    while !open.is_empty() {
        let is_known = |part: &String| links.iter().any(|link| link.name == *part);
        let Some(next) = open.iter().position(|(_, interface)| interface.parts().all(is_known)) else {
            let names: Vec<_> = open.iter().map(|(name, _)| name.as_str()).collect();
            if names.iter().all(|name| {
                network.interfaces[*name].parts().all(|part| network.interfaces.contains_key(part))
            }) {
                faults.add(
                    "network.interfaces",
                    format!("{} are made of each other", names.join(" and ")),
                    "Break the circle.",
                );
            }
            return None;
        };
        let (name, interface) = open.remove(next);
        links.push(link(name, interface, network, values)?);
    }
    // Name servers are an interface's: said of none, they are those of the NIC that boots.
    if links.is_empty() && network.dns.as_ref().is_some_and(|servers| !servers.is_empty()) {
        links.push(link("lan", &Interface::default(), network, values)?);
    }
    Some(links)
}

fn link(name: &str, interface: &Interface, network: &Network, values: &Values) -> Option<Link> {
    let kind = if let Some(of) = &interface.bond {
        LinkKind::Bond(of.clone(), interface.bond_mode.unwrap_or_default())
    } else if let Some(of) = &interface.bridge {
        LinkKind::Bridge(of.clone())
    } else if let (Some(tag), Some(on)) = (&interface.vlan, &interface.on) {
        LinkKind::Vlan(tag.parse().ok()?, on.clone())
    } else if let Some(mac) = &interface.mac {
        LinkKind::Mac(mac.parse().ok()?)
    } else if let Some(device) = &interface.device {
        LinkKind::Device(device.clone())
    } else {
        values.mac.map_or(LinkKind::Booting, LinkKind::Mac)
    };
    let boots = interface.is_nic() && interface.mac.is_none() && interface.device.is_none();
    let is_part = network
        .interfaces
        .values()
        .any(|other| other.on.as_deref() != Some(name) && other.parts().any(|part| part == name));
    let addressing = match interface.addresses.as_deref() {
        None if boots && !is_part => Addressing::Dhcp,
        None | Some([]) => Addressing::None,
        Some([only]) if only == "dhcp" => Addressing::Dhcp,
        Some(nets) => Addressing::Fixed(nets.iter().filter_map(|net| net.parse().ok()).collect()),
    };
    let router: Option<Ipv4Addr> = interface.router.as_ref().and_then(|text| text.parse().ok());
    Some(Link { name: name.into(), kind, boots, addressing, router, mtu: interface.mtu })
}

fn disks(storage: &Storage<Password>, booted: Option<BootMode>, faults: &mut Faults) -> Option<Disks> {
    let mut taken: Vec<(String, DiskMatch)> =
        storage.disks.iter().map(|(name, disk)| (name.clone(), disk.clone())).collect();
    if taken.is_empty() {
        taken.push(("system".into(), DiskMatch::default()));
    }
    let mirror = storage.mirror.unwrap_or_default();
    if mirror && taken.len() != 2 {
        faults.add(
            "storage.mirror",
            format!("{} of two disks are named", storage.disks.len()),
            "Name exactly two under storage.disks.",
        );
    }
    if taken.len() > 1 && storage.volumes.is_none() {
        faults.add(
            "storage.volumes",
            "with several disks it must be said what lies where",
            "Give the volumes.",
        );
    }
    for pair in taken.windows(2) {
        let [(first, one), (second, other)] = pair else { continue };
        if one == other && (one.is_device() || one.prefer.is_some() && !mirror) {
            faults.add(
                format!("storage.disks.{second}"),
                format!("it is the same disk as '{first}'"),
                "Describe another, or leave it out.",
            );
        }
    }
    let volumes = storage.volumes.as_ref().map(|volumes| places(volumes, &taken, mirror, faults));
    Some(Disks {
        boot_mode: storage.boot_mode.or(booted).unwrap_or(BootMode::Uefi),
        taken,
        never: storage.never.clone().unwrap_or_default(),
        logical_volumes: storage.logical_volumes.unwrap_or_default(),
        mirror,
        passphrase: storage.encrypt.clone(),
        group: storage.volume_group.clone().unwrap_or_else(|| "system".into()),
        volumes,
    })
}

fn places(
    volumes: &[Volume],
    taken: &[(String, DiskMatch)],
    mirror: bool,
    faults: &mut Faults,
) -> Vec<Place> {
    let mut places: Vec<Place> = Vec::new();
    for (index, volume) in volumes.iter().enumerate() {
        let at = format!("storage.volumes[{index}]");
        let mount = match volume.mount.as_str() {
            "swap" => Mount::Swap,
            text if text.ends_with(':') => Mount::Letter(text.chars().next().unwrap_or('C')),
            path => Mount::Path(path.into()),
        };
        if places.iter().any(|place| place.mount == mount) {
            faults.add(format!("{at}.mount"), format!("{} is there twice", volume.mount), "Keep one.");
        }
        let disk = match &volume.disk {
            None if taken.len() > 1 && !mirror => {
                let what = format!("it is not said which disk {} lies on", volume.mount);
                let names: Vec<&str> = taken.iter().map(|(name, _)| name.as_str()).collect();
                faults.add(format!("{at}.disk"), what, format!("Say one of {}.", names.join(", ")));
                0
            }
            None => 0,
            Some(_) if mirror => {
                faults.add(format!("{at}.disk"), "mirrored volumes lie on both disks", "Leave it out.");
                0
            }
            Some(name) => taken.iter().position(|(taken, _)| taken == name).unwrap_or_else(|| {
                faults.add(
                    format!("{at}.disk"),
                    format!("no disk is named '{name}'"),
                    "Name one of storage.disks.",
                );
                0
            }),
        };
        let size = Size::parse(&volume.size).unwrap_or(Size::Rest);
        if size == Size::Rest && places.iter().any(|place| place.size == Size::Rest && place.disk == disk) {
            faults.add(
                format!("{at}.size"),
                "two volumes take the rest of one disk",
                "Give one of them a size.",
            );
        }
        places.push(Place { mount, size, file_system: volume.file_system, disk });
    }
    if !places.iter().any(|place| place.mount.is_system()) {
        faults.add(
            "storage.volumes",
            "there is no place for the system",
            "Add a volume that is mounted at /.",
        );
    }
    places
}
