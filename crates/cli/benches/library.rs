//! Images and menus against floors measured in the same run: HTTP against nginx, files inside an ISO against plain ones,
//! an import against `sha256sum`, menus at 100 and at 10,000 machines.
//!
//! A figure is the ratio of two rates. Absolute rates are printed beside it, and say nothing on a shared machine.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::print_stdout,
    reason = "a benchmark that cannot go on ends"
)]
#![allow(missing_docs, reason = "a program, not a library")]

use std::{
    fs::File,
    io::{Read, Seek, SeekFrom, Write},
    net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream},
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use lastmile_api::{ImageKind, RevisionDraft};
use lastmile_client::Client;
use lastmile_core::{
    decide::{
        boot::{Viewer, plan, render, screen_for},
        machine::{DefaultBootDraft, MachineDraft},
        menu::MenuDraft,
    },
    model::{
        loader::{HttpReach, Language, Reader},
        service::Service,
        settings::SiteSettings,
    },
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_server::{Config, Running};

const MIB: usize = 1024 * 1024;
const FILE: usize = 64 * MIB;
const LARGE: u64 = 4 << 30;
const CONNECTIONS: usize = 64;
/// Floor and service take turns so many times; of each the best counts, as what disturbs it only makes it worse.
const ROUNDS: usize = 7;

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let running = runtime.block_on(start(folder.path()));
    println!("{:<50} {:>14} {:>14} {:>8} {:>10}", "work", "floor", "service", "ratio", "aim");
    http(&runtime, &running, folder.path());
    import(&runtime, &running, folder.path());
    menus();
    runtime.block_on(running.stop());
}

async fn start(folder: &Path) -> Running {
    let mut config: Config = toml::from_str("").unwrap();
    config.data_dir = folder.join("data");
    config.boot.address = Some(Ipv4Addr::LOCALHOST);
    config.boot.relay_listen = Some(std::net::SocketAddrV4::new(Ipv4Addr::LOCALHOST, 0));
    config.boot.tftp_port = 0;
    config.boot.http_port = 0;
    config.admin.listen = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    lastmile_server::start(&config).await.unwrap()
}

fn client(running: &Running) -> Client {
    Client::new(&format!("http://{}", running.listening().admin), "bench").unwrap()
}

fn row(work: &str, floor: f64, service: f64, unit: &str, aim: &str) {
    let ratio = service / floor * 100.0;
    println!("{work:<50} {floor:>9.0} {unit} {service:>9.0} {unit} {ratio:>6.0} % {aim:>10}");
}

/// nginx on a folder, ended with the value.
struct Nginx {
    child: Child,
    address: SocketAddr,
}

impl Nginx {
    fn start(folder: &Path) -> Self {
        let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        let root = folder.join("www");
        let config = format!(
            "daemon off; worker_processes auto; pid {0}/nginx.pid; error_log {0}/nginx.log;\n\
             events {{ worker_connections 1024; }}\n\
             http {{ access_log off; sendfile on; tcp_nopush on; keepalive_timeout 65;\n\
             client_body_temp_path {0}; proxy_temp_path {0}; fastcgi_temp_path {0}; uwsgi_temp_path {0}; scgi_temp_path {0};\n\
             server {{ listen {address}; root {1}; }} }}\n",
            folder.display(),
            root.display()
        );
        let path = folder.join("nginx.conf");
        std::fs::write(&path, config).unwrap();
        let child = Command::new("nginx").arg("-c").arg(&path).stderr(Stdio::null()).spawn();
        let child = child.expect("nginx is needed: install the package nginx-light");
        while TcpStream::connect(address).is_err() {
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { child, address }
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        // Told, not killed: the master ends its workers.
        let _ = Command::new("kill").args(["-s", "QUIT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

/// Reads a file by HTTP; gives its bytes.
fn get(server: SocketAddr, path: &str) -> usize {
    let mut stream = TcpStream::connect(server).unwrap();
    stream
        .write_all(format!("GET {path} HTTP/1.1\r\nHost: bench\r\nConnection: close\r\n\r\n").as_bytes())
        .unwrap();
    let mut buffer = vec![0; 256 * 1024];
    let mut all = 0;
    loop {
        let read = stream.read(&mut buffer).unwrap();
        if read == 0 {
            return all;
        }
        all += read;
    }
}

/// MB a second of so many connections that read the file once each.
fn rate(server: SocketAddr, path: &str, connections: usize) -> f64 {
    let began = Instant::now();
    let all: usize = std::thread::scope(|scope| {
        let readers: Vec<_> = (0..connections).map(|_| scope.spawn(|| get(server, path))).collect();
        readers.into_iter().map(|reader| reader.join().unwrap()).sum()
    });
    assert!(all >= connections * FILE, "{path}: {all} bytes of {connections} files");
    all as f64 / began.elapsed().as_secs_f64() / 1e6
}

fn best(mut floor: impl FnMut() -> f64, mut service: impl FnMut() -> f64) -> (f64, f64) {
    (0..ROUNDS).fold((0.0, 0.0), |(a, b), _| (f64::max(a, floor()), f64::max(b, service())))
}

fn http(runtime: &tokio::runtime::Runtime, running: &Running, folder: &Path) {
    let www = folder.join("www");
    std::fs::create_dir_all(&www).unwrap();
    let content: Vec<u8> = (0..FILE as u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    std::fs::write(www.join("file"), &content).unwrap();
    let iso = folder.join("file.iso");
    let made =
        Command::new("xorriso").args(["-as", "mkisofs", "-quiet", "-R", "-o"]).args([&iso, &www]).status();
    assert!(made.expect("xorriso is needed: install the package xorriso").success());
    let client = client(running);
    let draft = |name: &str| RevisionDraft {
        name: name.into(),
        kind: Some(ImageKind::Tool),
        kernel: Some("file".into()),
        initrds: Some(vec![]),
        ..RevisionDraft::default()
    };
    runtime.block_on(async {
        let files = vec![client.upload_bytes("file", content).await.unwrap()];
        client.images_create(&RevisionDraft { files, ..draft("plain") }).await.unwrap();
        let in_place = Some(iso.to_str().unwrap().to_owned());
        client.images_create(&RevisionDraft { in_place, ..draft("iso") }).await.unwrap();
        wait_until_idle(&client).await;
    });
    let boot = running.listening().http[0];
    let (plain, inside) = ("/boot/02-00-5e-00-53-01/plain/r1/file", "/boot/02-00-5e-00-53-01/iso/r1/file");
    let nginx = Nginx::start(folder);
    for connections in [1, CONNECTIONS] {
        let (floor, service) =
            best(|| rate(nginx.address, "/file", connections), || rate(boot, plain, connections));
        row(
            &format!("HTTP, 64 MiB, {connections} connections, against nginx"),
            floor,
            service,
            "MB/s",
            "100 %",
        );
    }
    let (floor, service) = best(|| rate(boot, plain, 1), || rate(boot, inside, 1));
    row("HTTP, 64 MiB inside an ISO, against plain", floor, service, "MB/s", "95 %");
}

/// Waits until nothing is being read any more.
async fn wait_until_idle(client: &Client) {
    loop {
        let images = client.images_list().await.unwrap();
        if images.iter().all(|image| image.current.verified.is_some()) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

fn import(runtime: &tokio::runtime::Runtime, running: &Running, folder: &Path) {
    let iso = folder.join("large.iso");
    make_large(folder, &iso);
    let client = client(running);
    let hashed = || {
        let began = Instant::now();
        assert!(Command::new("sha256sum").arg(&iso).stdout(Stdio::null()).status().unwrap().success());
        began.elapsed()
    };
    // Once, so that both find the file as the other does.
    hashed();
    let floor = (0..3).map(|_| hashed()).min().unwrap();
    let mut ready = Duration::MAX;
    let mut verified = Duration::MAX;
    for round in 0..3 {
        runtime.block_on(async {
            let draft = RevisionDraft {
                name: format!("large-{round}"),
                kind: Some(ImageKind::Tool),
                kernel: Some("large.img".into()),
                initrds: Some(vec![]),
                in_place: Some(iso.to_str().unwrap().to_owned()),
                ..RevisionDraft::default()
            };
            let began = Instant::now();
            client.images_create(&draft).await.unwrap();
            ready = ready.min(began.elapsed());
            wait_until_idle(&client).await;
            verified = verified.min(began.elapsed());
        });
    }
    println!(
        "{:<50} {:>11.1} s  {:>11.1} s  {:>6.0} % {:>10}",
        "ISO of 4 GiB, every file read, against sha256sum",
        floor.as_secs_f64(),
        verified.as_secs_f64(),
        verified.as_secs_f64() / floor.as_secs_f64() * 100.0,
        "<= 105 %"
    );
    println!("  it could be booted from after {:.0} ms (aim: under 1 s)", ready.as_secs_f64() * 1e3);
}

/// A volume of a little more than 4 GiB with holes where it is empty.
fn make_large(folder: &Path, iso: &Path) {
    let tree = folder.join("large");
    std::fs::create_dir_all(&tree).unwrap();
    File::create(tree.join("large.img")).unwrap().set_len(LARGE).unwrap();
    let mut made = Command::new("xorriso")
        .args(["-as", "mkisofs", "-quiet", "-R", "-iso-level", "3", "-o", "-"])
        .arg(&tree)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut from = made.stdout.take().unwrap();
    let mut to = File::create(iso).unwrap();
    let (zeros, mut block, mut size) = (vec![0; MIB], vec![0; MIB], 0);
    loop {
        let mut filled = 0;
        while filled < MIB {
            match from.read(&mut block[filled..]).unwrap() {
                0 => break,
                read => filled += read,
            }
        }
        if filled == 0 {
            break;
        }
        if block[..filled] == zeros[..filled] {
            to.seek(SeekFrom::Current(filled as i64)).unwrap();
        } else {
            to.write_all(&block[..filled]).unwrap();
        }
        size += filled as u64;
    }
    to.set_len(size).unwrap();
    assert!(made.wait().unwrap().success());
}

fn mac(number: u32) -> Mac {
    let [a, b, c, d] = number.to_be_bytes();
    Mac::new([2, 0, a, b, c, d]).unwrap()
}

const MENU: &str = r#"
title = "Gannet Sound Ferries"
default = "disk"
timeout_secs = 20
[[entries]]
key = "disk"
title = "Start from the local disk"
action = "local-disk"
[[entries]]
key = "again"
title = "Start from the local disk, again"
shown_if = "'kiosk' in labels"
action = "local-disk"
[[entries]]
key = "tools"
title = "Tools for {{ name }}"
[[entries.action.entries]]
key = "setup"
title = "Firmware set-up"
action = "firmware-setup"
[[entries.action.entries]]
key = "restart"
title = "Restart"
action = "restart"
[[entries.action.entries]]
key = "off"
title = "Power off"
action = "power-off"
"#;

/// Plan, screen and text of each machine, at few machines and at many.
fn menus() {
    let micros = |machines: u32| {
        let mut site = Site::default();
        let menu: MenuDraft = toml::from_str(MENU).unwrap();
        site = site.with_menu(menu.check("site", &site, None, || [0; 12]).unwrap());
        site = site.with_settings(SiteSettings { menu: Some("site".into()), ..SiteSettings::default() });
        for number in 0..machines {
            let mut draft = MachineDraft::new(format!("locker-{number:05}"), vec![mac(number).to_string()]);
            draft.default_boot = DefaultBootDraft::Menu;
            draft.labels = vec!["kiosk".into()];
            site = site.with_machine(draft.check(&site, None, jiff::Timestamp::UNIX_EPOCH).unwrap());
        }
        let service = Service { address: Ipv4Addr::LOCALHOST, http_port: 80, https_port: None };
        let reader = Reader { language: Language::Grub, http: HttpReach::Port80, boxed: true };
        let mut best = f64::MAX;
        for _ in 0..ROUNDS {
            let count = 10_000;
            let began = Instant::now();
            for number in 0..count {
                let mac = mac(number * 7919 % machines);
                let plan = plan(&site, mac, None);
                let machine = site.machine_by_mac(mac).map(AsRef::as_ref);
                let viewer = Viewer {
                    site: &site,
                    machine,
                    mac,
                    subnet: None,
                    address: None,
                    architecture: None,
                    service,
                    agent_token: None,
                };
                std::hint::black_box(render(&screen_for(&plan, &viewer), service, reader));
            }
            best = best.min(began.elapsed().as_secs_f64() * 1e6 / f64::from(count));
        }
        best
    };
    let (few, many) = (micros(100), micros(10_000));
    println!(
        "{:<50} {few:>11.1} µs {many:>11.1} µs {:>6.0} % {:>10}",
        "plan and menu of 6 entries: 100, 10,000 machines",
        many / few * 100.0,
        "<= 20 µs"
    );
}
