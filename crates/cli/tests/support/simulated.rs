//! Simulated machines in front of a service on the loopback.

use std::time::Duration;

use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Booted, Identity, Machine, Pace, Reached};

/// A simulated machine before the service that [`super::site::loopback`] starts on these ports.
pub fn machine(first_port: u16, mac: &str, install: Duration) -> Machine {
    let reached = Reached {
        dhcp: format!("127.0.0.1:{first_port}").parse().unwrap(),
        tftp_port: first_port + 1,
        http_port: first_port + 2,
        link: "198.51.100.1".parse().unwrap(),
    };
    let identity = Identity { mac: mac.parse().unwrap(), architecture: Architecture::UefiX64 };
    Machine::new(identity, reached, Pace { install, ..Pace::FULL }).unwrap()
}

/// Boots a machine and installs it to the end.
pub async fn install(first_port: u16, mac: &str, takes: Duration) {
    let machine = machine(first_port, mac, takes);
    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.unwrap() else {
        panic!("nothing was started")
    };
    machine.install(address, &parameters, &mut |_| {}).await.unwrap();
}
