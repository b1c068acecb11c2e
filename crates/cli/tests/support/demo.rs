use std::{
    io::{BufRead, BufReader},
    process::{Child, Command, Stdio},
};

use lastmile_client::Client;
use lastmile_sim::Reached;

use super::service::LASTMILE;

/// A running `lastmile demo`, ended with the value.
pub struct Demo {
    child: Child,
    pub console: String,
}

impl Demo {
    pub fn start() -> Self {
        let (demo, story) = Self::telling(&[]);
        // Read on, so that the demo is never stopped by a full pipe.
        std::thread::spawn(move || story.count());
        demo
    }

    /// With these options; gives its story, too, which must be read.
    pub fn telling(options: &[&str]) -> (Self, impl Iterator<Item = String> + use<>) {
        let mut child = Command::new(LASTMILE)
            .args(["demo", "--port", "0"])
            .args(options)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut story = BufReader::new(child.stdout.take().unwrap()).lines().map(Result::unwrap);
        let first = story.next().unwrap();
        let console = first.split("Console: ").nth(1).unwrap().trim().to_owned();
        (Self { child, console }, story)
    }

    pub fn client(&self) -> Client {
        Client::new(&self.console, "test").unwrap()
    }

    /// Where a simulated machine at Skerry Point reaches the demo's service.
    pub async fn reached(&self) -> Reached {
        let listens = self.client().status_read().await.unwrap().listens;
        let port = |what: &str| {
            let line = listens.iter().find(|line| line.starts_with(what)).unwrap();
            line.rsplit(':').next().unwrap().parse::<u16>().unwrap()
        };
        Reached {
            dhcp: std::net::SocketAddrV4::new([127, 0, 0, 1].into(), port("DHCP from relays")),
            tftp_port: port("TFTP"),
            http_port: port("boot HTTP"),
            link: [192, 0, 2, 1].into(),
        }
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        // Told, not killed: the demo removes the folder it made.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}
