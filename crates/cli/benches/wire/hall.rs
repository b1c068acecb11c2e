//! Power returns to a hall: how many machines boot, and the memory of the service.

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    time::{Duration, Instant},
};

use lastmile_client::Client;
use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Identity, Machine, Pace, Reached};

use super::{MIB, fill, mac};

/// Machines in the hall.
const HALL: u32 = 2000;
/// Ports of the hall's own service: relays, TFTP, HTTP, the API.
const HALL_PORTS: u16 = 25_100;

/// A service that is a process of its own, so that its memory is its own.
pub(super) struct Served {
    process: std::process::Child,
    pub(super) client: Client,
    pub(super) reached: Reached,
    _folder: tempfile::TempDir,
}

impl Served {
    /// On these ports: relays, TFTP, HTTP, the API.
    pub(super) async fn start(first_port: u16) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let config = folder.path().join("lastmile.toml");
        let text = format!(
            "data_dir = '{}'\n[boot]\naddress = '127.0.0.1'\nrelay_listen = '127.0.0.1:{first_port}'\ntftp_port = {}\n\
             http_port = {}\n[admin]\nlisten = '127.0.0.1:{}'\n[log]\nlevel = 'error'\n",
            folder.path().join("data").display(),
            first_port + 1,
            first_port + 2,
            first_port + 3
        );
        std::fs::write(&config, text).unwrap();
        let process = std::process::Command::new(env!("CARGO_BIN_EXE_lastmile"))
            .args(["serve", "--config"])
            .arg(&config)
            .spawn()
            .unwrap();
        let client = Client::new(&format!("http://127.0.0.1:{}", first_port + 3), "bench").unwrap();
        while client.status_read().await.is_err() {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let reached = Reached {
            dhcp: SocketAddrV4::new(Ipv4Addr::LOCALHOST, first_port),
            tftp_port: first_port + 1,
            http_port: first_port + 2,
            link: Ipv4Addr::new(10, 0, 0, 1),
        };
        Self { process, client, reached, _folder: folder }
    }

    /// Memory of the service in MiB (proc(5)): `VmRSS:` now, `VmHWM:` at most.
    pub(super) fn memory(&self, what: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.process.id())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix(what)).unwrap();
        line.trim().trim_end_matches(" kB").trim().parse::<u64>().unwrap() / 1024
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// Power returns to a hall: every machine boots at once, to the kernel of a live image.
pub(super) async fn measure() {
    let service = Served::start(HALL_PORTS).await;
    let (client, reached) = (service.client.clone(), service.reached);
    fill(&client, HALL, MIB, 256 * 1024).await;
    let before = service.memory("VmRSS:");
    let began = Instant::now();
    let mut machines = tokio::task::JoinSet::new();
    for number in 0..HALL {
        machines.spawn(async move {
            let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
            let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
            // A computer that is not answered in time is switched off and on again.
            for tries in 1..=5 {
                if machine.boot(&mut |_| {}).await.is_ok() {
                    return Some(tries);
                }
            }
            None
        });
    }
    let tries = machines.join_all().await;
    let booted = tries.iter().flatten().count();
    let at_once = tries.iter().filter(|tries| **tries == Some(1)).count();
    println!(
        "hall of {HALL} machines at once: {booted} booted ({at_once} at the first try) in {:.1} s; memory of the service \
         {} MiB at most, {before} MiB before (aim: every one, at most 150 MiB)",
        began.elapsed().as_secs_f64(),
        service.memory("VmHWM:")
    );
}
