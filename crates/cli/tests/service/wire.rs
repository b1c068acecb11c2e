//! A packaged DHCP client on a virtual wire, in network namespaces of the test's own.

use crate::support::{
    need,
    netns::Netns,
    service::Service,
    udhcpc::{address, ask, told, try_ask},
};

const CLIENT_MAC: &str = "02:00:5e:00:53:aa";

/// Two hosts on one wire: the service, and a client without an address.
fn wire(what: &str) -> (Netns, Netns) {
    let server = Netns::new(&format!("{what}-s"));
    let client = Netns::new(&format!("{what}-c"));
    server.join("quay0", &client, "eth0");
    server.run("ip address add 192.0.2.2/24 dev quay0");
    client.run(&format!("ip link set eth0 address {CLIENT_MAC}"));
    (server, client)
}

fn start(server: &Netns) -> Service<'_> {
    let service = Service::start(Some(server), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&["--router", "192.0.2.1", "--dns", "192.0.2.53", "--domain", "gannet.example"]);
    service.run(&["machine", "add", "auklet-chart", "--mac", CLIENT_MAC]);
    service
}

#[test]
fn a_client_without_an_address_is_answered_by_unicast_and_by_broadcast() {
    let (server, client) = wire("dhcp");
    let service = start(&server);
    let folder = tempfile::tempdir().unwrap();
    // Without the broadcast flag the reply is a frame to the client's MAC address and its new IP address: the
    // client answers no ARP request yet, so only a packet socket can send it.
    let unicast = ask(&client, folder.path(), &[]);
    let broadcast = ask(&client, folder.path(), &["-B"]);
    for told in [&unicast, &broadcast] {
        for line in [
            "subnet=255.255.255.0",
            "router=192.0.2.1",
            "dns=192.0.2.53",
            "domain=gannet.example",
            "hostname=auklet-chart",
            "lease=28800",
            "serverid=192.0.2.2",
        ] {
            assert!(told.lines().any(|found| found == line), "lacks {line:?}:\n{told}");
        }
    }
    assert_eq!(address(&unicast), address(&broadcast), "the address stays with its client");
    let leases = service.json(&["subnet", "leases", "quay-lab"]);
    assert_eq!(leases[0]["address"], address(&unicast).as_str());
    assert_eq!(leases[0]["machine"], "auklet-chart");

    // Which of the two it was: with broadcasts dropped on the way in, only the reply by unicast arrives.
    need("/usr/sbin/nft", "nftables");
    client.run("nft add table netdev wire");
    client.run("nft add chain netdev wire in { type filter hook ingress device eth0 priority 0 ; }");
    client.run("nft add rule netdev wire in ether daddr ff:ff:ff:ff:ff:ff drop");
    assert_eq!(address(&ask(&client, folder.path(), &[])), address(&unicast));
    assert!(try_ask(&client, folder.path(), &["-B"]).is_err(), "a broadcast came through");
}

#[test]
fn a_wire_that_is_not_ours_gets_no_answer() {
    let (server, client) = wire("quiet");
    let service = start(&server);
    let folder = tempfile::tempdir().unwrap();
    ask(&client, folder.path(), &[]);

    // A second wire of the same host, on which no subnet is: silence.
    let other = Netns::new("quiet-o");
    server.join("office0", &other, "eth0");
    server.run("ip address add 198.51.100.2/24 dev office0");
    let busybox = need("/bin/busybox", "busybox-static");
    let asked = other
        .command(&busybox)
        .args(["udhcpc", "-i", "eth0", "-f", "-q", "-n", "-t", "2", "-T", "1", "-s", "/bin/true"])
        .output()
        .unwrap();
    assert!(!asked.status.success(), "an answer on a wire that is not ours");
    assert_eq!(service.json(&["subnet", "leases", "quay-lab"]).as_array().unwrap().len(), 1);
}

/// What curl gets from inside a namespace, from one of its addresses: the HTTP status, or the text.
fn curl(client: &Netns, words: &[&str]) -> String {
    let output =
        client.command(&need("/usr/bin/curl", "curl")).args(["-s", "-m", "10"]).args(words).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn a_line_of_a_menu_is_picked_from_its_machines_own_address_only() {
    let (server, client) = wire("pick");
    let service = start(&server);
    service.add_image();
    service.add_answers();
    let menu = service.write(
        "menu.toml",
        "title = 'Quay'\n[[entries]]\nkey = 'install'\ntitle = 'Install'\n\
         action = { image = { name = 'tidewrack-12', answers = 'quay-server' } }\n",
    );
    service.put("menu", "quay", &menu);
    service.run(&["machine", "change", "auklet-chart", "--set", "default_boot=menu", "--set", "menu=quay"]);
    let folder = tempfile::tempdir().unwrap();
    let leased = address(&ask(&client, folder.path(), &[]));
    client.run(&format!("ip address add {leased}/24 dev eth0"));
    client.run("ip address add 192.0.2.200/24 dev eth0");

    let path = format!("pick/{}/install.grub", CLIENT_MAC.replace(':', "-"));
    let armed = || service.json(&["install", "list"]).as_array().unwrap().len();
    let http = |from: &str| {
        let url = format!("http://192.0.2.2/{path}");
        curl(&client, &["--interface", from, "-o", "/dev/null", "-w", "%{http_code}", &url])
    };
    assert_eq!((http("192.0.2.200").as_str(), armed()), ("403", 0), "somebody else's address");
    assert_eq!(curl(&client, &["--interface", "192.0.2.200", &format!("tftp://192.0.2.2/{path}")]), "");
    assert_eq!(armed(), 0);
    assert_eq!((http(&leased).as_str(), armed()), ("200", 1));
    // A module that the menu only tries stops nothing; one that somebody named does.
    let module = |name: &str| {
        let url = format!("tftp://192.0.2.2/grub/x86_64-efi/{name}");
        assert_eq!(curl(&client, &["--interface", &leased, &url]), "");
        let trace = service.json(&["trace", "auklet-chart"]);
        let cases = trace["diagnoses"].as_array().unwrap().iter();
        cases.filter(|found| found["case"] == "file-not-found").count()
    };
    assert_eq!((module("regexp.mod"), module("zfs.mod")), (0, 1));
}

#[test]
fn an_application_that_was_handed_over_to_finds_its_files_by_its_own_paths() {
    let (server, client) = wire("app");
    let service = start(&server);
    let program = std::fs::read(need("/usr/lib/ipxe/snponly.efi", "ipxe")).unwrap();
    service.write("app/bootmgr.efi", program);
    for file in ["Boot/BCD", "Boot/Fonts/wgl4_boot.ttf", "sources/boot.wim"] {
        service.write(&format!("app/{file}"), format!("content of {file}"));
    }
    let folder = service.folder.path().join("app");
    let program = ["--kind", "firmware-app", "--program", "bootmgr.efi", "--cpu", "x64", "--wait", "--yes"];
    service
        .run(&[&["image", "add", folder.to_str().unwrap(), "--name", "bollard-pe"], &program[..]].concat());
    let leases = tempfile::tempdir().unwrap();
    let leased = address(&ask(&client, leases.path(), &[]));
    client.run(&format!("ip address add {leased}/24 dev eth0"));
    client.run("ip address add 192.0.2.200/24 dev eth0");

    let read = |from: &str, path: &str| {
        curl(&client, &["--path-as-is", "--interface", from, &format!("tftp://192.0.2.2/{path}")])
    };
    assert_eq!(read(&leased, "%5CBoot%5CBCD"), "", "it was handed over to nothing yet");
    let own = format!("boot/{}/bollard-pe/r1/bootmgr.efi", CLIENT_MAC.replace(':', "-"));
    let url = format!("http://192.0.2.2/{own}");
    let size = curl(&client, &["--interface", &leased, "-o", "/dev/null", "-w", "%{size_download}", &url]);
    assert!(size.parse::<u64>().unwrap() > 100_000, "{size}");
    for (asked, file) in [
        ("%5CBoot%5CBCD", "Boot/BCD"),
        ("boot/bcd", "Boot/BCD"),
        ("%5CBOOT%5CFONTS%5CWGL4_BOOT.TTF", "Boot/Fonts/wgl4_boot.ttf"),
        ("some/place/sources/boot.wim", "sources/boot.wim"),
    ] {
        assert_eq!(read(&leased, asked), format!("content of {file}"), "{asked}");
    }
    assert_eq!(read(&leased, "%5CBoot%5CBCD.LOG"), "", "what is not there");
    assert_eq!(read("192.0.2.200", "%5CBoot%5CBCD"), "", "somebody else was not handed over");
    let story = service.run(&["trace", "auklet-chart", "--all"]);
    assert!(story.contains("Boot/BCD of bollard-pe r1"), "{story}");
}

#[test]
fn firmware_that_names_itself_by_user_class_is_told_its_script() {
    let (server, client) = wire("class");
    let service = start(&server);
    let folder = tempfile::tempdir().unwrap();
    // Options 60, 77 and 93 as such firmware sends them; RFC 3004 class data without its length, as it does.
    let options = ["-V", "PXEClient:Arch:00007:UNDI:003010", "-x", "0x4d:69505845", "-x", "0x5d:0007"];
    let told_all = ask(&client, folder.path(), &options);
    let file = told(&told_all, "boot_file").unwrap_or_else(|| panic!("no boot file: {told_all}"));
    let dashed = CLIENT_MAC.replace(':', "-");
    assert_eq!(file, format!("http://192.0.2.2/script/{dashed}/menu.script"));
    client.run(&format!("ip address add {}/24 dev eth0", address(&told_all)));
    let script = curl(&client, &[&file]);
    assert!(script.starts_with("#!ipxe\n") && script.contains("auklet-chart"), "{script}");
    // The same firmware without that name, and without a loader here, gets an address only.
    let plain = ask(&client, folder.path(), &["-V", "PXEClient:Arch:00007:UNDI:003010", "-x", "0x5d:0007"]);
    assert_eq!(told(&plain, "boot_file"), None, "{plain}");
    assert!(!service.log().contains("panicked"));
}

#[test]
fn an_answer_file_is_read_from_its_machines_own_address_only() {
    let (server, client) = wire("token");
    let service = start(&server);
    service.add_image();
    service.add_answers();
    service.run(&["install", "arm", "auklet-chart", "--image", "tidewrack-12", "--answers", "quay-server"]);
    let folder = tempfile::tempdir().unwrap();
    let told = ask(&client, folder.path(), &[]);
    let leased = told.lines().find_map(|line| line.strip_prefix("ip=")).unwrap();
    client.run(&format!("ip address add {leased}/24 dev eth0"));
    client.run("ip address add 192.0.2.200/24 dev eth0");

    // The menu by TFTP is made for whoever holds the lease, and for nobody else.
    let menu = |from: &str| curl(&client, &["--interface", from, "tftp://192.0.2.2/grub/grub.cfg"]);
    assert_eq!(menu("192.0.2.200"), "");
    let own = menu(leased);
    let url =
        own.split_whitespace().find_map(|word| word.strip_prefix("url=")).unwrap_or_else(|| panic!("{own}"));
    let url = url.trim_end_matches(';');
    let status = |from: &str, url: &str| {
        curl(&client, &["--interface", from, "-o", "/dev/null", "-w", "%{http_code}", url])
    };
    assert_eq!(status("192.0.2.200", url), "403");
    let report = url.replace("/answers/", "/report/").replace("preseed.cfg", "done");
    assert_eq!(status("192.0.2.200", &report), "403");
    let steps = service.steps();
    assert!(!steps.iter().any(|step| step == "answers" || step == "done"), "{steps:?}");
    assert!(service.log().contains("the token is for another machine than 192.0.2.200"), "{}", service.log());

    // Who was refused is on the record, once, and everybody sees it.
    let shown = service.run(&["install", "show", "1"]);
    assert_eq!(shown.matches("asked for from 192.0.2.200, not the machine").count(), 1, "{shown}");
    assert!(service.run(&["install", "list"]).contains("refused elsewhere"));
    assert_eq!(status(leased, url), "200");
    assert_eq!(status(leased, &report), "200");
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");
    assert_eq!(status(leased, url), "403", "over is over");
}
