//! The service through its sockets: what it answers, what it refuses, how it starts and ends.

use std::{
    fs::{self, File},
    io::{Read, Write},
    net::{Ipv4Addr, SocketAddrV4, TcpStream, UdpSocket},
    os::unix::net::UnixDatagram,
    path::PathBuf,
    process::Command,
    time::{Duration, Instant},
};

use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, Op},
    mac::Mac,
    tftp::{ErrorCode, Packet},
};
use lastmile_server::Config;
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};

use crate::support::{
    need,
    netns::Netns,
    service::{LASTMILE, Service},
    site::{MAC, loopback, loopback_section},
    wait_for,
};

fn reached(first_port: u16) -> Reached {
    Reached {
        dhcp: format!("127.0.0.1:{first_port}").parse().unwrap(),
        tftp_port: first_port + 1,
        http_port: first_port + 2,
        link: "198.51.100.1".parse().unwrap(),
    }
}

fn machine(first_port: u16, mac: &str, architecture: Architecture) -> Machine {
    let identity = Identity { mac: mac.parse().unwrap(), architecture };
    Machine::new(identity, reached(first_port), Pace::FULL).unwrap()
}

async fn boot(first_port: u16, mac: &str, architecture: Architecture) -> Booted {
    machine(first_port, mac, architecture).boot(&mut |_| {}).await.unwrap()
}

#[tokio::test]
async fn an_install_survives_a_restart_in_mid_boot() {
    let mut service = loopback(22_000);
    service.fill();
    let kernel = boot(22_000, MAC, Architecture::UefiX64).await;
    let Booted::Kernel { address, parameters } = kernel else { panic!("{kernel:?}") };
    // Killed, not ended: what was seen so far is on record, and the lease is the same afterwards.
    assert!(!service.signal("KILL"));
    service.spawn();
    assert_eq!(service.json(&["install", "show", "1"])["state"], "booting");
    let computer = machine(22_000, MAC, Architecture::UefiX64);
    let system = computer.install(address, &parameters, &mut |_| {}).await.unwrap();
    assert_eq!(system.host_name, "auklet-chart");
    let install = service.json(&["install", "show", "1"]);
    assert_eq!(install["state"], "installed");
    let whole = "armed lease loader loader menu kernel initrd lease answers started done";
    assert_eq!(service.steps().join(" "), whole);
    assert_eq!(boot(22_000, MAC, Architecture::UefiX64).await, Booted::LocalDisk);
    let list = service.run(&["machine", "list"]);
    assert!(list.contains("tidewrack-12 r1"), "{list}");
    // Killed once more before the new system starts: what it says is taken, and held against what was expected.
    service.signal("KILL");
    service.spawn();
    computer.start(&system, &mut |_| {}).await.unwrap();
    let outcome = service.json(&["install", "show", "1"])["outcome"].clone();
    assert_eq!(outcome["actual"]["host_name"], "auklet-chart");
    assert_eq!(outcome["actual"]["address"], address.to_string());
    assert!(!service.run(&["machine", "list"]).contains("not as expected"));
}

#[tokio::test]
async fn an_install_that_never_ends_is_stopped() {
    let service = loopback(22_010);
    service.fill();
    for _ in 0..3 {
        let booted = boot(22_010, MAC, Architecture::UefiX64).await;
        assert!(matches!(booted, Booted::Kernel { .. }), "{booted:?}");
    }
    assert_eq!(boot(22_010, MAC, Architecture::UefiX64).await, Booted::LocalDisk);
    let install = service.json(&["install", "show", "1"]);
    assert_eq!((&install["state"], &install["kernel_fetches"]), (&"stalled".into(), &3.into()));
    assert_eq!(service.json(&["machine", "list"])[0]["stage"], "stalled");
}

#[tokio::test]
async fn firmware_without_a_loader_and_newcomers_get_an_address_only() {
    let service = loopback(22_020);
    service.fill();
    assert_eq!(boot(22_020, MAC, Architecture::Bios).await, Booted::NoLoader);
    let trace = service.run(&["machine", "show", "auklet-chart"]);
    assert!(trace.contains("no loader is there for bios firmware"), "{trace}");
    assert_eq!(boot(22_020, "00:00:5e:00:53:99", Architecture::UefiX64).await, Booted::NoLoader);
    service.run(&["subnet", "change", "holm-quay", "--set", "newcomers=menu"]);
    let menu = boot(22_020, "00:00:5e:00:53:99", Architecture::UefiX64).await;
    let Booted::Menu(entries) = menu else { panic!("{menu:?}") };
    assert!(entries.iter().all(|entry| !entry.contains("Install")), "{entries:?}");
}

#[tokio::test]
async fn a_token_is_for_its_install_and_shows_nowhere() {
    let service = loopback(22_030);
    service.fill();
    let kernel = boot(22_030, MAC, Architecture::UefiX64).await;
    let Booted::Kernel { address, parameters } = kernel else { panic!("{kernel:?}") };
    let url = parameters.iter().find_map(|word| word.strip_prefix("url=")).unwrap().to_owned();
    let token = url.split('/').nth(4).unwrap().to_owned();
    assert!(token.len() >= 43, "a token of 256 bits: {token}");
    let computer = machine(22_030, MAC, Architecture::UefiX64);
    computer.install(address, &parameters, &mut |_| {}).await.unwrap();
    // After the end the token opens nothing; a repeated report is taken and changes nothing.
    let status = |path: &str| http(22_032, path).lines().next().unwrap().to_owned();
    assert!(status(&format!("/answers/{token}/preseed.cfg")).contains("403"));
    assert!(status(&format!("/report/{token}/done")).contains("200"));
    assert!(status(&format!("/report/{token}/failed")).contains("200"));
    assert!(status("/report/guessed/done").contains("403"));
    assert_eq!(service.json(&["install", "show", "1"])["state"], "installed");
    for words in
        [["install", "show", "1"], ["machine", "show", "auklet-chart"], ["answers", "show", "quay-server"]]
    {
        let shown = service.run(&[&["--json"], words.as_slice()].concat());
        assert!(!shown.contains(&token) && !shown.contains("$6$"), "{words:?} shows a secret");
    }
    assert!(!service.log().contains(&token), "the log holds a token");
}

/// One plain HTTP/1.1 request; gives head and body.
fn http(port: u16, path: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).unwrap();
    String::from_utf8_lossy(&answer).into_owned()
}

#[test]
fn http_heads_are_spelled_as_small_clients_read_them() {
    let service = loopback(22_040);
    service.fill();
    let answer = http(22_042, "/loader/signed-x64/shimx64.efi");
    // GRUB 2.06 looks for exactly this.
    assert!(answer.contains("\r\nContent-Length: 3000\r\n"), "{}", &answer[..300]);
    assert!(http(22_042, "/loader/signed-x64/../../../etc/passwd").contains("400 Bad Request"));
    assert!(http(22_042, "/nothing").contains("404 Not Found"));
}

#[test]
fn curl_reads_by_tftp_and_is_refused_what_is_not_served() {
    let curl = need("/usr/bin/curl", "curl");
    let service = loopback(22_050);
    service.fill();
    let get = |arguments: &[&str], path: &str| {
        let output = Command::new(&curl)
            .args(["-s", "-S", "--path-as-is"])
            .args(arguments)
            .arg(format!("tftp://127.0.0.1:22051/{path}"))
            .output()
            .unwrap();
        (output.status.code().unwrap(), output.stdout, String::from_utf8_lossy(&output.stderr).into_owned())
    };
    for options in [&["--tftp-blksize", "1468"][..], &["--tftp-blksize", "8192"], &["--tftp-no-options"]] {
        let (code, file, said) = get(options, "loader/signed-x64/grubx64.efi");
        assert_eq!((code, file.len()), (0, 70_000), "{said}");
        assert!(file.iter().all(|byte| *byte == 2));
    }
    // Boot managers ask with back slashes and in any case.
    for name in ["loader/signed-x64/GRUBX64.EFI", "%5cloader%5csigned-x64%5cGrubX64.efi"] {
        let (code, file, said) = get(&[], name);
        assert_eq!((code, file.len()), (0, 70_000), "{name}: {said}");
    }
    assert_eq!(get(&[], "no-such-file").0, 68, "curl's code for: not found");
    assert_eq!(get(&[], "a/..%2f../etc/passwd").0, 69, "curl's code for: permission");
    let upload =
        Command::new(&curl).args(["-s", "-T", "/etc/hostname", "tftp://127.0.0.1:22051/x"]).output().unwrap();
    assert_eq!(upload.status.code(), Some(69), "a write is refused");
    let counters = service.json(&["status"])["counters"].clone();
    assert_eq!(counters["tftp_done"], 5);
    assert_eq!(counters["tftp_refused"], 3);
}

#[test]
fn any_bytes_to_any_port_are_counted_and_survived() {
    let service = loopback(22_060);
    service.fill();
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    let mut seed = 7_u64;
    let mut junk = |length: usize| -> Vec<u8> {
        let mut bytes = Vec::with_capacity(length);
        while bytes.len() < length {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            bytes.push((seed >> 33) as u8);
        }
        bytes
    };
    for length in (0..600).step_by(7) {
        let bytes = junk(length);
        for port in [22_060, 22_061] {
            socket.send_to(&bytes, ("127.0.0.1", port)).unwrap();
        }
    }
    // Packets of the right kind that no server may answer: replies, data, acknowledgements, errors.
    for packet in [
        Packet::Data { block: 1, data: b"x" }.emit(),
        Packet::Ack { block: 1 }.emit(),
        Packet::Error { code: ErrorCode::NotFound, message: "x".into() }.emit(),
    ] {
        socket.send_to(&packet, ("127.0.0.1", 22_061)).unwrap();
    }
    let mut buffer = [0; 2048];
    assert!(socket.recv_from(&mut buffer).is_err(), "an answer to what is not ours");
    let counters = service.json(&["status"])["counters"].clone();
    assert!(counters["dhcp_malformed"].as_u64().unwrap() >= 80, "{counters}");
    assert!(counters["tftp_malformed"].as_u64().unwrap() >= 80, "{counters}");
    // And it still works.
    assert!(http(22_062, "/loader/signed-x64/shimx64.efi").contains("200 OK"));
}

#[test]
fn it_starts_fast_tells_systemd_and_ends_cleanly() {
    let mut service = loopback(22_070);
    service.fill();
    for _ in 0..2 {
        assert!(service.signal("TERM"), "SIGTERM ends it well: {}", service.log());
        // All ports are free again at once.
        service.spawn();
    }
    assert!(service.signal("INT"));

    let notices = service.folder.path().join("notify");
    let socket = UnixDatagram::bind(&notices).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let began = Instant::now();
    // As systemd starts it: the process that is watched is named.
    let mut child = Command::new("/bin/sh")
        .args(["-c", "WATCHDOG_PID=$$ exec \"$@\"", "sh", LASTMILE, "serve", "--config"])
        .arg(service.folder.path().join("lastmile.toml"))
        .env("NOTIFY_SOCKET", &notices)
        .env("WATCHDOG_USEC", "900000")
        .spawn()
        .unwrap();
    let mut buffer = [0; 256];
    let mut notice = || {
        let length = socket.recv(&mut buffer).unwrap();
        String::from_utf8_lossy(&buffer[..length]).into_owned()
    };
    assert!(notice().contains("READY=1"));
    println!("ready after {:?}", began.elapsed());
    // And that it is alive, before it would be taken for hung.
    for _ in 0..3 {
        let since = Instant::now();
        assert!(notice().contains("WATCHDOG=1"));
        assert!(since.elapsed() < Duration::from_millis(900), "{:?}", since.elapsed());
    }
    Command::new("kill").args(["-s", "TERM", &child.id().to_string()]).status().unwrap();
    while !notice().contains("STOPPING=1") {}
    assert!(child.wait().unwrap().success());
}

/// Whoever boots finds a processor that people leave free.
#[test]
fn people_are_answered_on_half_of_the_processors() {
    let service = loopback(22_140);
    // Records are read on threads that are begun for it.
    service.run(&["install", "list"]);
    let tasks = PathBuf::from(format!("/proc/{}/task", service.id()));
    let threads: Vec<(String, usize, i64)> = fs::read_dir(tasks)
        .unwrap()
        .map(|task| {
            let task = task.unwrap().path();
            let read = |name: &str| fs::read_to_string(task.join(name)).unwrap();
            // Groups of hexadecimal digits, a bit a processor.
            let status = read("status");
            let mask = status.lines().find_map(|line| line.strip_prefix("Cpus_allowed:")).unwrap();
            let bits = mask.chars().filter_map(|digit| digit.to_digit(16)).map(u32::count_ones).sum::<u32>();
            // proc(5): the nineteenth field, the seventeenth after the name.
            let stat = read("stat");
            let nice = stat.rsplit(") ").next().unwrap().split(' ').nth(16).unwrap().parse().unwrap();
            (read("comm").trim().to_owned(), bits as usize, nice)
        })
        .collect();
    let all = std::thread::available_parallelism().unwrap().get();
    let (people, others): (Vec<_>, Vec<_>) = threads.iter().partition(|(name, ..)| name == "people");
    let half = if all == 1 { 1 } else { all / 2 };
    assert!(people.len() >= 2, "{threads:?}");
    assert!(people.iter().all(|(_, processors, nice)| (*processors, *nice) == (half, 15)), "{threads:?}");
    assert!(others.iter().all(|(_, processors, nice)| (*processors, *nice) == (all, 0)), "{threads:?}");
}

/// Rights that are lacking, and interfaces that go away for a while, are no failure of the service.
#[test]
fn what_it_cannot_hear_does_not_end_it() {
    let mut service = loopback(22_130);
    assert!(service.signal("TERM"));
    let log = File::options().append(true).open(service.log_path()).unwrap();
    let mut child = Command::new(need("/usr/bin/setpriv", "util-linux"))
        .args(["--bounding-set", "-net_raw", LASTMILE, "serve", "--config"])
        .arg(service.folder.path().join("lastmile.toml"))
        .stderr(log)
        .spawn()
        .unwrap();
    wait_for("the start without the right", Duration::from_secs(10), || {
        service.try_run(&["status"]).status.success().then_some(())
    });
    std::thread::sleep(Duration::from_millis(500));
    assert!(child.try_wait().unwrap().is_none(), "it ended: {}", service.log());
    child.kill().unwrap();
    child.wait().unwrap();

    let quay = Netns::new("unheard-s");
    let machines = Netns::new("unheard-m");
    quay.bridge("quay0", "192.0.2.2/24");
    quay.hang("quay0", &machines, "eth0");
    let service = Service::start(Some(&quay), "interfaces = ['quay0']", 8480);
    quay.run("ip link set quay0 down");
    wait_for("that it says so", Duration::from_secs(10), || {
        (service.log().matches("is not heard at the moment").count() >= 2).then_some(())
    });
    quay.run("ip link set quay0 up");
    std::thread::sleep(Duration::from_millis(1500));
    service.run(&["status"]);
    // And it hears again: another server, here by its offer to a machine.
    machines.run("ip address add 192.0.2.9/24 dev eth0");
    machines.inside(|| {
        let socket = UdpSocket::bind("0.0.0.0:67").unwrap();
        socket.set_broadcast(true).unwrap();
        let mut offer = Message::request(Kind::Offer, 7, Mac::new([2, 0, 0, 0, 0, 9]).unwrap());
        offer.op = Op::Reply;
        socket.send_to(&offer.emit(), (Ipv4Addr::new(192, 0, 2, 255), 68)).unwrap();
    });
    wait_for("that another server was heard", Duration::from_secs(10), || {
        service.log().contains("another DHCP server answers on this wire").then_some(())
    });
    assert!(!service.log().contains("to be started anew"), "{}", service.log());
}

#[test]
fn what_is_lacking_at_the_start_is_said_with_how_to_get_it() {
    let folder = tempfile::tempdir().unwrap();
    let start = |config: String| {
        let path = folder.path().join("lastmile.toml");
        std::fs::write(&path, config).unwrap();
        let output = Command::new(LASTMILE).args(["serve", "--config"]).arg(&path).output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        String::from_utf8(output.stderr).unwrap()
    };
    let data = format!("data_dir = '{}'\n", folder.path().join("data").display());
    let said = start(format!("{data}[boot]\ninterfaces = ['nosuch0']\n"));
    assert!(said.contains("there is no interface 'nosuch0'. There are: "), "{said}");
    let _taken = UdpSocket::bind("127.0.0.1:22081").unwrap();
    let said = start(format!("{data}[boot]\n{}\n", loopback_section(22_080)));
    assert!(said.contains("cannot listen on TFTP 127.0.0.1:22081"), "{said}");
    assert!(said.contains("Another program has port 22081"), "{said}");
    let said =
        start(format!("{data}[boot]\n{}\n[admin]\nlisten = '0.0.0.0:8480'\n", loopback_section(22_084)));
    assert!(said.contains("SSH tunnel"), "{said}");
    let said = start("data_dir = '/proc/nowhere'\n[boot]\ninterfaces = ['lo']\n".into());
    assert!(said.contains("cannot use the data folder /proc/nowhere"), "{said}");
}

#[test]
fn a_file_gone_from_the_library_is_named_and_not_served() {
    let mut service = loopback(22_090);
    service.fill();
    assert!(service.signal("TERM"));
    let image = service.folder.path().join("linux");
    let digest = Command::new("sha256sum").arg(&image).output().unwrap();
    let digest = String::from_utf8(digest.stdout).unwrap()[..64].to_owned();
    let kept = service.folder.path().join("data/content").join(&digest[..2]).join(&digest);
    std::fs::remove_file(kept).unwrap();
    service.spawn();
    let list = service.run(&["image", "list"]);
    assert!(list.contains("no: linux missing or changed"), "{list}");
    let plan = service.run(&["plan", "auklet-chart"]);
    assert!(plan.contains("tidewrack-12 r1 cannot be served: linux missing or changed"), "{plan}");
}

#[tokio::test]
async fn a_trace_is_followed_explained_and_laid_beside_another() {
    let service = loopback(22_100);
    service.fill();
    let nothing = service.run(&["trace", MAC]);
    assert!(nothing.contains("has left no trace"), "{nothing}");
    let mut follower = Command::new(LASTMILE)
        .args(["--server", service.server(), "--json", "trace", "auklet-chart", "--follow"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    // Listening before anything happens: what comes first is the first line.
    tokio::time::sleep(Duration::from_millis(500)).await;
    boot(22_100, MAC, Architecture::UefiX64).await;
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(follower.stdout.take().unwrap()));
    let mut seen = Vec::new();
    while !seen.iter().any(|asked: &String| asked.contains("initrd.gz")) {
        let line: serde_json::Value = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
        seen.push(line["asked"].as_str().unwrap().to_owned());
    }
    follower.kill().unwrap();
    follower.wait().unwrap();
    assert_eq!(seen[0], "DHCPDISCOVER from uefi-x64 firmware by relay 127.0.0.1, circuit simulated");
    assert!(seen.iter().any(|asked| asked.ends_with("tidewrack-12/r1/linux")), "{seen:?}");

    let other = "00:00:5e:00:53:77";
    service.run(&["machine", "add", "kittiwake-chart", "--mac", other]);
    assert_eq!(boot(22_100, other, Architecture::UefiArm64).await, Booted::NoLoader);
    let beside = service.json(&["trace", "kittiwake-chart", "--against", "auklet-chart"]);
    assert_eq!(
        (&beside["first_difference"], &beside["left"]["diagnoses"][0]["case"]),
        (&0.into(), &"no-loader".into())
    );
    let shown = service.run(&["trace", "kittiwake-chart", "--against", "auklet-chart"]);
    assert!(shown.contains(">>") && shown.contains("uefi-arm64 firmware asks to boot"), "{shown}");
    let options = service.run(&["trace", "kittiwake-chart", "--options"]);
    assert!(options.contains("machine: client-architecture (93) = 11 (uefi-arm64)"), "{options}");
    let (_, unknown) = service.fail(&["trace", "nobody"]);
    assert!(unknown.contains("no machine is named 'nobody'"), "{unknown}");
    // What is in the trace is nobody's secret.
    let all = service.run(&["--json", "trace", "auklet-chart", "--all", "--options"]);
    let log = service.log();
    let token = log.lines().find_map(|line| line.split("/answers/").nth(1)).unwrap_or_default();
    assert!(token.is_empty() && !all.contains("/answers/"), "a token shows");
}

#[tokio::test]
async fn within_another_program_it_ends_when_it_is_dropped() {
    let folder = tempfile::tempdir().unwrap();
    let mut config: Config = toml::from_str("").unwrap();
    config.data_dir = folder.path().into();
    config.boot.address = Some(Ipv4Addr::LOCALHOST);
    config.boot.relay_listen = Some(SocketAddrV4::new(Ipv4Addr::LOCALHOST, 0));
    (config.boot.tftp_port, config.boot.http_port) = (0, 0);
    config.admin.listen = (Ipv4Addr::LOCALHOST, 0).into();
    let running = lastmile_server::start(&config).await.unwrap();
    let listening = running.listening().clone();
    let ports = [listening.admin, listening.http[0]];
    assert!(ports.iter().all(|port| TcpStream::connect(port).is_ok()), "{listening:?}");
    drop(running);
    let end = Instant::now() + Duration::from_secs(10);
    while ports.iter().any(|port| TcpStream::connect(port).is_ok()) {
        assert!(Instant::now() < end, "it still listens: {listening:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
