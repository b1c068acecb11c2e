//! A host that takes all it can, while machines boot as always.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod support;

use std::{
    io::{Read, Write},
    net::{Ipv4Addr, SocketAddr, TcpStream, UdpSocket},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message},
    mac::Mac,
    tftp::Packet,
};
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};
use support::{netns::Netns, service::Service, wait_for};

const SERVICE: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);
const MACHINES: u8 = 50;

/// Everything that the hostile host does, until told to stop.
fn attack(stop: &Arc<AtomicBool>) {
    let mut threads = Vec::new();
    let mut run = |work: Box<dyn Fn() + Send>| {
        let stop = stop.clone();
        threads.push(std::thread::spawn(move || {
            while !stop.load(Ordering::Relaxed) {
                work();
            }
        }));
    };
    // Connections that say nothing, and those that ask for much and read nothing of it.
    run(Box::new(|| {
        let address = SocketAddr::from((SERVICE, 80));
        let mut held = Vec::new();
        for number in 0..700 {
            let Ok(mut stream) = TcpStream::connect_timeout(&address, Duration::from_millis(500)) else {
                continue;
            };
            if number % 3 == 0 {
                let ask = "GET /boot/00:00:5e:00:53:01/tidewrack-12/r1/linux HTTP/1.1\r\nHost: x\r\n\r\n";
                let _ = stream.write_all(ask.as_bytes());
            }
            held.push(stream);
        }
        std::thread::sleep(Duration::from_secs(2));
    }));
    // Transfers that are never acknowledged.
    run(Box::new(|| {
        let sockets: Vec<UdpSocket> = (0..300).filter_map(|_| UdpSocket::bind("0.0.0.0:0").ok()).collect();
        for socket in &sockets {
            let request = Packet::Read {
                name: "boot/00:00:5e:00:53:01/tidewrack-12/r1/linux".into(),
                mode: "octet".into(),
                options: vec![("blksize".into(), "1468".into()), ("windowsize".into(), "64".into())],
            };
            let _ = socket.send_to(&request.emit(), (SERVICE, 69));
        }
        std::thread::sleep(Duration::from_millis(500));
    }));
    // Questions of made-up clients, and of one that never stops.
    run(Box::new(|| {
        let socket = UdpSocket::bind("0.0.0.0:68").unwrap();
        socket.set_broadcast(true).unwrap();
        for number in 0..2000_u16 {
            let [high, low] = number.to_be_bytes();
            let mac = if number % 2 == 0 { [2, 9, 9, 9, 9, 9] } else { [2, 8, 0, 0, high, low] };
            let mut message = Message::request(Kind::Discover, u32::from(number), Mac::new(mac).unwrap());
            if number % 4 == 0 {
                // That it came through a relay on the service's own host is only what it says.
                message.giaddr = Ipv4Addr::LOCALHOST;
            }
            // There is no route to 255.255.255.255 here.
            socket.send_to(&message.emit(), (Ipv4Addr::new(192, 0, 2, 255), 67)).unwrap();
            std::thread::sleep(Duration::from_micros(200));
        }
    }));
    // Tokens that were never given.
    run(Box::new(|| {
        for number in 0..200 {
            let Ok(mut stream) = TcpStream::connect((SERVICE, 80)) else { break };
            let ask = format!(
                "GET /answers/token{number}/preseed.cfg HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n"
            );
            let _ = stream.write_all(ask.as_bytes());
            let _ = stream.set_read_timeout(Some(Duration::from_millis(200)));
            let _ = stream.read_to_end(&mut Vec::new());
        }
    }));
    for thread in threads {
        thread.join().unwrap();
    }
}

/// How many connections of the hostile host the service holds.
fn held(server: &Netns) -> usize {
    server.run("ss -Htn state established sport = :80 and dst 192.0.2.77").lines().count()
}

/// Installs all machines at once, from a relay on the service's own host; gives how long that took.
fn hall() -> Duration {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let began = Instant::now();
        let all: Vec<_> = (1..=MACHINES)
            .map(|number| {
                tokio::spawn(async move {
                    let reached = Reached {
                        dhcp: "127.0.0.1:6767".parse().unwrap(),
                        tftp_port: 69,
                        http_port: 80,
                        link: "198.51.100.1".parse().unwrap(),
                    };
                    let mac = Mac::new([2, 0, 0, 0, 7, number]).unwrap();
                    let identity = Identity { mac, architecture: Architecture::UefiX64 };
                    let pace = Pace { install: Duration::from_millis(200), ..Pace::FULL };
                    let machine = Machine::new(identity, reached, pace).unwrap();
                    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap()
                    else {
                        panic!("nothing was started")
                    };
                    machine.install(address, &parameters, &mut |_| {}).await.unwrap();
                })
            })
            .collect();
        for one in all {
            one.await.unwrap();
        }
        began.elapsed()
    })
}

#[test]
fn fifty_machines_are_installed_whatever_a_hostile_host_holds() {
    let server = Netns::new("hostile-s");
    server.bridge("quay0", "192.0.2.2/24");
    let hostile = Netns::new("hostile-x");
    server.hang("quay0", &hostile, "eth0");
    hostile.run("ip address add 192.0.2.77/24 dev eth0");
    let boot = "interfaces = ['quay0']\nrelay_listen = '127.0.0.1:6767'";
    let service = Service::start(Some(&server), boot, 8480);
    service.run(&[
        "subnet",
        "add",
        "quay",
        "192.0.2.0/24",
        "--interface",
        "quay0",
        "--pool",
        "192.0.2.100-192.0.2.200",
    ]);
    service.run(&[
        "subnet",
        "add",
        "hall",
        "198.51.100.0/24",
        "--relay",
        "127.0.0.1",
        "--pool",
        "198.51.100.20-198.51.100.220",
    ]);
    service.add_loader();
    service.add_image();
    service.add_answers();
    for number in 1..=MACHINES {
        let mac = format!("02:00:00:00:07:{number:02x}");
        service.run(&["machine", "add", &format!("kiosk-{number}"), "--mac", &mac, "--label", "kiosk"]);
    }
    service.run(&[
        "install",
        "arm",
        "--label",
        "kiosk",
        "--image",
        "tidewrack-12",
        "--answers",
        "quay-server",
    ]);
    let stop = Arc::new(AtomicBool::new(false));
    let began = Instant::now();
    let (told, namespace) = (stop.clone(), hostile);
    std::thread::scope(|scope| {
        let namespace = &namespace;
        scope.spawn(move || namespace.inside(move || attack(&told)));
        wait_for("connections of the hostile host", Duration::from_secs(10), || {
            (held(&server) > 200).then_some(())
        });
        let took = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| server.inside(hall)));
        let held = held(&server);
        stop.store(true, Ordering::Relaxed);
        let took = took.unwrap_or_else(|failure| std::panic::resume_unwind(failure));
        assert!(took < Duration::from_secs(60), "{took:?}");
        // 256, and those of the moment that are about to be refused.
        assert!(held <= 256 + 32, "{held} connections of one host");
    });
    let installs = service.json(&["install", "list", "--state", "installed"]);
    assert_eq!(installs["total"], u64::from(MACHINES));
    let trace = service.json(&["trace", "02:09:09:09:09:09", "--all"]);
    let (heard, allowed) =
        (trace["lines"].as_array().unwrap().len(), 40 + 4 * (began.elapsed().as_secs() as usize + 1));
    assert!((1..=allowed).contains(&heard), "{heard} messages of one client were taken, of {allowed}");
    let refusals = service.log().matches("an answer file or report was refused").count();
    assert!((1..=80).contains(&refusals), "{refusals} lines of one kind");
}
