//! What settings ask for in names and on the network.

use Family::{CloudConfig, Kickstart, UnattendedXml};

use super::feature::{Feature, at};
use crate::{
    decide::answers::{Addressing, Link, LinkKind, Resolved},
    model::image::Family,
};

const BEFORE: (Family, &str) = (
    CloudConfig,
    "A live host has its network before it reads its answers: reserve its address, or say ip= in the image's parameters.",
);
const BY_SCRIPT: (Family, &str) = (UnattendedXml, "Set it up in a first-boot script.");

/// The key of every interface that asks for something.
fn links(settings: &Resolved, key: &str, asks: impl Fn(&Link) -> bool) -> Vec<String> {
    let asking = settings.links.iter().filter(|link| asks(link));
    asking.map(|link| format!("network.interfaces.{}.{key}", link.name)).collect()
}

pub(super) const FEATURES: &[Feature] = &[
    Feature {
        name: "a host name of more than 15 characters",
        asked: |settings| at("host_name", settings.host_name.len() > 15),
        lacks: &[(UnattendedXml, "The name is cut off after 15 characters: give a shorter one.")],
    },
    Feature { name: "time servers", asked: |settings| at("ntp", !settings.ntp.is_empty()), lacks: &[] },
    Feature {
        name: "a proxy",
        asked: |settings| at("proxy", settings.proxy.is_some()),
        lacks: &[(UnattendedXml, "Set the proxy in a first-boot script.")],
    },
    Feature {
        name: "a fixed address",
        asked: |settings| {
            links(settings, "addresses", |link| matches!(link.addressing, Addressing::Fixed(_)))
        },
        lacks: &[BEFORE],
    },
    Feature {
        name: "several fixed addresses on one interface",
        asked: |settings| {
            let several = |link: &Link| matches!(&link.addressing, Addressing::Fixed(nets) if nets.len() > 1);
            links(settings, "addresses", several)
        },
        lacks: &[
            (Kickstart, "A network command has one address: add the others in a last step, with nmcli."),
            BEFORE,
        ],
    },
    Feature {
        name: "name servers",
        asked: |settings| at("network.dns", !settings.dns.is_empty()),
        lacks: &[BEFORE],
    },
    Feature {
        name: "a NIC by its MAC address",
        asked: |settings| links(settings, "mac", |link| matches!(link.kind, LinkKind::Mac(_)) && !link.boots),
        lacks: &[BEFORE],
    },
    Feature {
        name: "a NIC by its name",
        asked: |settings| links(settings, "device", |link| matches!(link.kind, LinkKind::Device(_))),
        lacks: &[BEFORE, (UnattendedXml, "NICs have no such names there: give its MAC address as `mac`.")],
    },
    Feature {
        name: "a bond",
        asked: |settings| links(settings, "bond", |link| matches!(link.kind, LinkKind::Bond(..))),
        lacks: &[BEFORE, BY_SCRIPT],
    },
    Feature {
        name: "a bridge",
        asked: |settings| links(settings, "bridge", |link| matches!(link.kind, LinkKind::Bridge(_))),
        lacks: &[BEFORE, BY_SCRIPT],
    },
    Feature {
        name: "a VLAN",
        asked: |settings| links(settings, "vlan", |link| matches!(link.kind, LinkKind::Vlan(..))),
        lacks: &[BEFORE, BY_SCRIPT],
    },
    Feature {
        name: "a packet size",
        asked: |settings| links(settings, "mtu", |link| link.mtu.is_some()),
        lacks: &[BEFORE, BY_SCRIPT],
    },
];
