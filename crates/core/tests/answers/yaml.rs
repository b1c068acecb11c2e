//! Autoinstall and cloud-config: read by another parser, held against their schemas, and read by the programs that act on
//! their parts.

use super::*;

/// YAML as another implementation reads it, that of the installers, as JSON.
pub(crate) fn yaml(text: &str) -> serde_json::Value {
    let program = "import sys,yaml,json; print(json.dumps(yaml.safe_load(sys.stdin.read())))";
    let (ok, said) = run("/usr/bin/python3", &["-c", program], text);
    assert!(ok, "{said}\n{text}");
    serde_json::from_str(&said).unwrap()
}

/// Every case of a family, with its file read.
fn cases(family: Family) -> impl Iterator<Item = (&'static str, serde_json::Value)> {
    let cases = MATRIX.iter().filter(move |(_, families)| families.contains(&family));
    cases.map(move |(case, _)| {
        let text = main_text(case, family);
        assert!(text.starts_with("#cloud-config\n"), "{case}");
        (*case, yaml(&text))
    })
}

pub(crate) fn schema() -> jsonschema::Validator {
    jsonschema::draft202012::new(&serde_json::from_str(include_str!("autoinstall.schema.json")).unwrap())
        .unwrap()
}

#[test]
fn autoinstall_has_the_published_shape() {
    let schema = schema();
    for (case, read) in cases(Family::Autoinstall) {
        let wrong: Vec<String> =
            schema.iter_errors(&read).map(|error| format!("{}: {error}", error.instance_path())).collect();
        assert!(wrong.is_empty(), "{case}: {wrong:#?}");
        let Some(actions) = read["autoinstall"]["storage"]["config"].as_array() else { continue };
        let mut ids: Vec<&str> = Vec::new();
        for action in actions {
            // What an action refers to came before it.
            let one = ["device", "volume", "volgroup"].iter().filter_map(|key| action.get(key)?.as_str());
            let many = action.get("devices").and_then(|of| of.as_array()).into_iter().flatten();
            for of in one.chain(many.filter_map(serde_json::Value::as_str)) {
                assert!(ids.contains(&of), "{case}: {action} refers to what is not there");
            }
            let id = action["id"].as_str().unwrap();
            assert!(!ids.contains(&id), "{case}: {id} is there twice");
            ids.push(id);
        }
    }
    let mut broken = yaml(&main_text("quay", Family::Autoinstall));
    broken["autoinstall"]["keyboard"]["layout"] = false.into();
    assert!(!schema.is_valid(&broken), "it would find a layout that was read as false");
}

/// What YAML 1.1 takes for something else stands in quotes: a layout `no`, an address that could be a number to base 60.
#[test]
fn no_text_is_taken_for_something_else() {
    let odd = [
        "no",
        "yes",
        "on",
        "y",
        "null",
        "~",
        "0x1f",
        "1_000",
        "1e3",
        "0o17",
        "017",
        "2026-11-28",
        ".inf",
        "=",
        "<<",
    ];
    for text in odd {
        let toml = format!(
            "host_name = 'x'\n[users.purser]\nfull_name = '{text}'\npassword = {{ plain = 'tern bay at dusk' }}\n"
        );
        let settings = finish(text, &toml);
        let subject = subject();
        let resolution = resolve([(Layer::Site, &settings)], &subject, &BTreeMap::new()).unwrap();
        for family in [Family::Autoinstall, Family::CloudConfig] {
            let file = &write(family, &resolution, &target(&subject, None, "")).unwrap()[0].text;
            let read = yaml(file);
            let users = if family == Family::Autoinstall {
                &read["autoinstall"]["user-data"]["users"]
            } else {
                &read["users"]
            };
            assert_eq!(users[0]["gecos"], text, "{file}");
        }
    }
    assert_eq!(yaml(&main_text("quay", Family::Autoinstall))["autoinstall"]["keyboard"]["layout"], "no");
    let digits = finish(
        "digits",
        "[users.a]\npassword = { plain = 'tern bay at dusk' }\n[network.interfaces]\nlan = { mac = '10:20:30:40:50:59', addresses = ['dhcp'] }\n",
    );
    let subject = subject();
    let resolution = resolve([(Layer::Site, &digits)], &subject, &BTreeMap::new()).unwrap();
    let file = &write(Family::Autoinstall, &resolution, &target(&subject, None, "")).unwrap()[0].text;
    assert_eq!(
        yaml(file)["autoinstall"]["network"]["ethernets"]["lan"]["match"]["macaddress"],
        "10:20:30:40:50:59"
    );
    // Parts of people's own mean what they mean to the installer's reader.
    let deck = yaml(&main_text("deck", Family::CloudConfig));
    assert_eq!(deck["package_update"], true);
    assert_eq!(deck["write_files"][0]["permissions"], "0644");
    assert_eq!(deck["write_files"][0]["content"], "deck: on\n");
}

/// cloud-init's own check of what it is given: of a live host's file, and of the part that an installed one starts with.
#[test]
fn cloud_init_takes_what_is_for_it() {
    let modules = witness("root/usr/lib/python3/dist-packages");
    let check = |name: &str, config: &serde_json::Value| {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config");
        fs::write(&path, format!("#cloud-config\n{config}\n")).unwrap();
        let path = path.to_str().unwrap();
        let program = "import sys; sys.path.insert(0, sys.argv[1]); sys.argv = ['cloud-init', 'schema', '--config-file', sys.argv[2]]; \
            from cloudinit.cmd.main import main; sys.exit(main())";
        let (ok, said) = run("/usr/bin/python3", &["-c", program, &modules, path], "");
        (ok, format!("{name}: {said}\n{config}"))
    };
    let live = cases(Family::CloudConfig);
    let installed =
        cases(Family::Autoinstall).map(|(case, read)| (case, read["autoinstall"]["user-data"].clone()));
    for (case, config) in live.chain(installed) {
        let (ok, said) = check(case, &config);
        assert!(ok && said.contains("Valid cloud-config"), "{said}");
    }
    let (ok, said) =
        check("broken", &serde_json::json!({ "users": [{ "name": "a", "lock_passwd": "maybe" }] }));
    assert!(!ok, "it would find a broken one: {said}");
}

/// netplan makes of the network what the answers say.
#[test]
fn netplan_reads_the_network() {
    let generate = witness("root/usr/libexec/netplan/generate");
    let libraries = witness("root/usr/lib/x86_64-linux-gnu");
    let made = |network: &serde_json::Value, file: &str| {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("etc/netplan");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("it.yaml"), serde_json::json!({ "network": network }).to_string()).unwrap();
        let environment = format!("LD_LIBRARY_PATH={libraries}");
        let (ok, said) =
            run("env", &[&environment, &generate, "--root-dir", dir.path().to_str().unwrap()], "");
        assert!(ok, "{said}\n{network}");
        let text = fs::read_to_string(dir.path().join("run/systemd/network").join(file)).unwrap_or_default();
        let (file, lines): (String, Vec<String>) = (file.into(), text.lines().map(str::to_owned).collect());
        move |line: &str| assert!(lines.iter().any(|has| has == line), "{file} lacks '{line}': {lines:#?}")
    };
    let network = |case: &str| yaml(&main_text(case, Family::Autoinstall))["autoinstall"]["network"].clone();
    let quay = network("quay");
    let vlan = made(&quay, "10-netplan-quay.network");
    for line in ["Address=192.0.2.10/24", "Gateway=192.0.2.1", "DNS=192.0.2.3", "DNS=192.0.2.4"] {
        vlan(line);
    }
    made(&quay, "10-netplan-quay.netdev")("Id=30");
    let bond = made(&quay, "10-netplan-bond0.netdev");
    ["Mode=802.3ad", "MTUBytes=9000"].iter().for_each(|line| bond(line));
    let second = made(&quay, "10-netplan-second.network");
    ["PermanentMACAddress=00:00:5e:00:53:02", "Bond=bond0"].iter().for_each(|line| second(line));
    let bridge = made(&network("halyard"), "10-netplan-br0.network");
    // Its own name servers, and not those of DHCP.
    ["DHCP=ipv4", "DNS=192.0.2.3", "UseDNS=false"].iter().for_each(|line| bridge(line));
    made(&network("halyard"), "10-netplan-eno1.network")("Bridge=br0");
}

/// The installer takes the text of a repository's key, not its URL: an early command puts it into the installer's own copy.
#[test]
fn keys_of_repositories_are_put_into_the_installers_own_copy() {
    let read = yaml(&main_text("halyard", Family::Autoinstall));
    let dir = tempfile::tempdir().unwrap();
    let (copy, key) = (dir.path().join("autoinstall.yaml"), dir.path().join("key.asc"));
    fs::write(&key, "-----BEGIN PGP PUBLIC KEY BLOCK-----\ninvented: yes\n").unwrap();
    let command = read["autoinstall"]["early-commands"][1].as_str().unwrap();
    let command = command
        .replace("/autoinstall.yaml", copy.to_str().unwrap())
        .replace("https://packages.gannet.example/key.asc", &format!("file://{}", key.display()))
        .replacen("python3", "/usr/bin/python3", 1);
    // With and without the head that the data source has.
    for whole in [read.clone(), read["autoinstall"].clone()] {
        fs::write(&copy, whole.to_string()).unwrap();
        let (ok, said) = run("sh", &["-c", &command], "");
        assert!(ok, "{said}");
        let then = yaml(&fs::read_to_string(&copy).unwrap());
        let then = then.get("autoinstall").unwrap_or(&then);
        let source = &then["apt"]["sources"]["gannet.list"];
        assert_eq!(source["key"], fs::read_to_string(&key).unwrap());
        assert_eq!(source["source"], "deb https://packages.gannet.example/debian stable main contrib");
        assert!(schema().is_valid(&serde_json::json!({ "autoinstall": then })));
    }
    fs::remove_file(&key).unwrap();
    assert!(!run("sh", &["-c", &command], "").0, "a key that is not there ends the install, and says so");
}
