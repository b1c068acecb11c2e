//! Power, against another program's management controller: OpenIPMI's `ipmi_sim`, and `ipmitool`, which reads back what was set.

use std::{
    net::{SocketAddr, UdpSocket},
    time::Duration,
};

use lastmile_bmc::{Account, Driver, Failure, NextBoot, Power, Switch, ipmi::Ipmi};

use crate::support::{bmc::Bmc, need, netns::Netns, unpacked, unpacked_libraries, wait_for};

/// Runs what needs the network of a namespace.
fn within<T: Send + 'static, F: Future<Output = T>>(
    namespace: &Netns,
    work: impl FnOnce() -> F + Send + 'static,
) -> T {
    namespace.inside(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(work())
    })
}

fn account(user: &str, password: &str) -> Account {
    Account { user: user.into(), password: password.to_owned().into() }
}

fn ipmi(user: &str, password: &str) -> Ipmi {
    Ipmi::new(Bmc::OUTSIDE.parse().unwrap(), account(user, password))
}

/// What another client reads there.
fn ipmitool(namespace: &Netns, words: &str) -> String {
    let tool = need(unpacked().join("usr/bin/ipmitool").to_str().unwrap(), "ipmitool, which is unpacked");
    let (host, port) = Bmc::OUTSIDE.split_once(':').unwrap();
    let said = namespace
        .command(&tool)
        .env("LD_LIBRARY_PATH", unpacked_libraries())
        .args(["-I", "lanplus", "-C", "3", "-H", host, "-p", port, "-U", Bmc::USER, "-P", Bmc::PASSWORD])
        .args(words.split(' '))
        .output()
        .unwrap();
    assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
    String::from_utf8(said.stdout).unwrap()
}

fn started(what: &str) -> (Netns, tempfile::TempDir, Bmc) {
    let (namespace, folder) = (Netns::new(what), tempfile::tempdir().unwrap());
    let bmc = Bmc::start(&namespace, folder.path());
    let is_there = || {
        within(&namespace, || async {
            ipmi(Bmc::USER, Bmc::PASSWORD).power().await.map_err(|e| eprintln!("{e:?}")).ok()
        })
    };
    wait_for("the controller", Duration::from_secs(20), is_there);
    (namespace, folder, bmc)
}

#[test]
fn a_machine_is_switched_and_told_what_to_boot_by_ipmi() {
    let (namespace, _folder, bmc) = started("ipmi");
    let power = || within(&namespace, || async { ipmi(Bmc::USER, Bmc::PASSWORD).power().await.unwrap() });
    let switch = |to: Switch| {
        within(&namespace, move || async move { ipmi(Bmc::USER, Bmc::PASSWORD).switch(to).await.unwrap() });
    };
    assert_eq!((power(), bmc.is_on()), (Power::Off, false));
    switch(Switch::On);
    assert_eq!((power(), bmc.is_on()), (Power::On, true));
    assert!(ipmitool(&namespace, "chassis power status").contains("is on"));
    switch(Switch::Cycle);
    wait_for("that it is on again", Duration::from_secs(10), || bmc.is_on().then_some(()));
    assert!(bmc.asked().ends_with("set power 0\nget power\nset power 1"), "{}", bmc.asked());
    switch(Switch::Off);
    assert_eq!((power(), bmc.is_on()), (Power::Off, false));
    // What is off is switched on by a cycle, too.
    switch(Switch::Cycle);
    assert!(bmc.is_on());
    switch(Switch::ShutDown);
    wait_for("that it shuts down", Duration::from_secs(10), || (!bmc.is_on()).then_some(()));

    let next = |next: Option<NextBoot>| {
        within(&namespace, move || async move { ipmi(Bmc::USER, Bmc::PASSWORD).boot_next(next, true).await })
    };
    for (boot, says, read) in [
        (NextBoot::Network, "pxe", "Force PXE"),
        (NextBoot::Disk, "default", "Force Boot from default Hard-Drive"),
        (NextBoot::Disc, "cdrom", "Force Boot from CD/DVD"),
        (NextBoot::Setup, "bios", "Force Boot into BIOS Setup"),
    ] {
        next(Some(boot)).unwrap();
        assert_eq!(bmc.boots(), says);
        let flags = ipmitool(&namespace, "chassis bootparam get 5");
        assert!(flags.contains(read), "{boot}: {flags}");
    }
    next(None).unwrap();
    assert_eq!(bmc.boots(), "none");
    assert!(matches!(next(Some(NextBoot::Http)), Err(Failure::Unsupported(_))));
}

#[test]
fn who_may_not_is_told_why_and_who_is_not_there_is_said_to_be_so() {
    let (namespace, _folder, bmc) = started("ipmi-refused");
    let fails = |user: &'static str, password: &'static str| {
        within(
            &namespace,
            move || async move { ipmi(user, password).switch(Switch::On).await.expect_err(user) },
        )
    };
    for (user, password, why) in [
        (Bmc::USER, "terns-at-dawn", "the password is not the one that the controller has"),
        ("nobody", Bmc::PASSWORD, "it has no such user"),
        ("a name of more than sixteen", Bmc::PASSWORD, "IPMI has room for 16"),
    ] {
        let failure = fails(user, password);
        assert!(matches!(&failure, Failure::LogIn { user: who, .. } if who == user), "{failure:?}");
        assert!(failure.to_string().contains(why), "{failure}");
        assert!(!failure.to_string().contains(password), "{failure}");
    }
    assert!(!bmc.is_on());
    drop(bmc);
    let failure = fails(Bmc::USER, Bmc::PASSWORD);
    // The kernel says so, where nothing listens.
    assert!(matches!(failure, Failure::Unreachable(_)), "{failure:?}");
}

/// Somebody at an address who answers everything with the same.
fn answering(answer: &'static [u8]) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut buffer = [0; 2048];
        while let Ok((_, from)) = socket.recv_from(&mut buffer) {
            let _ = socket.send_to(answer, from);
        }
    });
    address
}

#[tokio::test]
async fn a_controller_that_talks_nonsense_is_given_up_with_what_it_said() {
    let ask = |address| async move {
        let bmc = Ipmi::new(address, account(Bmc::USER, Bmc::PASSWORD));
        bmc.power().await.unwrap_err()
    };
    let garbled = ask(answering(b"\x06\x00"));
    // What is well formed, and answers something else, is no answer.
    let other = ask(answering(b"\x06\x00\xff\x07\x00\0\0\0\0\0\0\0\0\x02ab"));
    let (garbled, other) = tokio::join!(garbled, other);
    assert!(matches!(&garbled, Failure::Garbled(why) if why.contains("cut short")), "{garbled:?}");
    assert_eq!(other, Failure::Silent(Duration::from_secs(9)));
}
