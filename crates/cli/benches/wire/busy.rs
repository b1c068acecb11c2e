//! DHCP and menus while people work: ten of them list, arm 2,000 machines, and have the library swept.

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::{SocketAddr, SocketAddrV4, TcpStream},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use lastmile_api::{
    ArmSeveral, ImageKind, InstallNumbers, InstallsListQuery, MachinesListQuery, PasswordInput,
    RevisionDraft, Settings,
};
use lastmile_client::Client;
use lastmile_server::Running;
use thread_priority::{
    NormalThreadSchedulePolicy, ThreadPriority, ThreadSchedulePolicy, set_thread_priority_and_policy,
    thread_native_id,
};
use tokio::runtime::Runtime;

use super::{MACHINES, dhcp, echo, mac, p99, socket};

/// Exchanges and menus of one measurement, and how many are begun in a second.
const MEASURED: u32 = 4000;
const RATE: f64 = 400.0;
/// Machines that are armed at once. The others boot meanwhile.
const ARMED: u32 = 2000;
const PEOPLE: usize = 10;
/// Times that each is measured in turn; of the ratios the one in the middle counts.
const ROUNDS: usize = 3;

pub(super) fn measure(runtime: &Runtime, running: &Running) {
    let Some(SocketAddr::V4(relays)) = running.listening().relays else { panic!("no relay port") };
    let client = Client::new(&format!("http://{}", running.listening().admin), "bench").unwrap();
    runtime.block_on(prepare(&client));
    let menus = running.listening().http[0];
    let mut first = 1_000_000;
    let mut once = || {
        first += MEASURED;
        [echoes(), exchange(relays, first), menu(menus)]
    };
    let mut rounds: Vec<[[Duration; 3]; 2]> = (0..ROUNDS)
        .map(|_| {
            let quiet = once();
            let crowd = Crowd::start(&client);
            // Until all of them are at it.
            std::thread::sleep(Duration::from_secs(1));
            let busy = once();
            crowd.stop();
            [quiet, busy]
        })
        .collect();
    let whats = ["echo of a datagram, for comparison,", "DHCP exchange", "menu"];
    for (at, what) in whats.into_iter().enumerate() {
        let ratio = |[quiet, busy]: &[[Duration; 3]; 2]| busy[at].as_secs_f64() / quiet[at].as_secs_f64();
        rounds.sort_by(|a, b| ratio(a).total_cmp(&ratio(b)));
        let middle @ [quiet, busy] = &rounds[ROUNDS / 2];
        println!(
            "{what} while ten people work: p99 {:.2} ms, without them {:.2} ms: {:.2} times (aim: at most 1.5)",
            busy[at].as_secs_f64() * 1e3,
            quiet[at].as_secs_f64() * 1e3,
            ratio(middle)
        );
    }
}

/// What can be armed.
async fn prepare(client: &Client) {
    let image = RevisionDraft {
        name: "bollard-9".into(),
        kind: Some(ImageKind::Installer),
        family: Some(lastmile_api::Family::Kickstart),
        kernel: Some("linux".into()),
        initrds: Some(vec![]),
        files: vec![client.upload_bytes("linux", vec![3; 64 * 1024]).await.unwrap()],
        ..RevisionDraft::default()
    };
    client.images_create(&image).await.unwrap();
    let key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGdhbm5ldHNvdW5kZmVycmllc2Fpbid0YXJlYWxrZXk bench";
    let settings: Settings<PasswordInput> = toml::from_str(&format!("root.ssh_keys = ['{key}']")).unwrap();
    client.answers_save("crowd", &settings).await.unwrap();
}

/// What this computer itself costs: a thread that does nothing but send back what it is sent.
fn echoes() -> Duration {
    let server = echo(|length| if length == 1 { 0 } else { length });
    let (socket, datagram, mut buffer) = (socket(), [0; 300], [0; 2048]);
    let (began, mut latencies) = (Instant::now(), Vec::new());
    for number in 0..MEASURED {
        let due = Duration::from_secs_f64(f64::from(number) / RATE);
        std::thread::sleep(due.saturating_sub(began.elapsed()));
        let asked = Instant::now();
        socket.send_to(&datagram, server).unwrap();
        socket.recv(&mut buffer).unwrap();
        latencies.push(asked.elapsed());
    }
    socket.send_to(&[0], server).unwrap();
    p99(&mut latencies)
}

fn exchange(relays: SocketAddrV4, first: u32) -> Duration {
    let mut latencies = Vec::new();
    dhcp::exchanges(relays, first, MEASURED, RATE, &mut latencies);
    p99(&mut latencies)
}

/// Menus over one connection, one after another.
fn menu(http: SocketAddr) -> Duration {
    let mut connection = BufReader::new(TcpStream::connect(http).unwrap());
    connection.get_ref().set_nodelay(true).unwrap();
    let (began, mut latencies) = (Instant::now(), Vec::new());
    for number in 0..MEASURED {
        let due = Duration::from_secs_f64(f64::from(number) / RATE);
        std::thread::sleep(due.saturating_sub(began.elapsed()));
        // Of those that nobody arms.
        let mac = mac(ARMED + number % (MACHINES - ARMED)).dashed();
        let asked = Instant::now();
        write!(connection.get_mut(), "GET /grub/grub.cfg-01-{mac} HTTP/1.1\r\nHost: quay\r\n\r\n").unwrap();
        let mut length = 0;
        let mut line = String::new();
        while connection.read_line(&mut line).unwrap() > 2 {
            if let Some(said) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                length = said.trim().parse().unwrap();
            }
            line.clear();
        }
        let mut text = vec![0; length];
        connection.read_exact(&mut text).unwrap();
        assert!(length > 100, "no menu came");
        latencies.push(asked.elapsed());
    }
    p99(&mut latencies)
}

/// Ten people at work. What their own computers would do is done only where this one has nothing else to do (SCHED_IDLE).
struct Crowd {
    computers: Runtime,
    stop: Arc<AtomicBool>,
    people: tokio::task::JoinSet<()>,
    done: Arc<AtomicU64>,
}

impl Crowd {
    fn start(client: &Client) -> Self {
        let yields = || {
            let idle = ThreadSchedulePolicy::Normal(NormalThreadSchedulePolicy::Idle);
            set_thread_priority_and_policy(thread_native_id(), ThreadPriority::Min, idle).unwrap();
        };
        let mut computers = tokio::runtime::Builder::new_multi_thread();
        let computers = computers.on_thread_start(yields).enable_all().build().unwrap();
        let (stop, done) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let mut people = tokio::task::JoinSet::new();
        for number in 0..PEOPLE {
            let (client, stop, done) = (client.clone(), stop.clone(), done.clone());
            let work = async move {
                while !stop.load(Ordering::Relaxed) {
                    match number {
                        0 => arm_and_cancel(&client).await,
                        1 => have_swept(&client).await,
                        _ => list(&client, number as u32).await,
                    }
                    done.fetch_add(1, Ordering::Relaxed);
                }
            };
            people.spawn_on(work, computers.handle());
        }
        Self { computers, stop, people, done }
    }

    fn stop(self) {
        self.stop.store(true, Ordering::Relaxed);
        self.computers.block_on(self.people.join_all());
        assert!(self.done.load(Ordering::Relaxed) > PEOPLE as u64, "they hardly worked");
    }
}

async fn arm_and_cancel(client: &Client) {
    let several = ArmSeveral {
        machines: (0..ARMED).map(|number| format!("locker-{number:05}")).collect(),
        labels: Vec::new(),
        image: Some("bollard-9".into()),
        answers: Some("crowd".into()),
        asked: std::collections::BTreeMap::new(),
    };
    let armed = client.installs_arm_several(&several).await.unwrap();
    let numbers = armed.iter().map(|install| install.number).collect();
    client.installs_cancel_several(&InstallNumbers { numbers }).await.unwrap();
}

/// An image that goes leaves content that nothing names.
async fn have_swept(client: &Client) {
    let name = "plimsoll-1";
    let image = RevisionDraft {
        name: name.into(),
        kind: Some(ImageKind::Tool),
        kernel: Some("tool".into()),
        initrds: Some(vec![]),
        files: vec![client.upload_bytes("tool", vec![5; 64 * 1024]).await.unwrap()],
        ..RevisionDraft::default()
    };
    client.images_create(&image).await.unwrap();
    client.images_remove(name).await.unwrap();
}

async fn list(client: &Client, number: u32) {
    let query = MachinesListQuery { limit: Some(500), offset: Some(number * 500), ..Default::default() };
    client.machines_list(&query).await.unwrap();
    client.installs_list(&InstallsListQuery { limit: Some(500), ..Default::default() }).await.unwrap();
}
