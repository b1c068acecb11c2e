//! The host: interfaces, ports, rights, disk, clock.

use std::{net::SocketAddr, time::Duration};

use jiff::SignedDuration;
use lastmile_api::Severity;
use lastmile_formats::tftp::{Packet, Wishes};
use nix::sys::statvfs::statvfs;
use tokio::{
    net::{TcpStream, UdpSocket},
    time::timeout,
};

use super::{Findings, Topic};
use crate::{
    app::App,
    clock,
    link::Interface,
    start::Listening,
    surroundings::{Fixed, Kernel},
};

/// How long the service's own listeners may take.
const PATIENCE: Duration = Duration::from_secs(1);
/// Room on the disk below which it is said, in bytes.
const LITTLE_ROOM: u64 = 5 << 30;
const NO_ROOM: u64 = 200 << 20;
/// Share of the disk's entries that may be used.
const ENTRIES_USED: f64 = 0.95;
/// How far in the future a record may lie before the clock is taken for wrong.
const AHEAD: SignedDuration = SignedDuration::from_mins(2);

pub(super) async fn interfaces(findings: &mut Findings, listening: &Listening) {
    if listening.dhcp.is_empty() {
        let what = "no interface is answered on: machines reach the service through relays only";
        findings.add(
            Severity::Note,
            Topic::Interface,
            "[boot] interfaces",
            what,
            "Nothing, if that is meant.",
        );
    }
    let kernel = Kernel::open();
    for (name, address) in &listening.dhcp {
        let Ok(Some(interface)) = Interface::find(name) else {
            let what = "the interface is gone since the service started";
            let fix = "Bring it back (`ip link`), then restart the service.";
            findings.add(Severity::Fault, Topic::Interface, name, what, fix);
            continue;
        };
        if interface.has_carrier() == Some(false) {
            let fix = "Look at the cable and at the switch's port.";
            findings.add(
                Severity::Fault,
                Topic::Interface,
                name,
                "no carrier: no cable, or the other end is off",
                fix,
            );
        }
        let fixed = match &kernel {
            Ok(kernel) => kernel.is_fixed(&interface, *address.ip()).await.ok(),
            Err(_) => None,
        };
        let (address, place) = (address.ip(), name.as_str());
        match fixed {
            Some(Fixed::Yes) => {
                findings.good(Topic::Interface, place, format!("up, with the fixed address {address}"));
            }
            Some(Fixed::No) => findings.add(
                Severity::Warning,
                Topic::Interface,
                place,
                format!(
                    "{address} came by DHCP: when it changes, machines are told an address that is nobody's"
                ),
                "Give the interface a fixed address outside every pool.",
            ),
            Some(Fixed::Gone) => findings.add(
                Severity::Fault,
                Topic::Interface,
                place,
                format!("{address} is gone from it since the service started"),
                "Set the address again, or restart the service to take the new one.",
            ),
            None => findings.add(
                Severity::Note,
                Topic::Interface,
                place,
                "whether its address is fixed cannot be seen",
                "See `ip address show`: it should not say `dynamic`.",
            ),
        }
    }
}

pub(super) async fn ports(findings: &mut Findings, listening: &Listening) {
    for address in &listening.tftp {
        match answers_tftp(*address).await {
            true => findings.good(Topic::Ports, format!("TFTP {address}"), "answers"),
            false => findings.add(
                Severity::Fault,
                Topic::Ports,
                format!("TFTP {address}"),
                "the service's own request got no answer",
                "Look at the firewall of this host, and at the log of the service.",
            ),
        }
    }
    let http = listening.http.iter().map(|address| ("HTTP", address));
    let https = listening.https.iter().map(|address| ("HTTPS", address));
    for (what, address) in http.chain(https) {
        let place = format!("boot {what} {address}");
        match timeout(PATIENCE, TcpStream::connect(address)).await {
            Ok(Ok(_)) => findings.good(Topic::Ports, place, "answers"),
            Ok(Err(error)) => {
                let fix = "Look at the firewall of this host, and at the log of the service.";
                findings.add(Severity::Fault, Topic::Ports, place, format!("no connection: {error}"), fix);
            }
            Err(_) => {
                let fix = "Look at the firewall of this host.";
                findings.add(Severity::Fault, Topic::Ports, place, "no connection in time", fix);
            }
        }
        // GRUB up to 2.06 knows no other port.
        if what == "HTTP" && address.port() != 80 && !address.ip().is_loopback() {
            let what = "GRUB up to 2.06 fetches from port 80 only: it will fetch kernels by TFTP";
            findings.add(
                Severity::Warning,
                Topic::Ports,
                format!("boot HTTP {address}"),
                what,
                "Set [boot] http_port = 80.",
            );
        }
    }
    for (place, port, usual) in listening
        .dhcp
        .iter()
        .map(|(name, address)| (format!("DHCP on {name}"), address.port(), 67))
        .chain(listening.tftp.iter().map(|address| (format!("TFTP {address}"), address.port(), 69)))
    {
        if port != usual && !listening.dhcp.is_empty() {
            let what = format!("port {port}: firmware asks port {usual} and no other");
            findings.add(
                Severity::Fault,
                Topic::Ports,
                place,
                what,
                format!("Set the port to {usual} in [boot]."),
            );
        }
    }
}

/// Asks for a file that is not there: whatever comes back is an answer.
async fn answers_tftp(address: SocketAddr) -> bool {
    let asked = async {
        let socket = UdpSocket::bind((address.ip(), 0)).await?;
        let request = Packet::Read {
            name: "nothing/by/this/name".into(),
            mode: "octet".into(),
            options: Wishes::default().options(),
        };
        socket.send_to(&request.emit(), address).await?;
        socket.recv_from(&mut [0; 1024]).await
    };
    matches!(timeout(PATIENCE, asked).await, Ok(Ok(_)))
}

pub(super) fn rights(findings: &mut Findings, listening: &Listening) {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = |key: &str| status.lines().find_map(|line| line.strip_prefix(key)).map(str::trim);
    let effective = line("CapEff:").and_then(|hex| u64::from_str_radix(hex, 16).ok());
    let is_root = line("Uid:").and_then(|ids| ids.split_whitespace().nth(1)) == Some("0");
    let place = "this process";
    // capabilities(7)
    const NET_BIND_SERVICE: u32 = 10;
    const NET_RAW: u32 = 13;
    let has = |bit: u32| effective.is_some_and(|bits| bits & (1 << bit) != 0);
    if !has(NET_RAW) && !listening.dhcp.is_empty() {
        let what = "CAP_NET_RAW is missing: addresses are not tried for before they are offered";
        findings.add(
            Severity::Warning,
            Topic::Rights,
            place,
            what,
            "Start it by its systemd unit, which gives it the right.",
        );
    } else if is_root && !listening.dhcp.is_empty() {
        let what = "it runs as root, and needs only two capabilities";
        let fix = "Start it by its systemd unit, which runs it as a user of its own.";
        findings.add(Severity::Note, Topic::Rights, place, what, fix);
    } else if has(NET_BIND_SERVICE) || listening.dhcp.is_empty() {
        findings.good(Topic::Rights, place, "has what it needs");
    }
}

pub(super) fn disk(findings: &mut Findings, app: &App) {
    let folder = app.library.folder();
    let place = folder.display().to_string();
    if let Some(trouble) = app.records.store.trouble() {
        let what = format!("nothing can be recorded: {trouble}; nothing is granted or taken until it can be");
        let fix =
            "Give the data folder room, and the right to be written; the service goes on by itself then.";
        findings.add(Severity::Fault, Topic::Disk, &place, what, fix);
    }
    let stat = match statvfs(folder) {
        Ok(stat) => stat,
        Err(error) => {
            let fix = "Look whether the data folder is still mounted.";
            findings.add(Severity::Fault, Topic::Disk, place, format!("cannot be looked at: {error}"), fix);
            return;
        }
    };
    let room = stat.blocks_available() * stat.fragment_size();
    let entries = stat.files().saturating_sub(stat.files_available()) as f64 / (stat.files().max(1)) as f64;
    let text = format!("{:.1} GiB free", room as f64 / f64::from(1 << 30));
    let fix = "Remove images that are no longer used, or give the data folder a larger disk.";
    if room < NO_ROOM {
        let what =
            format!("{text}: leases and records can no longer be kept soon, and then nothing is granted");
        findings.add(Severity::Fault, Topic::Disk, place, what, fix);
    } else if room < LITTLE_ROOM {
        findings.add(
            Severity::Warning,
            Topic::Disk,
            place,
            format!("{text}: little for further images"),
            fix,
        );
    } else if stat.files() > 0 && entries > ENTRIES_USED {
        let what = format!("{:.0} % of the file system's entries are used", entries * 100.0);
        findings.add(Severity::Warning, Topic::Disk, place, what, fix);
    } else {
        findings.good(Topic::Disk, place, text);
    }
}

pub(super) async fn clock(findings: &mut Findings, app: &App) {
    let now = clock::now();
    let newest = app.wire.book().iter().map(|record| record.since).max();
    let installs = app.records.site().open_installs().map(|install| install.last_step_at).max();
    let newest = newest.max(installs);
    let place = "this host's clock";
    if let Some(newest) = newest.filter(|newest| newest.duration_since(now) > AHEAD) {
        let what = format!("it shows {now:.0}, but a record was made at {newest:.0}: it was set back");
        let fix = "Set the clock, and have a time service keep it: leases and tokens run by it.";
        findings.add(Severity::Fault, Topic::Clock, place, what, fix);
        return;
    }
    // What systemd-timesyncd, and chrony and ntpd by way of systemd, leave behind once they agree with a server.
    if std::path::Path::new("/run/systemd/timesync/synchronized").exists() {
        findings.good(Topic::Clock, place, "kept by a time service");
    } else {
        let what = format!("it shows {now:.0}; no time service of systemd's says that it keeps it");
        let fix = "Compare it with a watch. Installers check certificates and signatures by the time they are given.";
        findings.add(Severity::Note, Topic::Clock, place, what, fix);
    }
}
