//! A packaged DHCP client on a virtual wire, in network namespaces of the test's own.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod support;

use support::{
    need,
    netns::Netns,
    service::Service,
    udhcpc::{address, ask, try_ask},
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
    service.run(&[
        "subnet",
        "add",
        "quay-lab",
        "192.0.2.0/24",
        "--interface",
        "quay0",
        "--pool",
        "192.0.2.100-192.0.2.110",
        "--router",
        "192.0.2.1",
        "--dns",
        "192.0.2.53",
        "--domain",
        "gannet.example",
    ]);
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

    assert_eq!(status(leased, url), "200");
    assert_eq!(status(leased, &report), "200");
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");
    assert_eq!(status(leased, url), "403", "over is over");
}
