//! The simulated machine against a service that does one thing wrong: it must notice.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{
    collections::HashMap,
    net::{Ipv4Addr, SocketAddr},
    sync::Arc,
    time::Instant,
};

use axum::{
    Router,
    extract::State,
    http::{StatusCode, Uri},
    response::{IntoResponse, Response},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use lastmile_core::model::image::Sha256;
use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, Message, code},
    tftp::{ErrorCode, Limits, Packet, Sender, SenderState, Terms, Transmit},
};
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached, SimError};
use tokio::net::{TcpListener, UdpSocket};

const LOADER: &str = "loader/core.0";
const MENU: &str = "boot-loader/grub/grub.cfg-01-00-00-5e-00-53-01";

/// A stand-in for the service: its files, and what it says about them.
#[derive(Clone, Default)]
struct Stub {
    files: HashMap<String, Vec<u8>>,
    /// Files whose announced digest is another's.
    lied_about: Vec<String>,
    /// The address that an installer is given, if not the firmware's.
    other_address: Option<Ipv4Addr>,
    /// Requests are refused.
    naks: bool,
}

const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 50);

impl Stub {
    fn with(mut self, path: &str, content: impl Into<Vec<u8>>) -> Self {
        self.files.insert(path.into(), content.into());
        self
    }

    /// Starts it; gives a machine that boots from it.
    async fn start(self) -> Machine {
        let stub = Arc::new(self);
        let bind = async || UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
        let (dhcp, tftp) = (bind().await, bind().await);
        let http = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
        let SocketAddr::V4(relays) = dhcp.local_addr().unwrap() else { panic!("IPv4 was bound") };
        let reached = Reached {
            dhcp: relays,
            tftp_port: tftp.local_addr().unwrap().port(),
            http_port: http.local_addr().unwrap().port(),
            link: Ipv4Addr::new(192, 0, 2, 1),
        };
        tokio::spawn(answer_dhcp(stub.clone(), dhcp));
        tokio::spawn(answer_tftp(stub.clone(), tftp));
        let router = Router::new().fallback(answer_http).with_state(stub);
        tokio::spawn(async move { axum::serve(http, router).await });
        let identity =
            Identity { mac: "00:00:5e:00:53:01".parse().unwrap(), architecture: Architecture::Bios };
        Machine::new(identity, reached, Pace::FULL).unwrap()
    }
}

async fn answer_dhcp(stub: Arc<Stub>, socket: UdpSocket) {
    let mut buffer = [0; 2048];
    loop {
        let (length, from) = socket.recv_from(&mut buffer).await.unwrap();
        let request = Message::parse(&buffer[..length]).unwrap();
        let kind = match request.kind {
            Kind::Discover => Kind::Offer,
            _ if stub.naks => Kind::Nak,
            _ => Kind::Ack,
        };
        let mut reply = Message::reply_to(&request, kind);
        let installer = request.firmware().is_none();
        reply.yiaddr = stub.other_address.filter(|_| installer).unwrap_or(ADDRESS);
        reply.siaddr = Ipv4Addr::LOCALHOST;
        reply.file = LOADER.into();
        reply.options.set(code::MESSAGE, *b"not today");
        socket.send_to(&reply.emit(), from).await.unwrap();
    }
}

async fn answer_tftp(stub: Arc<Stub>, socket: UdpSocket) {
    let mut buffer = [0; 2048];
    loop {
        let (length, from) = socket.recv_from(&mut buffer).await.unwrap();
        let Ok(Packet::Read { name, options, .. }) = Packet::parse(&buffer[..length]) else { continue };
        let Some(file) = stub.files.get(name.as_ref()).cloned() else {
            let error = Packet::Error { code: ErrorCode::NotFound, message: "no such file".into() };
            socket.send_to(&error.emit(), from).await.unwrap();
            continue;
        };
        let (terms, agreed) = Terms::negotiate(&options, file.len() as u64, Limits::for_mtu(1500));
        tokio::spawn(async move {
            let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
            let mut sender = Sender::new(terms, agreed, file.len() as u64, Instant::now());
            let mut buffer = [0; 2048];
            while *sender.state() == SenderState::Running {
                while let Some(transmit) = sender.poll() {
                    let packet = match transmit {
                        Transmit::OptionAck(options) => Packet::OptionAck { options }.emit(),
                        Transmit::Data { block, offset, length } => {
                            let start = usize::try_from(offset).unwrap();
                            Packet::Data { block, data: &file[start..start + length] }.emit()
                        }
                    };
                    socket.send_to(&packet, from).await.unwrap();
                }
                let length = socket.recv(&mut buffer).await.unwrap();
                sender.handle(&Packet::parse(&buffer[..length]).unwrap(), Instant::now());
            }
        });
    }
}

async fn answer_http(State(stub): State<Arc<Stub>>, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let Some(file) = stub.files.get(path) else { return StatusCode::NOT_FOUND.into_response() };
    let lied = stub.lied_about.iter().any(|lied| lied == path);
    let digest = Sha256::of(if lied { b"something else" } else { file });
    let header = format!("sha-256=:{}:", STANDARD.encode(digest.octets()));
    ([("repr-digest", header)], file.clone()).into_response()
}

fn good() -> Stub {
    let menu = "menuentry x {\n linux (tftp,127.0.0.1)/boot/linux quiet url=http://127.0.0.1:1/x\n}\n";
    Stub::default().with(LOADER, vec![1; 5000]).with(MENU, menu).with("boot/linux", vec![2; 9000])
}

async fn boot(stub: Stub) -> Result<Booted, SimError> {
    stub.start().await.boot(&mut |_| {}).await
}

#[tokio::test]
async fn a_good_service_boots_it() {
    let booted = boot(good()).await.unwrap();
    let Booted::Kernel { address, parameters } = booted else { panic!("{booted:?}") };
    assert_eq!(address, ADDRESS);
    assert_eq!(parameters, ["quiet", "url=http://127.0.0.1:1/x"]);
}

#[tokio::test]
async fn a_wrong_digest_is_noticed_wherever_it_is() {
    for path in [LOADER, "boot/linux"] {
        let mut stub = good();
        stub.lied_about.push(path.into());
        match boot(stub).await {
            Err(SimError::Digest { path: found, .. }) => assert_eq!(found, path),
            other => panic!("{path}: {other:?}"),
        }
    }
}

#[tokio::test]
async fn what_is_missing_is_named() {
    for path in [LOADER, MENU, "boot/linux"] {
        let mut stub = good();
        stub.files.remove(path);
        match boot(stub).await {
            Err(SimError::Fetch { path: found, why }) => {
                assert_eq!((found.as_str(), why.as_str()), (path, "no such file"));
            }
            other => panic!("{path}: {other:?}"),
        }
    }
}

#[tokio::test]
async fn a_menu_that_cannot_be_read_is_told_with_its_line() {
    let error = boot(good().with(MENU, "set timeout=5\nfrobnicate\n")).await.unwrap_err();
    assert_eq!(error.to_string(), "the menu, line 2: 'frobnicate' with 0 words is not known here");
}

#[tokio::test]
async fn a_refusal_and_a_changed_address_are_told() {
    let mut stub = good();
    stub.naks = true;
    let error = boot(stub).await.unwrap_err();
    assert_eq!(error.to_string(), "the service refused 192.0.2.50: not today");

    let mut stub = good();
    stub.other_address = Some(Ipv4Addr::new(192, 0, 2, 51));
    let machine = stub.start().await;
    let error = machine.install(ADDRESS, &[], &mut |_| {}).await.unwrap_err();
    assert_eq!(error.to_string(), "the firmware was given 192.0.2.50, the installer 192.0.2.51");
}
