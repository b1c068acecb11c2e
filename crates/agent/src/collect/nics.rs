//! The network cards.

use lastmile_formats::mac::Mac;
use lastmile_survey::facts::Nic;

use super::{Tree, names};

const NICS: &str = "sys/class/net";

pub(super) fn all(tree: &Tree) -> Vec<Nic> {
    tree.folder(NICS).into_iter().filter_map(|name| one(tree, name)).collect()
}

/// Nothing for what is no card: the loopback, bridges, tunnels.
fn one(tree: &Tree, name: String) -> Option<Nic> {
    let at = |path: &str| format!("{NICS}/{name}/{path}");
    let place = tree.real(&at("device"))?;
    let mac: Mac = tree.text(&at("address"))?.parse().ok()?;
    let pci = names::pci_address(&place);
    Some(Nic {
        mac,
        permanent_mac: None,
        driver: tree.link(&at("device/driver")),
        firmware: None,
        // -1 where there is no link.
        link_speed: tree
            .number::<i64>(&at("speed"))
            .and_then(|speed| u32::try_from(speed).ok())
            .filter(|speed| *speed > 0),
        link: tree.text(&at("carrier")).as_deref() == Some("1"),
        names: pci.as_deref().map(|pci| names::of(tree, pci, &at("dev_port"))).unwrap_or_default(),
        pci,
        neighbour: None,
        name,
    })
}
