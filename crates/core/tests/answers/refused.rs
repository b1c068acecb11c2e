//! What does not fit together is refused before anything is written, with its place, what is wrong and what to do.

use super::*;

/// Settings over a base in which somebody may log in, the place of the fault, and a part of what is said.
const REFUSED: [(&str, &str, &str); 40] = [
    // Network.
    (
        "network.interfaces.a = { bridge = ['b'] }\nnetwork.interfaces.b = { bridge = ['a'] }",
        "network.interfaces",
        "made of each other",
    ),
    ("network.interfaces.a = { bridge = ['a'] }", "network.interfaces.a", "made of itself"),
    ("network.interfaces.a = { bond = ['x'] }", "network.interfaces.a", "no interface is named 'x'"),
    (
        "network.interfaces.x = { mac = '00:00:5e:00:53:01', addresses = ['dhcp'] }\nnetwork.interfaces.a = { bond = ['x'] }",
        "network.interfaces.a",
        "'x' has addresses and is part of 'a'",
    ),
    (
        "network.interfaces.a = { addresses = ['dhcp', '192.0.2.10/24'] }",
        "network.interfaces.a.addresses",
        "dhcp and fixed addresses at once",
    ),
    (
        "network.interfaces.a = { addresses = ['192.0.2.10/24'], router = '198.51.100.1' }",
        "network.interfaces.a.router",
        "198.51.100.1 is in none of its networks",
    ),
    (
        "network.interfaces.a = { addresses = ['dhcp'], router = '192.0.2.1' }",
        "network.interfaces.a.router",
        "in none of its networks",
    ),
    ("network.interfaces = { a = {}, b = {} }", "network.interfaces", "a and b all mean the NIC that boots"),
    ("network.interfaces.a = { bond_mode = '802.3ad' }", "network.interfaces.a.bond_mode", "it is no bond"),
    ("network.interfaces.a = { vlan = '30' }", "network.interfaces.a", "a VLAN needs `vlan` and `on`"),
    (
        "network.interfaces.a = { on = 'b' }\nnetwork.interfaces.b = {}",
        "network.interfaces.a",
        "a VLAN needs `vlan` and `on`",
    ),
    (
        "network.interfaces.a = { mac = '00:00:5e:00:53:01', device = 'eno1' }",
        "network.interfaces.a",
        "mac and device at once",
    ),
    (
        "network.interfaces.a = { vlan = '4095', on = 'b' }\nnetwork.interfaces.b = {}",
        "network.interfaces.a.vlan",
        "no VLAN's tag",
    ),
    (
        "network.interfaces.a = { addresses = ['192.0.2.0/24'] }",
        "network.interfaces.a.addresses[0]",
        "the network itself or its broadcast address",
    ),
    (
        "network.interfaces.a = { addresses = ['192.0.2.255/24'] }",
        "network.interfaces.a.addresses[0]",
        "broadcast address",
    ),
    (
        "network.interfaces.a = { addresses = ['192.0.2.10'] }",
        "network.interfaces.a.addresses[0]",
        "no address with its prefix length",
    ),
    ("network.interfaces.a = { mtu = 500 }", "network.interfaces.a.mtu", "less than 576 bytes"),
    (
        "network.interfaces.a-name-too-long-here = {}",
        "network.interfaces.a-name-too-long-here",
        "cannot be an interface's name",
    ),
    ("network.dns = ['ns.gannet.example']", "network.dns[0]", "no IPv4 address"),
    // Disks.
    ("storage.mirror = true", "storage.mirror", "0 of two disks are named"),
    (
        "storage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }",
        "storage.volumes",
        "what lies where",
    ),
    (
        "storage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sda' } }\nstorage.volumes = [{ mount = '/', size = 'rest', disk = 'a' }]",
        "storage.disks.b",
        "the same disk as 'a'",
    ),
    (
        "storage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }\nstorage.volumes = [{ mount = '/', size = 'rest' }]",
        "storage.volumes[0].disk",
        "not said which disk / lies on",
    ),
    (
        "storage.volumes = [{ mount = '/', size = 'rest', disk = 'x' }]",
        "storage.volumes[0].disk",
        "no disk is named 'x'",
    ),
    (
        "storage.mirror = true\nstorage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }\nstorage.volumes = [{ mount = '/', size = 'rest', disk = 'a' }]",
        "storage.volumes[0].disk",
        "mirrored volumes lie on both disks",
    ),
    (
        "storage.volumes = [{ mount = '/', size = '8G' }, { mount = '/', size = '9G' }]",
        "storage.volumes[1].mount",
        "/ is there twice",
    ),
    (
        "storage.volumes = [{ mount = '/', size = 'rest' }, { mount = '/srv', size = 'rest' }]",
        "storage.volumes[1].size",
        "the rest of one disk",
    ),
    ("storage.volumes = [{ mount = '/srv', size = 'rest' }]", "storage.volumes", "no place for the system"),
    (
        "storage.volumes = [{ mount = '/../etc', size = 'rest' }]",
        "storage.volumes[0].mount",
        "nowhere to mount",
    ),
    ("storage.volumes = [{ mount = '/', size = '0G' }]", "storage.volumes[0].size", "no size"),
    (
        "storage.volumes = [{ mount = '/', size = 'rest' }, { mount = 'swap', size = '1G', file_system = 'xfs' }]",
        "storage.volumes[1].file_system",
        "swap space has none",
    ),
    (
        "storage.disks.a = { device = '/dev/sda', model = 'Puffin' }",
        "storage.disks.a",
        "names a device and describes one",
    ),
    ("storage.never = [{ prefer = 'large', model = 'x' }]", "storage.never[0]", "excludes none"),
    ("storage.encrypt = { plain = 'ends in a backslash\\\\' }", "storage.encrypt", "ends in a backslash"),
    (
        "storage.encrypt = { hash = '$6$abcdefgh$abcdefghijklmnop' }",
        "storage.encrypt",
        "a hash opens no disk",
    ),
    // Names and texts.
    ("host_name = '{{ details.rack }}-{{ nmae }}'", "host_name", "nmae"),
    ("host_name = 'a_b'", "host_name", "a_b"),
    ("keyboard = 'ch fr'", "keyboard", "no keyboard layout"),
    (
        "users.purser.full_name = 'with: a colon'",
        "users.purser.full_name",
        "cannot stand in the list of users",
    ),
    ("time_zone = 'Europe/Olso'", "time_zone", "in no time zone database"),
];

/// What is wrong with settings, whether it is found when they are entered or when they come to one machine.
fn faults(toml: &str) -> Vec<Fault> {
    let base = finish("base", "users.purser.password = { sealed = 'tern bay at dusk' }");
    let draft: Settings<PasswordInput> =
        toml::from_str(toml).unwrap_or_else(|error| panic!("{toml}: {error}"));
    let change = match draft.finish(kept) {
        Ok(change) => change,
        Err(faults) => return faults,
    };
    let layers = [(Layer::Site, &base), (Layer::Label("gate".into()), &change)];
    resolve(layers, &subject(), &BTreeMap::new()).err().unwrap_or_default()
}

#[test]
fn what_does_not_fit_together_is_named_with_its_place_and_fix() {
    for (toml, place, what) in REFUSED {
        let found = faults(toml);
        let fits = |fault: &&Fault| fault.place == place && fault.what.contains(what);
        let fault = found
            .iter()
            .find(fits)
            .unwrap_or_else(|| panic!("{toml}\nis to be refused at {place}: {what}; is {found:#?}"));
        assert!(!fault.fix.is_empty(), "{fault:?} says not what to do");
    }
    assert_eq!(faults(""), []);
}

#[test]
fn who_made_a_value_is_named_with_what_is_wrong_with_it() {
    let found = faults("network.interfaces.a = { addresses = ['192.0.2.10/24'], router = '198.51.100.1' }");
    assert!(found[0].what.ends_with("(from label gate)"), "{}", found[0].what);
}

/// What set-up has no word for, or asks a person about where it is left open.
#[test]
fn what_unattended_set_up_has_no_word_for_is_refused() {
    let whole = "locale = 'de_DE.UTF-8'\nkeyboard = 'de'\ntime_zone = 'Europe/Berlin'\nhost_name = 'chart-7'\n\
        users.purser.password = { sealed = 'tern bay at dusk' }\nsoftware.edition = 'x'\n";
    let subject = subject();
    let found = |change: &str| {
        let layers = [finish("whole", whole), finish("change", change)];
        let layers = layers.iter().map(|settings| (Layer::Site, settings));
        let resolution =
            resolve(layers, &subject, &BTreeMap::new()).unwrap_or_else(|faults| panic!("{faults:#?}"));
        write(Family::UnattendedXml, &resolution, &target(&subject, None, "")).err().unwrap_or_default()
    };
    assert_eq!(found(""), []);
    for (change, place) in [
        ("locale = 'C.UTF-8'", "locale"),
        ("keyboard = 'us(workman)'", "keyboard"),
        ("time_zone = 'Antarctica/Troll'", "time_zone"),
        ("without = ['software.edition']", "software.edition"),
        ("host_name = 'chart-workstation-7'", "host_name"),
        (
            "storage.volumes = [{ mount = 'C:', size = 'rest' }, { mount = 'D:', size = '8G' }]",
            "storage.volumes[0]",
        ),
        ("users.purser.password = { plain = 'kept as a hash' }", "users.purser.password"),
    ] {
        let faults = found(change);
        assert!(
            faults.iter().any(|fault| fault.place == place && !fault.fix.is_empty()),
            "{change}: {faults:#?}"
        );
    }
}

/// Nobody could log in to what would be installed.
#[test]
fn settings_by_which_nobody_could_log_in_are_refused_in_every_format() {
    let nobody = finish("nobody", "users.clerk.full_name = 'Clerk'\nsoftware.edition = 'x'");
    let subject = subject();
    for family in FAMILIES {
        let resolution = resolve([(Layer::Site, &nobody)], &subject, &BTreeMap::new()).unwrap();
        let faults = write(family, &resolution, &target(&subject, None, "")).unwrap_err();
        assert!(faults.iter().any(|fault| fault.what == "nobody could log in"), "{family:?}: {faults:#?}");
    }
}
