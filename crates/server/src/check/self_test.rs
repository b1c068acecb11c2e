//! Boots a machine of the service's own through the real sockets: DHCP on the wire or as a relay, the loader by TFTP
//! and HTTP, every digest checked. Nothing of it is recorded.

use std::{
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    time::{Duration, Instant},
};

use lastmile_api::Severity;
use lastmile_core::model::{
    image::Sha256,
    loader::Loader,
    subnet::{Mode, Subnet},
};
use lastmile_formats::{
    architecture::{Fetches, Firmware},
    dhcp::Message,
    tftp::{Packet, Receiver, ReceiverState, Wishes},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpStream, UdpSocket},
};

use super::{Findings, Topic};
use crate::{app::App, link::own_addresses, start::Listening};

/// Largest UDP payload over IPv4.
const BUFFER: usize = 65_507;
/// How long a whole loader may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// Boots once on every subnet that can be reached from here. `answered` are this service's own offers on its wires.
pub(super) async fn run(
    findings: &mut Findings,
    app: &App,
    listening: &Listening,
    answered: &[(String, Message)],
) {
    let site = app.records.site();
    for subnet in site.subnets().filter(|subnet| subnet.mode != Mode::Off) {
        if let Some(interface) = &subnet.interface {
            if listening.dhcp.iter().any(|(name, address)| name == interface && address.port() == 67) {
                on_wire(findings, subnet, interface, answered);
            }
        } else {
            through_relay(findings, app, listening, subnet).await;
        }
    }
    let (Some(tftp), Some(http)) = (listening.tftp.first(), listening.http.first()) else { return };
    for loader in site.loaders() {
        fetch(findings, loader, *tftp, *http).await;
    }
    menu(findings, app, *tftp).await;
}

/// Reads the menu as a loader does, as the machine that the service plays.
async fn menu(findings: &mut Findings, app: &App, tftp: SocketAddr) {
    let Some(playing) = app.wire.trial.play() else { return };
    let path = format!("grub/grub.cfg-01-{}", playing.mac.dashed());
    let fetched = tokio::time::timeout(PATIENCE, transfer(tftp, &path)).await;
    match fetched {
        Ok(Ok(menu)) if String::from_utf8_lossy(&menu).contains("menuentry ") => {
            findings.good(Topic::SelfTest, "menu", format!("{} bytes came by TFTP", menu.len()));
        }
        Ok(Ok(_)) => {
            let fix = "This is a defect of the program.";
            findings.add(Severity::Fault, Topic::SelfTest, "menu", "what came as a menu has no entry", fix);
        }
        Ok(Err(why)) => {
            let fix = "Look at the log of the service.";
            findings.add(
                Severity::Fault,
                Topic::SelfTest,
                "menu",
                format!("it did not come by TFTP: {why}"),
                fix,
            );
        }
        Err(_) => {
            let fix = "Look at what else loads this host, and at its firewall.";
            findings.add(Severity::Fault, Topic::SelfTest, "menu", "it did not come by TFTP in time", fix);
        }
    }
}

/// Fetches a file by HTTP as small as loaders' own clients are; gives its body.
async fn get(http: SocketAddr, path: &str) -> std::io::Result<Vec<u8>> {
    let mut stream = TcpStream::connect(http).await?;
    let request = format!("GET /{path} HTTP/1.1\r\nHost: {http}\r\nConnection: close\r\n\r\n");
    stream.write_all(request.as_bytes()).await?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).await?;
    let end = answer.windows(4).position(|bytes| bytes == b"\r\n\r\n");
    let body = end.filter(|_| answer.starts_with(b"HTTP/1.1 200 ")).map(|end| answer.split_off(end + 4));
    body.ok_or_else(|| std::io::Error::other("no file in the answer"))
}

fn on_wire(findings: &mut Findings, subnet: &Subnet, interface: &str, answered: &[(String, Message)]) {
    let offer = answered.iter().find(|(name, _)| name == interface).map(|(_, offer)| offer);
    match offer {
        Some(offer) if offer.file.is_empty() => findings.add(
            Severity::Warning,
            Topic::SelfTest,
            &subnet.name,
            format!("a machine that asked on {interface} was offered {} and no loader", offer.yiaddr),
            "Add a loader for uefi-x64: `lastmile loader add`.",
        ),
        Some(offer) => {
            let file = String::from_utf8_lossy(&offer.file).into_owned();
            let address =
                if offer.yiaddr.is_unspecified() { "no address".into() } else { offer.yiaddr.to_string() };
            let what = format!("a machine that asked on {interface} was offered {address}, to fetch {file}");
            findings.good(Topic::SelfTest, &subnet.name, what);
        }
        None => findings.add(
            Severity::Fault,
            Topic::SelfTest,
            &subnet.name,
            format!("a machine that asked on {interface} got no answer from this service"),
            "Look at the log of the service: level debug tells why a message is left unanswered.",
        ),
    }
}

/// A relay can be played where the subnet names one that is an address of this host.
async fn through_relay(findings: &mut Findings, app: &App, listening: &Listening, subnet: &Subnet) {
    let own = own_addresses();
    let played = subnet.relays.iter().find(|relay| relay.is_loopback() || own.contains(relay));
    let (Some(relay), Some(SocketAddr::V4(server))) = (played, listening.relays) else {
        let relays = subnet.relays.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        findings.add(
            Severity::Note,
            Topic::SelfTest,
            &subnet.name,
            format!("not tried: it is reached through {relays}, which only a machine there can try"),
            "Switch a machine on there, and read `lastmile trace`.",
        );
        return;
    };
    let link = Ipv4Addr::from_bits(subnet.network.network().to_bits() + 1);
    let Some(playing) = app.wire.trial.play() else { return };
    let firmware = Firmware {
        architecture: lastmile_formats::architecture::Architecture::UefiX64,
        fetches: Fetches::Tftp,
    };
    let server = SocketAddrV4::new(*server.ip(), server.port());
    let offers = playing.ask_as_relay(server, *relay, link, firmware).await;
    match offers.as_deref() {
        Ok([offer, ..]) => {
            let file = String::from_utf8_lossy(&offer.file).into_owned();
            let what =
                format!("a machine behind relay {relay} was offered {}, to fetch {file}", offer.yiaddr);
            findings.good(Topic::SelfTest, &subnet.name, what);
        }
        Ok([]) => {
            let fix = "Look at the log of the service: level debug tells why a message is left unanswered.";
            let what = format!("a machine behind relay {relay} got no answer");
            findings.add(Severity::Fault, Topic::SelfTest, &subnet.name, what, fix);
        }
        Err(error) => {
            let what = format!("a machine behind relay {relay} could not ask: {error}");
            findings.add(Severity::Warning, Topic::SelfTest, &subnet.name, what, "Look at `ip address`.");
        }
    }
}

/// Fetches a loader's boot file as firmware does, and checks it.
async fn fetch(findings: &mut Findings, loader: &Loader, tftp: SocketAddr, http: SocketAddr) {
    let place = format!("loader {}", loader.name);
    let Some(wanted) = loader.manifest.get(&loader.boot_file) else { return };
    let path = format!("loader/{}/{}", loader.name, loader.boot_file);
    let began = Instant::now();
    let fetched = tokio::time::timeout(PATIENCE, transfer(tftp, &path)).await;
    match fetched {
        Ok(Ok(file)) if Some(Sha256::of(&file)) == wanted.sha256 => {
            let what = format!(
                "{path} came by TFTP in {:.2} s, {} bytes, and its digest is right",
                began.elapsed().as_secs_f64(),
                file.len()
            );
            findings.good(Topic::SelfTest, &place, what);
            match tokio::time::timeout(PATIENCE, get(http, &path)).await {
                Ok(Ok(same)) if same == file => {
                    findings.good(Topic::SelfTest, place, "the same came by HTTP");
                }
                _ => {
                    let fix = "Look at the firewall of this host, and at the log of the service.";
                    let what = format!("{path} did not come by HTTP as it came by TFTP");
                    findings.add(Severity::Fault, Topic::SelfTest, place, what, fix);
                }
            }
        }
        Ok(Ok(file)) => {
            let what = format!("{path} came by TFTP with {} bytes and a wrong digest", file.len());
            let fix = "The file on the disk was changed: import the loader again.";
            findings.add(Severity::Fault, Topic::SelfTest, place, what, fix);
        }
        Ok(Err(why)) => {
            let fix = "Look at the log of the service, and import the loader again.";
            findings.add(
                Severity::Fault,
                Topic::SelfTest,
                place,
                format!("{path} did not come by TFTP: {why}"),
                fix,
            );
        }
        Err(_) => {
            let fix = "Look at what else loads this host, and at its firewall.";
            findings.add(
                Severity::Fault,
                Topic::SelfTest,
                place,
                format!("{path} did not come by TFTP in time"),
                fix,
            );
        }
    }
}

async fn transfer(server: SocketAddr, path: &str) -> Result<Vec<u8>, String> {
    let text = |error: std::io::Error| error.to_string();
    let socket = UdpSocket::bind((server.ip(), 0)).await.map_err(text)?;
    let wishes = Wishes { blksize: Some(1428), windowsize: Some(8), tsize: true };
    let mut receiver = Receiver::new(path, wishes, Instant::now());
    socket.send_to(receiver.request(), server).await.map_err(text)?;
    let (mut file, mut buffer, mut peer) = (Vec::new(), vec![0; BUFFER], server);
    loop {
        let received =
            tokio::time::timeout_at(receiver.deadline().into(), socket.recv_from(&mut buffer)).await;
        let word = match received {
            Ok(received) => {
                let (length, from) = received.map_err(text)?;
                if peer == server {
                    peer = from;
                }
                match Packet::parse(&buffer[..length]) {
                    Ok(packet) if from == peer => receiver.handle(&packet, &mut file, Instant::now()),
                    _ => continue,
                }
            }
            Err(_) => receiver.on_deadline(Instant::now()),
        };
        if let Some(word) = word {
            socket.send_to(word, peer).await.map_err(text)?;
        }
        match receiver.state() {
            ReceiverState::Running => {}
            ReceiverState::Done => return Ok(file),
            ReceiverState::Refused { message, .. } => return Err(message.clone()),
            ReceiverState::Lost => return Err("the service fell silent".into()),
            ReceiverState::BadOptions => return Err("options were granted that were not asked for".into()),
        }
    }
}
