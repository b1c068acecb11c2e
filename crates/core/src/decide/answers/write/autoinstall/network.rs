//! The network, as netplan reads it.

use serde_json::{Map, Value, json};

use crate::decide::answers::{Addressing, LinkKind, Resolved};

/// Netplan's version 2 of the network.
pub(super) fn network(settings: &Resolved) -> Value {
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
