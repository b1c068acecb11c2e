//! Nothing that is said is lost on the way: whatever is changed in the settings, the file changes too, or the change is
//! refused with its place.

use super::*;

/// What each change is made to: a disk, a volume, a user, an interface, so that a change has something to change.
const BASE: &str = r#"
locale = "en_GB.UTF-8"
keyboard = "gb"
time_zone = "Europe/London"
host_name = "chart-7"
[users.purser]
password = { sealed = "tern bay at dusk" }
"#;

/// Changes, each a layer over the base, named by the path of the setting.
const CHANGES: [(&str, &str); 62] = [
    ("locale", "locale = 'de_DE.UTF-8'"),
    ("keyboard", "keyboard = 'de'"),
    ("time_zone", "time_zone = 'Europe/Berlin'"),
    ("ntp", "ntp = ['time.gannet.example']"),
    ("host_name", "host_name = 'chart-8'"),
    ("domain", "domain = 'tern.gannet.example'"),
    ("proxy", "proxy = 'http://proxy.gannet.example:3128/'"),
    ("network.dns", "network.dns = ['192.0.2.3']"),
    (
        "network.interfaces.lan.addresses",
        "network.interfaces.lan = { mac = '00:00:5e:00:53:01', addresses = ['192.0.2.10/24'] }",
    ),
    (
        "network.interfaces.lan.addresses",
        "network.interfaces.lan = { mac = '00:00:5e:00:53:01', addresses = ['192.0.2.10/24', '198.51.100.10/24'] }",
    ),
    (
        "network.interfaces.lan.addresses",
        "network.interfaces.lan = { mac = '00:00:5e:00:53:02', addresses = ['dhcp'] }",
    ),
    (
        "network.interfaces.lan.router",
        "network.interfaces.lan = { mac = '00:00:5e:00:53:01', addresses = ['192.0.2.10/24'], router = '192.0.2.1' }",
    ),
    (
        "network.dns",
        "network.dns = ['192.0.2.3']\nnetwork.interfaces.lan = { mac = '00:00:5e:00:53:01', addresses = ['192.0.2.10/24'] }",
    ),
    ("network.interfaces.lan.device", "network.interfaces.lan = { device = 'eno1', addresses = ['dhcp'] }"),
    (
        "network.interfaces.lan.mtu",
        "network.interfaces.lan = { mac = '00:00:5e:00:53:01', addresses = ['dhcp'], mtu = 9000 }",
    ),
    (
        "network.interfaces.b.bond",
        "network.interfaces.a = { device = 'eno1' }\nnetwork.interfaces.b = { bond = ['a'], addresses = ['dhcp'] }",
    ),
    (
        "network.interfaces.b.bond_mode",
        "network.interfaces.a = { device = 'eno1' }\nnetwork.interfaces.b = { bond = ['a'], bond_mode = '802.3ad', addresses = ['dhcp'] }",
    ),
    (
        "network.interfaces.b.bridge",
        "network.interfaces.a = { device = 'eno1' }\nnetwork.interfaces.b = { bridge = ['a'], addresses = ['dhcp'] }",
    ),
    (
        "network.interfaces.b.vlan",
        "network.interfaces.a = { device = 'eno1' }\nnetwork.interfaces.b = { vlan = '30', on = 'a', addresses = ['dhcp'] }",
    ),
    ("root.password", "root.password = { sealed = 'kittiwake on the quay' }"),
    (
        "root.ssh_keys",
        "root.ssh_keys = ['ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGannetSoundFerriesInventedKeyForTestsOnly00 a@gannet.example']",
    ),
    ("users.purser.password", "users.purser.password = { sealed = 'another at dawn' }"),
    ("users.purser.password", "users.purser.password = { plain = 'kept as a hash' }"),
    ("users.purser.full_name", "users.purser.full_name = 'The purser'"),
    ("users.purser.sudo", "users.purser.sudo = 'password'"),
    ("users.purser.sudo", "users.purser.sudo = 'no-password'"),
    ("users.purser.groups", "users.purser.groups = ['adm']"),
    (
        "users.purser.ssh_keys",
        "users.purser.ssh_keys = ['ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGannetSoundFerriesInventedKeyForTestsOnly00 a@gannet.example']",
    ),
    ("users.mate", "users.mate.password = { sealed = 'second of two' }"),
    ("storage.disks.system.device", "storage.disks.system = { device = '/dev/sdb' }"),
    ("storage.disks.system.device", "storage.disks.system = { device = '1' }"),
    ("storage.disks.system.model", "storage.disks.system = { model = 'Puffin*' }"),
    ("storage.disks.system.serial", "storage.disks.system = { serial = 'P-1' }"),
    ("storage.disks.system.prefer", "storage.disks.system = { prefer = 'large' }"),
    ("storage.disks.system.at_least", "storage.disks.system = { at_least = '200G' }"),
    ("storage.disks.system.at_most", "storage.disks.system = { at_most = '2T' }"),
    ("storage.never", "storage.never = [{ serial = 'ARCHIVE*' }]"),
    ("storage.logical_volumes", "storage.logical_volumes = true"),
    (
        "storage.volume_group",
        "storage.logical_volumes = true\nstorage.volume_group = 'quay'\nstorage.volumes = [{ mount = '/', size = 'rest' }]",
    ),
    (
        "storage.mirror",
        "storage.mirror = true\nstorage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }\nstorage.volumes = [{ mount = '/', size = 'rest' }]",
    ),
    ("storage.encrypt", "storage.encrypt = { plain = 'petrel and guillemot' }"),
    (
        "storage.encrypt",
        "storage.logical_volumes = true\nstorage.encrypt = { plain = 'petrel and guillemot' }",
    ),
    ("storage.volumes", "storage.volumes = [{ mount = '/', size = 'rest' }]"),
    (
        "storage.volumes",
        "storage.volumes = [{ mount = '/', size = '20G' }, { mount = '/srv', size = 'rest' }]",
    ),
    ("storage.volumes", "storage.volumes = [{ mount = '/', size = '20G' }, { mount = 'swap', size = '2G' }]"),
    ("storage.volumes", "storage.volumes = [{ mount = '/', size = '20G' }, { mount = 'D:', size = 'rest' }]"),
    (
        "storage.volumes.file_system",
        "storage.volumes = [{ mount = '/', size = 'rest', file_system = 'btrfs' }]",
    ),
    (
        "storage.volumes.disk",
        "storage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }\nstorage.volumes = [{ mount = '/', size = 'rest', disk = 'a' }, { mount = '/srv', size = 'rest', disk = 'b' }]",
    ),
    ("software.packages", "software.packages = ['tmux']"),
    ("software.sets", "software.sets = ['print-server']"),
    ("software.edition", "software.edition = 'another'"),
    ("software.product_key", "software.product_key = 'GANNT-SOUND-FERRY-INVEN-TED00'"),
    ("software.source", "software.source = 'http://mirror.gannet.example/x'"),
    ("software.source", "software.source = 'image'"),
    ("software.repositories", "software.repositories.own = { url = 'http://packages.gannet.example/x' }"),
    (
        "software.repositories",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable', components = ['own'] }",
    ),
    (
        "software.repositories.key",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable', key = 'http://packages.gannet.example/key.asc' }",
    ),
    ("security.mandatory_access", "security.mandatory_access = 'permissive'"),
    ("security.firewall", "security.firewall = 'off'"),
    ("kernel_parameters", "kernel_parameters = ['quiet']"),
    ("last_steps", "last_steps.banner = 'echo authorised use only >/etc/issue'"),
    ("first_boot", "first_boot.announce = 'logger first start'"),
];

/// What is changed one step further, over a change that has to be there first: each is another file again, or refused.
const FURTHER: [(&str, &str, &str); 11] = [
    ("keyboard", "keyboard = 'ch'", "keyboard = 'ch(fr)'"),
    (
        "key",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable' }",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable', key = 'http://packages.gannet.example/key.asc' }",
    ),
    (
        "mtu",
        "network.interfaces.b = { bond = ['a'], addresses = ['dhcp'] }\nnetwork.interfaces.a = { device = 'eno1' }",
        "network.interfaces.b.mtu = 9000",
    ),
    (
        "on",
        "network.interfaces = { a = { device = 'eno1' }, c = { device = 'eno2' }, b = { vlan = '30', on = 'a', addresses = ['dhcp'] } }",
        "network.interfaces.b.on = 'c'",
    ),
    (
        "router",
        "network.interfaces.b = { bridge = ['a'], addresses = ['192.0.2.10/24'] }\nnetwork.interfaces.a = { device = 'eno1' }",
        "network.interfaces.b.router = '192.0.2.1'",
    ),
    (
        "key",
        "software.repositories.own = { url = 'http://packages.gannet.example/x' }",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', key = 'http://packages.gannet.example/key.asc' }",
    ),
    (
        "components",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable' }",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', suite = 'stable', components = ['contrib'] }",
    ),
    (
        "components",
        "software.repositories.own = { url = 'http://packages.gannet.example/x' }",
        "software.repositories.own = { url = 'http://packages.gannet.example/x', components = ['contrib'] }",
    ),
    ("boot_mode", "storage.volumes = [{ mount = '/', size = 'rest' }]", "storage.boot_mode = 'bios'"),
    ("at_end", "", "at_end = 'power-off'"),
    (
        "file_system",
        "storage.volumes = [{ mount = '/', size = '20G' }, { mount = '/srv', size = 'rest' }]",
        "storage.volumes = [{ mount = '/', size = '20G' }, { mount = '/srv', size = 'rest', file_system = 'vfat' }]",
    ),
];

/// Changes that mean what the format does by itself, so that the file stays as it is.
const SAME: [(&str, Family); 2] = [
    // One partition that takes the rest.
    ("storage.volumes = [{ mount = '/', size = 'rest' }]", Family::UnattendedXml),
    // Nothing is put on a disk, so nothing starts from one.
    ("storage.boot_mode = 'bios'", Family::CloudConfig),
];

/// What the layers come to in every format: whole files, or the places of what is refused.
fn all(layers: &[&str]) -> Vec<(Family, Result<String, Vec<Fault>>)> {
    let settings: Vec<_> = layers.iter().map(|text| finish("a change", text)).collect();
    let (subject, key) = (subject(), key());
    let of = |family: Family| {
        let mut all = settings.clone();
        if family == Family::UnattendedXml {
            // Set-up asks for an edition where none is said.
            all.insert(1, finish("edition", "software.edition = 'Plimsoll Server Standard'"));
        }
        let layers = all.iter().map(|settings| (Layer::Site, settings));
        let resolution = resolve(layers, &subject, &BTreeMap::new())?;
        let files = write(family, &resolution, &target(&subject, Some(&key), ""))?;
        Ok(files.into_iter().map(|file| file.text).collect())
    };
    FAMILIES.into_iter().map(|family| (family, of(family))).collect()
}

#[test]
fn whatever_is_changed_changes_the_file_or_is_refused() {
    let changes = CHANGES.iter().map(|(path, change)| (*path, "", *change));
    let mut lost = Vec::new();
    let mut refused = 0;
    for (path, before, change) in changes.chain(FURTHER) {
        for ((family, without), (_, with)) in
            all(&[BASE, before]).into_iter().zip(all(&[BASE, before, change]))
        {
            match (without, with) {
                (Ok(without), Ok(with)) if without == with && !SAME.contains(&(change, family)) => {
                    lost.push(format!("{path} in {family:?}: {change}"));
                }
                (_, Err(faults)) => {
                    refused += 1;
                    assert!(
                        faults.iter().all(|fault| !fault.place.is_empty() && !fault.fix.is_empty()),
                        "{faults:?}"
                    );
                }
                _ => {}
            }
        }
    }
    assert!(lost.is_empty(), "said, and not written:\n{}", lost.join("\n"));
    assert!(refused > 40, "the table of what formats lack refuses {refused} only");
}
