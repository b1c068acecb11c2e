//! Subnets as machines meet them: a packaged DHCP client on virtual wires, relays, other servers, addresses in use.

use std::{net::Ipv4Addr, time::Duration};

use lastmile_formats::dhcp::code;
use lastmile_sim::{ForeignServer, Relay};

use crate::support::{
    background::Background,
    need,
    netns::Netns,
    service::Service,
    udhcpc::{Running, address, ask, told, try_ask},
    wait_for,
};

pub(super) const MAC: &str = "02:00:5e:00:53:aa";
const PXE: [&str; 4] = ["-V", "PXEClient:Arch:00007:UNDI:003000", "-x", "0x5d:0007"];

/// A service on a bridge, and a client on it.
pub(super) fn quay(what: &str) -> (Netns, Netns) {
    let server = Netns::new(&format!("{what}-s"));
    server.bridge("quay0", "192.0.2.2/24");
    let client = host(&server, &format!("{what}-c"), MAC);
    (server, client)
}

/// Another host on the bridge.
fn host(server: &Netns, what: &str, mac: &str) -> Netns {
    let host = Netns::new(what);
    server.hang("quay0", &host, "eth0");
    host.run(&format!("ip link set eth0 address {mac}"));
    host
}

pub(super) fn start<'a>(server: &'a Netns, settings: &[&str]) -> Service<'a> {
    let service = Service::start(Some(server), "interfaces = ['quay0']", 8480);
    let base = ["subnet", "add", "quay-lab", "192.0.2.0/24", "--interface", "quay0"];
    service.run(&[&base, settings].concat());
    service
}

/// The state of an address in the subnet's leases.
fn lease_state(service: &Service<'_>, address: &str) -> Option<String> {
    let leases = service.json(&["subnet", "leases", "quay-lab"]);
    let state = leases.as_array().unwrap().iter().find(|lease| lease["address"] == address)?["state"].clone();
    Some(state.as_str().unwrap().to_owned())
}

#[test]
fn an_address_that_somebody_has_by_hand_is_found_before_it_is_offered() {
    let (server, client) = quay("inuse");
    let squatter = host(&server, "inuse-x", "02:00:5e:00:53:bb");
    squatter.run("ip address add 192.0.2.100/24 dev eth0");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.101"]);
    let folder = tempfile::tempdir().unwrap();
    // It asks for the very address.
    let got = address(&ask(&client, folder.path(), &["-r", "192.0.2.100"]));
    assert_eq!(got, "192.0.2.101");
    assert_eq!(lease_state(&service, "192.0.2.100").as_deref(), Some("quarantined"));
    let trace = service.run(&["trace", MAC, "--all"]);
    assert!(trace.contains("192.0.2.100 is in use by 02:00:5e:00:53:bb"), "{trace}");
    let picture = service.run(&["subnet", "picture", "quay-lab"]);
    assert!(
        picture.contains("192.0.2.100  quarantined") && picture.contains("192.0.2.101  leased"),
        "{picture}"
    );
    let (code, check) = service.fail(&["check"]);
    assert_eq!(code, 1, "there is no loader");
    assert!(check.is_empty());
    // Tried, it stays as it is.
    let tried = service.run(&["subnet", "free", "quay-lab", "192.0.2.100", "--dry-run"]);
    assert!(tried.contains("could be freed") && tried.contains("Dry run"), "{tried}");
    assert!(service.run(&["subnet", "picture", "quay-lab"]).contains("192.0.2.100  quarantined"));
    let (_, said) = service.fail(&["subnet", "free", "quay-lab", "192.0.2.150", "--dry-run"]);
    assert!(said.contains("no lease is named '192.0.2.150'"), "{said}");
    // Freed by hand, and with the squatter gone, it is lent again.
    drop(squatter);
    service.run(&["subnet", "free", "quay-lab", "192.0.2.100", "--yes"]);
    let other = host(&server, "inuse-y", "02:00:5e:00:53:cc");
    assert_eq!(address(&ask(&other, folder.path(), &[])), "192.0.2.100");
}

#[test]
fn without_the_probe_the_client_declines_and_gets_another() {
    let (server, client) = quay("decl");
    let squatter = host(&server, "decl-x", "02:00:5e:00:53:bb");
    squatter.run("ip address add 192.0.2.100/24 dev eth0");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.101", "--probe", "no"]);
    let folder = tempfile::tempdir().unwrap();
    // `-a`: the client tries for the address itself before it takes it.
    let got = address(&ask(&client, folder.path(), &["-r", "192.0.2.100", "-a"]));
    assert_eq!(got, "192.0.2.101");
    assert_eq!(lease_state(&service, "192.0.2.100").as_deref(), Some("quarantined"));
    let trace = service.json(&["trace", MAC]);
    let cases: Vec<_> =
        trace["diagnoses"].as_array().unwrap().iter().map(|found| found["case"].clone()).collect();
    assert_eq!(cases, ["address-in-use"], "{trace}");
}

#[test]
fn a_lease_is_renewed_and_given_back() {
    let (server, client) = quay("renew");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.110", "--lease-secs", "600"]);
    let folder = tempfile::tempdir().unwrap();
    let running = Running::start(&client, folder.path(), &["-R"]);
    let until = |service: &Service<'_>| {
        service.json(&["subnet", "leases", "quay-lab"])[0]["until"].as_str().unwrap().to_owned()
    };
    let first = until(&service);
    let leased = service.json(&["subnet", "leases", "quay-lab"])[0]["address"].as_str().unwrap().to_owned();
    // The client renews from its address.
    client.run(&format!("ip address add {leased}/24 dev eth0"));
    std::thread::sleep(Duration::from_millis(1100));
    running.signal("USR1");
    running.wait_for_step("renew");
    wait_for("the renewal", Duration::from_secs(5), || (until(&service) > first).then_some(()));
    running.signal("USR2");
    wait_for("the release", Duration::from_secs(5), || {
        (lease_state(&service, &leased).as_deref() == Some("released")).then_some(())
    });
}

#[test]
fn reservations_go_by_mac_client_id_and_uuid_and_options_are_told() {
    let (server, client) = quay("resv");
    let service = start(
        &server,
        &[
            "--pool",
            "192.0.2.100-192.0.2.110",
            "--option",
            "interface-mtu=1400",
            "--option",
            "224=text:berth-4",
        ],
    );
    service.run(&["machine", "add", "auklet-chart", "--mac", MAC, "--option", "interface-mtu=1300"]);
    let folder = tempfile::tempdir().unwrap();
    let asks =
        |options: &[&str]| ask(&client, folder.path(), &[&["-O", "mtu", "-O", "224"], options].concat());
    let all = asks(&[]);
    // The machine's own option goes before the subnet's.
    assert_eq!(told(&all, "mtu").as_deref(), Some("1300"), "{all}");
    assert_eq!(told(&all, "opt224").as_deref(), Some("62657274682d34"), "{all}");
    let identifier = ["-x", "0x3d:0071756179"];
    let uuid = ["-x", "0x61:00112233445566778899aabbccddeeff00"];
    service.run(&["subnet", "reserve", "quay-lab", "192.0.2.21", "id:0071756179"]);
    service.run(&[
        "subnet",
        "reserve",
        "quay-lab",
        "192.0.2.22",
        "uuid:11223344-5566-7788-99aa-bbccddeeff00",
    ]);
    assert_eq!(address(&asks(&identifier)), "192.0.2.21");
    assert_eq!(address(&asks(&uuid)), "192.0.2.22");
    service.run(&["subnet", "reserve", "quay-lab", "192.0.2.20", MAC]);
    assert_eq!(address(&asks(&uuid)), "192.0.2.20", "the MAC address counts first");
    let (_, said) = service.fail(&["subnet", "reserve", "quay-lab", "192.0.2.105", MAC]);
    assert!(said.contains("in the pool") && said.contains("exclusions first"), "{said}");
    let reservations = service.run(&["subnet", "reservations", "quay-lab"]);
    assert!(reservations.contains("auklet-chart"), "{reservations}");
    service.run(&["subnet", "unreserve", "quay-lab", "192.0.2.20", "--yes"]);
    assert_eq!(service.json(&["subnet", "reservations", "quay-lab"]).as_array().unwrap().len(), 2);
}

#[test]
fn only_known_machines_are_answered_where_that_is_said_and_late_where_that_is() {
    let (server, client) = quay("known");
    let pool = ["--pool", "192.0.2.100-192.0.2.110", "--newcomers", "unanswered", "--head-start-ms", "700"];
    let service = start(&server, &pool);
    let folder = tempfile::tempdir().unwrap();
    assert!(try_ask(&client, folder.path(), &[]).is_err(), "a newcomer was answered");
    let newcomers = service.run(&["machine", "newcomers"]);
    assert!(
        newcomers.contains(MAC) && newcomers.contains("answers only machines that are registered"),
        "{newcomers}"
    );
    service.run(&["machine", "add", "auklet-chart", "--mac", MAC]);
    ask(&client, folder.path(), &["-T", "3"]);
    let trace = service.json(&["trace", "auklet-chart"]);
    let lines = trace["lines"].as_array().unwrap();
    assert!(lines.iter().any(|line| line["got"].as_str().unwrap().starts_with("DHCPACK")), "{trace}");
}

#[test]
fn a_relay_leads_across_a_routed_hop_and_addresses_there_are_tried_for() {
    let server = Netns::new("hop-s");
    let router = Netns::new("hop-r");
    server.join("core0", &router, "core1");
    server.run("ip address add 198.51.100.2/24 dev core0");
    router.run("ip address add 198.51.100.1/24 dev core1");
    router.bridge("quay0", "192.0.2.1/24");
    router.run("sysctl -qw net.ipv4.ip_forward=1");
    server.run("ip route add 192.0.2.0/24 via 198.51.100.1");
    let client = host(&router, "hop-c", MAC);
    let squatter = host(&router, "hop-x", "02:00:5e:00:53:bb");
    squatter.run("ip address add 192.0.2.100/24 dev eth0");
    squatter.run("ip route add default via 192.0.2.1");

    let service = Service::start(Some(&server), "interfaces = ['core0']", 8480);
    service.run(&[
        "subnet",
        "add",
        "quay-lab",
        "192.0.2.0/24",
        "--relay",
        "192.0.2.1",
        "--pool",
        "192.0.2.100-192.0.2.101",
        "--router",
        "192.0.2.1",
    ]);
    service.add_loader();
    service.run(&["machine", "add", "auklet-chart", "--mac", MAC, "--default-boot", "menu"]);
    let relay = router.inside(|| {
        let giaddr = Ipv4Addr::new(192, 0, 2, 1);
        Relay::open("quay0", giaddr, Ipv4Addr::new(198, 51, 100, 2), "berth-4/7").unwrap()
    });
    let _relay = Background::run(move |stop| relay.run(stop));
    let folder = tempfile::tempdir().unwrap();
    let all = ask(
        &client,
        folder.path(),
        &[&["-r", "192.0.2.100", "-T", "3", "-O", "bootfile"], PXE.as_slice()].concat(),
    );
    assert_eq!(address(&all), "192.0.2.101", "192.0.2.100 answers to ICMP through the router");
    assert_eq!(told(&all, "siaddr").as_deref(), Some("198.51.100.2"));
    let file = told(&all, "boot_file").or_else(|| told(&all, "bootfile"));
    assert!(file.is_some_and(|file| file.ends_with("signed-x64/shimx64.efi")), "{all}");
    let trace = service.run(&["trace", "auklet-chart"]);
    assert!(trace.contains("by relay 192.0.2.1, circuit berth-4/7"), "{trace}");
    assert!(trace.contains("192.0.2.100 is in use by somebody"), "{trace}");
    // A relay that no subnet names is left alone, and the trace says what to do.
    service.run(&["subnet", "change", "quay-lab", "--drop", "relays", "--append", "relays=192.0.2.9"]);
    assert!(try_ask(&client, folder.path(), &PXE).is_err());
    let trace = service.run(&["trace", "auklet-chart"]);
    assert!(trace.contains("--append relays=192.0.2.1`"), "{trace}");
    // What it says to do leaves the other relay, and leads there.
    service.run(&["subnet", "change", "quay-lab", "--append", "relays=192.0.2.1"]);
    assert_eq!(
        service.json(&["subnet", "show", "quay-lab"])["relays"],
        serde_json::json!(["192.0.2.9", "192.0.2.1"])
    );
    ask(&client, folder.path(), &[&["-T", "3"], PXE.as_slice()].concat());
}

#[test]
fn beside_another_server_only_the_boot_is_added() {
    let (server, client) = quay("proxy");
    let other = host(&server, "proxy-o", "02:00:5e:00:53:03");
    other.run("ip address add 192.0.2.3/24 dev eth0");
    let foreign = other.inside(|| {
        ForeignServer::open("eth0", Ipv4Addr::new(192, 0, 2, 3), Ipv4Addr::new(192, 0, 2, 90)).unwrap()
    });
    let _foreign = Background::run(move |stop| foreign.run(stop));
    let service = start(&server, &["--mode", "proxy"]);
    service.add_loader();
    service.run(&["machine", "add", "auklet-chart", "--mac", MAC, "--default-boot", "menu"]);
    let folder = tempfile::tempdir().unwrap();
    // An ordinary client has its address from the other server, and hears nothing from this one.
    let all = ask(&client, folder.path(), &[]);
    assert_eq!((address(&all), told(&all, "serverid").as_deref()), ("192.0.2.90".into(), Some("192.0.2.3")));
    assert!(service.json(&["subnet", "leases", "quay-lab"]).as_array().unwrap().is_empty());
    // Firmware is offered the boot by this one, without an address.
    let offers = firmware_offers(&client, PXE[1], 0x1234);
    let own =
        offers.iter().find(|offer| offer.siaddr == Ipv4Addr::new(192, 0, 2, 2)).expect("no offer of ours");
    assert!(own.yiaddr.is_unspecified());
    assert!(String::from_utf8_lossy(&own.file).ends_with("signed-x64/shimx64.efi"));
    assert_eq!(own.options.get(60), Some(b"PXEClient".as_slice()));
    assert_eq!(own.options.get(43), Some([6, 1, 8, 255].as_slice()));
    // Its request to the other server tells who has that address: files are served to it by that.
    ask(&client, folder.path(), &[]);
    client.run("ip address add 192.0.2.90/24 dev eth0");
    let menu = client.run("curl -s -m 10 tftp://192.0.2.2/grub/grub.cfg");
    assert!(menu.contains("auklet-chart is set to show the menu"), "{menu}");
    let check = service.run(&["check", "--all"]);
    assert!(check.contains("DHCP server 192.0.2.3 answers on this wire; it offered 192.0.2.90"), "{check}");
    let advice = service.run(&["subnet", "advice", "quay-lab"]);
    for part in
        ["loader/signed-x64/shimx64.efi", "port 4011", "option 93 is 7 or 9", "option 60      HTTPClient"]
    {
        assert!(advice.contains(part), "lacks {part:?}:\n{advice}");
    }
}

/// Asks as firmware does; gives every offer that came within a second and a half.
pub(super) fn firmware_offers(
    client: &Netns,
    class: &'static str,
    xid: u32,
) -> Vec<lastmile_formats::dhcp::Message> {
    use lastmile_formats::dhcp::{Kind, Message};
    client.inside(move || {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None).unwrap();
        socket.set_reuse_address(true).unwrap();
        socket.set_broadcast(true).unwrap();
        socket.bind_device(Some(b"eth0")).unwrap();
        socket.bind(&"0.0.0.0:68".parse::<std::net::SocketAddr>().unwrap().into()).unwrap();
        let socket: std::net::UdpSocket = socket.into();
        socket.set_read_timeout(Some(Duration::from_millis(1500))).unwrap();
        let mut message = Message::request(Kind::Discover, xid, MAC.parse().unwrap());
        message.set_broadcast();
        message.options.set(code::VENDOR_CLASS, class);
        socket.send_to(&message.emit(), "255.255.255.255:67").unwrap();
        let mut buffer = [0; 2048];
        let mut offers = Vec::new();
        while let Ok(length) = socket.recv(&mut buffer) {
            offers.extend(Message::parse(&buffer[..length]).ok().filter(|offer| offer.xid == xid));
        }
        offers
    })
}

#[test]
fn a_second_server_on_a_wire_of_ours_is_noticed_in_passing_and_when_asked_for() {
    let (server, client) = quay("rogue");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.110"]);
    service.add_loader();
    service.run(&["machine", "add", "auklet-chart", "--mac", MAC]);
    let clean = service.run(&["check", "--all"]);
    for part in
        ["no other DHCP server answered", "its digest is right", "the same came by HTTP", "self-test: menu"]
    {
        assert!(clean.contains(part), "lacks {part:?}:\n{clean}");
    }
    assert!(service.json(&["machine", "newcomers"]).as_array().unwrap().is_empty(), "the check left a trace");

    let other = host(&server, "rogue-o", "02:00:5e:00:53:03");
    other.run("ip address add 192.0.2.3/24 dev eth0");
    let foreign = other.inside(|| {
        ForeignServer::open("eth0", Ipv4Addr::new(192, 0, 2, 3), Ipv4Addr::new(192, 0, 2, 90)).unwrap()
    });
    let running = Background::run(move |stop| foreign.run(stop));
    let found = service.try_run(&["check"]);
    let said = String::from_utf8_lossy(&found.stdout).into_owned();
    assert_eq!(found.status.code(), Some(1));
    assert!(said.contains("fault    other servers: quay0") && said.contains("192.0.2.3"), "{said}");
    assert_eq!(firmware_offers(&client, PXE[1], 0x77).len(), 2);
    let trace = service.json(&["trace", "auklet-chart"]);
    let cases: Vec<_> =
        trace["diagnoses"].as_array().unwrap().iter().map(|found| found["case"].clone()).collect();
    assert_eq!(cases, ["second-server"], "{trace}");
    drop(running);
    let gone = service.run(&["check"]);
    assert!(gone.contains("DHCP server 192.0.2.3 was heard"), "{gone}");
}

#[test]
fn several_wires_of_one_host_have_each_their_own_address() {
    let server = Netns::new("many-s");
    server.bridge("quay0", "192.0.2.2/24");
    server.bridge("deck0", "203.0.113.2/24");
    let client = host(&server, "many-c", MAC);
    let on_deck = Netns::new("many-d");
    server.hang("deck0", &on_deck, "eth0");
    let service = Service::start(Some(&server), "interfaces = ['quay0', 'deck0']", 8480);
    for (name, wire, network, pool) in [
        ("quay-lab", "quay0", "192.0.2.0/24", "192.0.2.100-192.0.2.110"),
        ("deck", "deck0", "203.0.113.0/24", "203.0.113.100-203.0.113.110"),
    ] {
        service.run(&[
            "subnet",
            "add",
            name,
            network,
            "--interface",
            wire,
            "--pool",
            pool,
            "--newcomers",
            "menu",
        ]);
    }
    service.add_loader();
    let folder = tempfile::tempdir().unwrap();
    for (client, server, network) in
        [(&client, "192.0.2.2", "192.0.2."), (&on_deck, "203.0.113.2", "203.0.113.")]
    {
        let all = ask(client, folder.path(), &PXE);
        assert!(address(&all).starts_with(network), "{all}");
        assert_eq!(told(&all, "serverid").as_deref(), Some(server));
        assert_eq!(told(&all, "siaddr").as_deref(), Some(server));
        client.run(&format!("ip address add {}/24 dev eth0", address(&all)));
        let menu = client.run(&format!("curl -s -m 10 tftp://{server}/grub/grub.cfg"));
        assert!(menu.contains("newcomer"), "{menu}");
    }
    let suggested = service.run(&["subnet", "suggest", "deck0"]);
    assert!(
        suggested.contains("203.0.113.0/24") && suggested.contains("its address is fixed"),
        "{suggested}"
    );
}

#[test]
fn a_capture_is_read_by_a_standard_tool() {
    let (server, client) = quay("pcap");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.110", "--newcomers", "menu"]);
    service.add_loader();
    let folder = tempfile::tempdir().unwrap();
    let all = ask(&client, folder.path(), &PXE);
    client.run(&format!("ip address add {}/24 dev eth0", address(&all)));
    let mac = MAC.replace(':', "-");
    client.run(&format!("curl -s -m 10 -o /dev/null tftp://192.0.2.2/loader/{mac}/signed-x64/grubx64.efi"));
    client.run(&format!("curl -s -m 10 -o /dev/null http://192.0.2.2/loader/{mac}/signed-x64/shimx64.efi"));
    let file = folder.path().join("auklet.pcapng");
    service.run(&["trace", MAC, "--all", "--capture", file.to_str().unwrap()]);
    let tshark = need("/usr/bin/tshark", "tshark");
    let read = |filter: &str, field: &str| {
        let words = ["-r", file.to_str().unwrap(), "-Y", filter, "-T", "fields", "-e", field];
        let output = std::process::Command::new(&tshark).args(words).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let text = String::from_utf8(output.stdout).unwrap();
        text.lines().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(read("dhcp", "dhcp.option.dhcp"), ["1", "2", "3", "5"]);
    assert_eq!(read("dhcp.option.dhcp == 5", "dhcp.ip.your"), [address(&all)]);
    assert_eq!(
        read("tftp.opcode == 1", "tftp.source_file"),
        [format!("loader/{mac}/signed-x64/grubx64.efi")]
    );
    assert!(!read("tftp.opcode == 3", "tftp.block").is_empty());
    assert_eq!(read("http.request", "http.request.uri"), [format!("/loader/{mac}/signed-x64/shimx64.efi")]);
    assert_eq!(read("_ws.malformed && !tftp", "frame.number"), Vec::<String>::new());
    let comments = read("frame.comment", "frame.comment").join("\n");
    assert!(comments.contains("is a newcomer") && comments.contains("written from the record"), "{comments}");
}

#[test]
fn the_check_sees_a_firewall_that_shuts_machines_out() {
    let (server, _client) = quay("fire");
    let service = start(&server, &["--pool", "192.0.2.100-192.0.2.110"]);
    service.add_loader();
    need("/usr/sbin/nft", "nftables");
    server.run("nft add table inet filter");
    server.run("nft add chain inet filter input { type filter hook input priority 0 ; policy drop ; }");
    server.run("nft add rule inet filter input iif lo accept");
    server.run("nft add rule inet filter input udp dport { 67, 4011 } accept");
    let found = service.try_run(&["check"]);
    let said = String::from_utf8_lossy(&found.stdout).into_owned();
    assert!(said.contains("UDP port 69 (TFTP) is not let in") && !said.contains("UDP port 67"), "{said}");
    assert!(said.contains("nft insert rule inet filter input udp dport 69 accept"), "{said}");
    assert_eq!(found.status.code(), Some(1));
}
