//! Hosts that take all they can, while machines boot as always.

use std::{
    io::{Read, Write},
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpStream, UdpSocket},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU32, Ordering},
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
use socket2::{Domain, Socket, Type};

use crate::{
    THIS_MACHINE,
    support::{netns::Netns, service::Service, wait_for},
};

const SERVICE: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);
const MACHINES: u8 = 50;
/// Hostile hosts: one is 192.0.2.77, the next 192.0.2.78.
const HOSTILE: u8 = 3;
/// Where the machines are: behind a relay, on a subnet of their own. What limits others limits them too.
const HALL: Ipv4Addr = Ipv4Addr::new(198, 51, 100, 1);

/// How many DHCP messages the hostile hosts have sent.
static ASKED: AtomicU32 = AtomicU32::new(0);
/// How many they have sent when the machines are switched on. Half of them name the hall's relay, which may forward 20,000 at
/// once.
const FLOOD: u32 = 60_000;

/// A socket of this hostile host.
fn socket(own: Ipv4Addr) -> Option<UdpSocket> {
    UdpSocket::bind((own, 0)).ok()
}

/// A connection from this hostile host to the boot listener.
fn connect(own: Ipv4Addr) -> Option<TcpStream> {
    let socket = Socket::new(Domain::IPV4, Type::STREAM, None).ok()?;
    socket.bind(&SocketAddr::from((own, 0)).into()).ok()?;
    socket.connect_timeout(&SocketAddr::from((SERVICE, 80)).into(), Duration::from_millis(500)).ok()?;
    Some(socket.into())
}

/// Everything that one hostile host does, until told to stop.
fn attack(own: Ipv4Addr, stop: &Arc<AtomicBool>) {
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
    run(Box::new(move || {
        let mut held = Vec::new();
        for number in 0..700 {
            let Some(mut stream) = connect(own) else { continue };
            if number % 3 == 0 {
                let ask = "GET /boot/00:00:5e:00:53:01/tidewrack-12/r1/linux HTTP/1.1\r\nHost: x\r\n\r\n";
                let _ = stream.write_all(ask.as_bytes());
            }
            held.push(stream);
        }
        std::thread::sleep(Duration::from_secs(2));
    }));
    // Transfers that are never acknowledged.
    run(Box::new(move || {
        let sockets: Vec<UdpSocket> = (0..300).filter_map(|_| socket(own)).collect();
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
    // Bound once: a process that another test starts at that moment holds what is closed here an instant longer.
    let socket = UdpSocket::bind((own, 68)).unwrap();
    socket.set_broadcast(true).unwrap();
    run(Box::new(move || {
        for _ in 0..2000 {
            let number = ASKED.fetch_add(1, Ordering::Relaxed);
            let [_, b, c, d] = number.to_be_bytes();
            let mac = if number.is_multiple_of(4) { [2, 9, 9, 9, 9, 9] } else { [2, 8, 0, b, c, d] };
            let mut message = Message::request(Kind::Discover, number, Mac::new(mac).unwrap());
            if number % 4 > 1 {
                // That it came through the hall's relay is only what it says.
                message.giaddr = HALL;
            }
            // There is no route to 255.255.255.255 here.
            socket.send_to(&message.emit(), (Ipv4Addr::new(192, 0, 2, 255), 67)).unwrap();
            std::thread::sleep(Duration::from_micros(200));
        }
    }));
    // Tokens that were never given.
    run(Box::new(move || {
        for number in 0..200 {
            let Some(mut stream) = connect(own) else { break };
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

/// How many connections of the first hostile host the service holds.
fn held(server: &Netns) -> usize {
    server.run("ss -Htn state established sport = :80 and dst 192.0.2.77").lines().count()
}

/// Installs all machines at once, each from the address that it is granted; gives how long that took.
fn install_all() -> Duration {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let began = Instant::now();
        let all: Vec<_> = (1..=MACHINES)
            .map(|number| {
                tokio::spawn(async move {
                    let reached = Reached {
                        dhcp: SocketAddrV4::new(SERVICE, 67),
                        tftp_port: 69,
                        http_port: 80,
                        link: HALL,
                    };
                    let mac = Mac::new([2, 0, 0, 0, 7, number]).unwrap();
                    let identity = Identity { mac, architecture: Architecture::UefiX64 };
                    let pace = Pace { install: Duration::from_millis(200), ..Pace::FULL };
                    let machine = Machine::elsewhere(identity, reached, pace);
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
fn fifty_machines_are_installed_whatever_hostile_hosts_hold() {
    let _held = THIS_MACHINE.blocking_write();
    let server = Netns::new("hostile-s");
    server.bridge("quay0", "192.0.2.2/24");
    let hostile = Netns::new("hostile-x");
    server.hang("quay0", &hostile, "eth0");
    for number in 0..HOSTILE {
        hostile.run(&format!("ip address add 192.0.2.{}/24 dev eth0", 77 + number));
    }
    let hall = Netns::new("hostile-h");
    server.hang("quay0", &hall, "hall0");
    hall.run("ip address add 192.0.2.9/24 dev hall0");
    // All of the subnet's addresses are this namespace's own, so that each machine can speak from the one that it is granted.
    hall.run("ip route add local 198.51.100.0/24 dev lo");
    // None of them is in use before it is granted.
    hall.run("sysctl -qw net.ipv4.icmp_echo_ignore_all=1");
    server.run("ip route add 198.51.100.0/24 via 192.0.2.9");
    let service = Service::start(Some(&server), "interfaces = ['quay0']", 8480);
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
        "198.51.100.1",
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
        for number in 0..HOSTILE {
            let (namespace, told) = (&namespace, told.clone());
            let own = Ipv4Addr::new(192, 0, 2, 77 + number);
            scope.spawn(move || namespace.inside(move || attack(own, &told)));
        }
        wait_for("connections of the hostile host", Duration::from_secs(10), || {
            (held(&server) > 200).then_some(())
        });
        wait_for("a flood of questions", Duration::from_secs(60), || {
            (ASKED.load(Ordering::Relaxed) > FLOOD).then_some(())
        });
        let took = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| hall.inside(install_all)));
        let held = held(&server);
        stop.store(true, Ordering::Relaxed);
        let took = took.unwrap_or_else(|failure| std::panic::resume_unwind(failure));
        assert!(took < Duration::from_secs(60), "{took:?}");
        // 256, and those of the moment that are about to be refused.
        assert!(held <= 256 + 32, "{held} connections of one host");
    });
    let installs = service.json(&["install", "list", "--state", "installed"]);
    assert_eq!(installs.as_array().unwrap().len(), usize::from(MACHINES));
    let trace = service.json(&["trace", "02:09:09:09:09:09", "--all"]);
    let (heard, allowed) =
        (trace["lines"].as_array().unwrap().len(), 40 + 4 * (began.elapsed().as_secs() as usize + 1));
    assert!((1..=allowed).contains(&heard), "{heard} messages of one client were taken, of {allowed}");
    let refusals = service.log().matches("an answer file or report was refused").count();
    assert!((1..=80).contains(&refusals), "{refusals} lines of one kind");
}
