//! Redfish, against another program's controller (the emulator of `sushy-tools`), and against controllers that are out of order.

use std::{
    io::{Read, Write},
    net::{SocketAddr, TcpListener},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Duration,
};

use lastmile_bmc::{
    Account, Driver, Failure, NextBoot, Power, Switch,
    redfish::{Fingerprint, Redfish, Trust},
};

use crate::support::need;

const USER: &str = "purser";
const PASSWORD: &str = "terns-at-dusk";
const SYSTEM: &str = "6f9619ff-8b86-d011-b42d-00c04fc964ff";

fn python() -> (String, PathBuf) {
    let packages = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses/redfish");
    need(packages.join("bin/sushy-emulator").to_str().unwrap(), "sushy-tools, of PyPI");
    (need("/usr/bin/python3", "python3"), packages)
}

/// The emulator, of one machine that is off; ended with the value.
struct Emulator {
    child: Child,
    _folder: tempfile::TempDir,
    address: SocketAddr,
}

impl Emulator {
    fn start(port: u16, is_plain: bool) -> Self {
        let (folder, (python, packages)) = (tempfile::tempdir().unwrap(), python());
        let path = |name: &str| folder.path().join(name).display().to_string();
        let crypt =
            "import bcrypt, sys; print(bcrypt.hashpw(sys.argv[1].encode(), bcrypt.gensalt(4)).decode())";
        let hash = Command::new(&python)
            .env("PYTHONPATH", &packages)
            .args(["-c", crypt, PASSWORD])
            .output()
            .unwrap();
        let hash = String::from_utf8(hash.stdout).unwrap();
        std::fs::write(path("users"), format!("{USER}:{hash}")).unwrap();
        let made = rcgen::generate_simple_self_signed(["bmc.gannet.example".to_owned()]).unwrap();
        std::fs::write(path("certificate"), made.cert.pem()).unwrap();
        std::fs::write(path("key"), made.signing_key.serialize_pem()).unwrap();
        let mut configuration = format!(
            "SUSHY_EMULATOR_LISTEN_IP = '127.0.0.1'\nSUSHY_EMULATOR_LISTEN_PORT = {port}\n\
             SUSHY_EMULATOR_AUTH_FILE = '{}'\nSUSHY_EMULATOR_FAKE_DRIVER = True\nSUSHY_EMULATOR_FAKE_SYSTEMS = \
             [{{'uuid': '{SYSTEM}', 'name': 'quay', 'power_state': 'Off', 'nics': []}}]\n",
            path("users"),
        );
        if !is_plain {
            configuration.push_str(&format!(
                "SUSHY_EMULATOR_SSL_CERT = '{}'\nSUSHY_EMULATOR_SSL_KEY = '{}'\n",
                path("certificate"),
                path("key")
            ));
        }
        std::fs::write(path("configuration"), configuration).unwrap();
        let child = Command::new(&python)
            .env("PYTHONPATH", &packages)
            .arg(packages.join("bin/sushy-emulator"))
            .args(["--fake", "--config", &path("configuration")])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        Self { child, _folder: folder, address: ([127, 0, 0, 1], port).into() }
    }

    /// A driver for it, once it answers.
    async fn driver(&self, trust: Trust, is_plain: bool) -> Redfish {
        for _ in 0..200 {
            let driver = redfish(self.address, USER, PASSWORD, trust, is_plain);
            match driver.power().await {
                Err(Failure::Unreachable(_)) => tokio::time::sleep(Duration::from_millis(100)).await,
                Ok(_) => return driver,
                Err(failure) => panic!("{failure}"),
            }
        }
        panic!("the emulator does not answer")
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn redfish(address: SocketAddr, user: &str, password: &str, trust: Trust, is_plain: bool) -> Redfish {
    let account = Account { user: user.into(), password: password.to_owned().into() };
    Redfish::new(address, account, trust, None, is_plain).unwrap()
}

/// Until the machine is so: it takes some seconds, as a real one does.
async fn until(driver: &Redfish, power: Power) {
    for _ in 0..400 {
        if driver.power().await.unwrap() == power {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("it is not {power}");
}

#[tokio::test]
async fn a_machine_is_switched_and_told_what_to_boot_by_redfish() {
    let emulator = Emulator::start(31_000, true);
    let driver = emulator.driver(Trust::Any, true).await;
    assert_eq!(driver.power().await.unwrap(), Power::Off);
    for (switch, then) in [
        // What is off is switched on by a cycle, too.
        (Switch::Cycle, Power::On),
        (Switch::ShutDown, Power::Off),
        (Switch::On, Power::On),
        (Switch::Off, Power::Off),
    ] {
        driver.switch(switch).await.unwrap();
        until(&driver, then).await;
    }
    for (next, read) in [
        (NextBoot::Network, NextBoot::Network),
        (NextBoot::Disc, NextBoot::Disc),
        (NextBoot::Disk, NextBoot::Disk),
        // The emulator takes it, and tells both ways over the network as one.
        (NextBoot::Http, NextBoot::Network),
    ] {
        driver.boot_next(Some(next), true).await.unwrap();
        assert_eq!(driver.next_boot().await.unwrap(), Some(read));
    }
    let failure = driver.boot_next(Some(NextBoot::Setup), true).await.unwrap_err();
    assert!(matches!(&failure, Failure::Unsupported(why) if why.contains("not BiosSetup")), "{failure}");
    let wrong = redfish(emulator.address, USER, "terns-at-dawn", Trust::Any, true);
    let failure = wrong.switch(Switch::On).await.unwrap_err();
    assert!(matches!(&failure, Failure::LogIn { user, .. } if user == USER), "{failure}");
    assert!(!format!("{failure:?} {wrong:?}").contains("terns"), "{failure:?} {wrong:?}");
}

#[tokio::test]
async fn a_controller_is_known_by_its_certificate() {
    let emulator = Emulator::start(31_001, false);
    let driver = emulator.driver(Trust::Any, false).await;
    let shown = driver.shown().unwrap();
    let pinned = emulator.driver(Trust::Pinned(shown), false).await;
    assert_eq!(pinned.power().await.unwrap(), Power::Off);
    let other = Trust::Pinned(Fingerprint([7; 32]));
    let failure =
        redfish(emulator.address, USER, PASSWORD, other, false).switch(Switch::On).await.unwrap_err();
    let Failure::Impostor(why) = &failure else { panic!("{failure:?}") };
    assert!(why.contains(&shown.to_string()) && why.contains("0707"), "{why}");
    assert_eq!(pinned.power().await.unwrap(), Power::Off, "nothing was said to it");
}

/// A controller that answers every question with these bytes, and then hangs up, or never does.
fn answering(answer: Vec<u8>, is_endless: bool) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let (mut stream, answer) = (stream.unwrap(), answer.clone());
            std::thread::spawn(move || {
                let _ = stream.read(&mut [0; 4096]);
                let _ = stream.write_all(&answer);
                while is_endless && stream.write_all(&[b' '; 65_536]).is_ok() {}
            });
        }
    });
    address
}

#[tokio::test]
async fn controllers_that_are_out_of_order_are_given_up_each_with_its_reason() {
    let says = |head: &str, body: &str| {
        format!("HTTP/1.1 {head}\r\nContent-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
    };
    let busy = r#"{"error": {"@Message.ExtendedInfo": [{"Message": "The service is\u001b[2J starting."}]}}"#;
    let cases = [
        (says("200 OK", "<html>"), false, "/redfish/v1/ is no JSON"),
        (says("200 OK", "{}"), false, "it has no systems"),
        (b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\n{".to_vec(), false, "cannot be read"),
        (b"HTTP/1.1 200 OK\r\n\r\n".to_vec(), true, "larger than 1048576 bytes"),
        (b"\x16\x03\x01nonsense".to_vec(), false, "cannot be read"),
        (says("503 Busy", busy), false, "it is busy: The service is[2J starting. (503)"),
        (says("405 No", ""), false, "it cannot do this: 405"),
        (says("500 Oh", ""), false, "it refuses: 500"),
        // The password goes nowhere else.
        (says("302 Found\r\nLocation: http://127.0.0.1:1/", ""), false, "it refuses: 302"),
    ];
    for (answer, is_endless, part) in cases {
        let driver = redfish(answering(answer, is_endless), USER, PASSWORD, Trust::Any, true);
        let failure = driver.power().await.unwrap_err();
        assert!(failure.to_string().contains(part), "{part}: {failure}");
    }
    let nobody = redfish("127.0.0.1:1".parse().unwrap(), USER, PASSWORD, Trust::Any, false);
    assert!(matches!(nobody.power().await, Err(Failure::Unreachable(_))));
}
