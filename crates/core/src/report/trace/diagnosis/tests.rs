use std::{net::Ipv4Addr, sync::Arc};

use lastmile_formats::{
    architecture::Architecture,
    dhcp::{Kind, code},
    tftp::Terms,
};

use super::{stories::*, *};
use crate::{
    decide::dhcp::{NoReply, NoSubnet},
    model::{agent::DHCP_CLASS, install::ReportStage},
    report::trace::{AgentEvent, Silence},
};

/// What is found, `secs` after the last event.
fn found(story: &Story, secs: i64) -> Vec<Diagnosis> {
    diagnose(&story.events, story.now + SignedDuration::from_secs(secs))
}

/// The only case found then.
#[track_caller]
fn only(story: &Story, secs: i64, case: Case) -> Diagnosis {
    let found = found(story, secs);
    assert_eq!(found.iter().map(|diagnosis| diagnosis.case).collect::<Vec<_>>(), [case], "{found:#?}");
    found.into_iter().next().unwrap()
}

#[track_caller]
fn nothing(story: &Story, secs: i64) {
    assert_eq!(found(story, secs), []);
}

#[test]
fn a_boot_that_goes_well_has_nothing_to_explain() {
    let mut story = Story::new();
    nothing(&story, 0);
    story.discover();
    nothing(&story, 3);
    story.after(4).discover().after(1).request().loader();
    nothing(&story, 5);
    story.after(2).menu().kernel();
    nothing(&story, 60);
    story.after(65).installer_lease();
    nothing(&story, 10);
    story.after(8).answers().report(ReportStage::Started);
    nothing(&story, 3600);
    story.report(ReportStage::Done);
    nothing(&story, 3600);
}

#[test]
fn offers_never_requested() {
    let mut story = Story::new();
    story.discover().after(4).discover().after(8).discover().after(16).discover();
    let found = only(&story, 1, Case::OffersNeverRequested);
    assert_eq!(found.seen, "4 offers sent, no request");
    assert!(found.fix.contains("DHCP snooping"), "{found:?}");
    let mut relayed = Story::new();
    relayed.relay = Ipv4Addr::new(198, 51, 100, 1);
    relayed.discover();
    nothing(&relayed, 5);
    assert!(only(&relayed, 11, Case::OffersNeverRequested).fix.contains("relay 198.51.100.1"));
}

#[test]
fn requests_for_another_server() {
    let mut story = Story::new();
    story.discover();
    let request = story.message(Kind::Request);
    story.after(1).silent(&request, Silence::Reply(NoReply::OtherServer { chosen: OTHER }));
    let found = only(&story, 60, Case::OtherServerChosen);
    assert!(found.seen.contains("192.0.2.3") && found.fix.contains("holm-quay to mode `proxy`"), "{found:?}");
}

#[test]
fn a_second_server_answering() {
    let mut story = Story::new();
    story.discover().foreign(false).after(1).request();
    assert!(only(&story, 1, Case::SecondServer).fix.contains("192.0.2.3"));
    let mut beside = Story::new();
    beside.discover().foreign(true).after(1).request();
    nothing(&beside, 1);
}

#[test]
fn another_architectures_loader() {
    let mut story = Story::new();
    story.architecture = Architecture::Bios;
    story.discover().request();
    story.file("loader/signed-x64/shimx64.efi", Role::Loader(Architecture::UefiX64), TransferEnd::Done);
    let found = only(&story, 1, Case::WrongLoader);
    assert!(found.seen.contains("bios firmware") && found.seen.contains("uefi-x64"), "{found:?}");
}

#[test]
fn loader_but_no_menu() {
    let mut story = Story::new();
    story.discover().request().loader();
    nothing(&story, 20);
    story.after(1).file("loader/x/grubx64.efi", Role::BesideLoader, TransferEnd::Done);
    nothing(&story, 29);
    let found = only(&story, 31, Case::NoMenuAsked);
    assert!(found.seen.starts_with("loader/x/grubx64.efi") && found.fix.contains("Secure Boot"), "{found:?}");
    let mut beside = Story::new();
    beside.discover().foreign(true).request().loader();
    assert!(only(&beside, 31, Case::NoMenuAsked).fix.contains("next server"));
}

#[test]
fn a_file_that_is_not_there() {
    let mut story = Story::new();
    story.discover().request();
    let end =
        TransferEnd::NotFound { nearest: Some("loader/signed-x64/shimx64.efi".into()), optional: false };
    story.file("loader/signed-x64/shimx46.efi", Role::Unknown, end);
    let found = only(&story, 1, Case::FileNotFound);
    assert!(found.means.contains("shimx64.efi"), "{found:?}");
    let mut optional = Story::new();
    optional.discover().request().loader();
    optional.file("revocations.efi", Role::Unknown, TransferEnd::NotFound { nearest: None, optional: true });
    nothing(&optional, 1);
}

#[test]
fn a_transfer_that_stalls_says_why_by_its_size_and_loss() {
    let stall = |delivered: u64, retransmitted: u64, blksize: u16| {
        let mut story = Story::new();
        story.discover().request();
        story.file_with("linux", Role::Kernel, TransferEnd::Stalled, |file| {
            file.delivered = delivered;
            file.retransmitted = retransmitted;
            file.terms = Some(Terms { blksize, ..Terms::default() });
        });
        only(&story, 1, Case::TransferStalled)
    };
    let large = stall(0, 5, 1468);
    assert!(large.seen.contains("blksize 1468") && large.fix.contains("MTU"), "{large:?}");
    assert!(stall(0, 5, 512).fix.contains("from any port"));
    assert!(stall(500_000, 400, 1468).means.contains("loses packets"));
    assert!(stall(500_000, 2, 1468).means.contains("fell silent"));
    let mut fixed = Story::new();
    fixed.discover().request().file("linux", Role::Kernel, TransferEnd::Stalled);
    fixed.file("linux", Role::Kernel, TransferEnd::Done);
    nothing(&fixed, 1);
}

#[test]
fn a_module_that_the_menu_asks_for_is_no_sign_of_trouble() {
    let mut story = Story::new();
    story.discover().request().loader().menu();
    story.file("grub/x86_64-efi/http.mod", Role::BesideLoader, TransferEnd::Done);
    nothing(&story, 600);
}

#[test]
fn kernel_but_no_second_dhcp() {
    let mut story = Story::new();
    story.discover().request().loader().menu().kernel();
    nothing(&story, 149);
    assert!(only(&story, 151, Case::NoSecondLease).means.contains("found no NIC"));
}

#[test]
fn an_agent_that_does_not_connect_or_is_refused() {
    let mut story = Story::new();
    story.discover().request().loader().file("grub/grub.cfg", Role::Menu, TransferEnd::Done).kernel();
    story.after(20).system_lease(DHCP_CLASS);
    nothing(&story, 59);
    assert!(only(&story, 61, Case::AgentNotConnected).fix.contains("firewall"));
    story.after(5).agent(AgentEvent::Refused, "refused: its token is for another machine");
    let found = only(&story, 1, Case::AgentNotConnected);
    assert_eq!(found.seen, "the survey's agent was refused: its token is for another machine");
    // Once it is let in, nothing is wrong any more.
    story.after(5).agent(AgentEvent::Connected, "welcome");
    nothing(&story, 600);
    // Of one that waits for days only its renewals are left in the trace.
    let mut renewals = Story::new();
    renewals.renewal(DHCP_CLASS);
    nothing(&renewals, 600);
}

#[test]
fn answers_never_fetched() {
    let mut story = Story::new();
    story.discover().request().loader().menu().kernel().after(65).installer_lease();
    nothing(&story, 59);
    assert!(only(&story, 61, Case::AnswersNeverFetched).fix.contains("lastmile plan"));
}

#[test]
fn the_same_install_again_and_again() {
    let mut story = Story::new();
    for _ in 0..3 {
        story.discover().request().loader().menu().kernel().after(65).installer_lease().answers().after(900);
    }
    assert!(only(&story, 1, Case::InstallRepeats).seen.contains("3 times"));
    let mut well = Story::new();
    for _ in 0..3 {
        well.discover()
            .request()
            .loader()
            .menu()
            .kernel()
            .installer_lease()
            .answers()
            .report(ReportStage::Done);
        well.after(900);
    }
    nothing(&well, 1);
}

#[test]
fn a_newcomer_that_is_left_alone() {
    let mut story = Story::new();
    let request = story.message(Kind::Discover);
    story.silent(&request, Silence::Reply(NoReply::Newcomer { subnet: "holm-quay".into() }));
    let found = only(&story, 1, Case::NewcomerIgnored);
    assert!(found.fix.contains("machine add NAME --mac 02:00:5e:00:53:01"), "{found:?}");
    // An address alone is as little to boot from.
    let mut left = Story::new();
    left.discover().request();
    if let Seen::Dhcp(dhcp) = &mut Arc::make_mut(&mut left.events[0]).seen {
        let course = super::super::Course::NewcomerLeft;
        dhcp.decision =
            Some(super::super::Decision { course, gets: "nothing".into(), why: "a newcomer".into() });
    }
    only(&left, 1, Case::NewcomerIgnored);
}

#[test]
fn an_architecture_without_a_loader() {
    for (architecture, fix) in
        [(Architecture::UefiArm64, "--architecture uefi-arm64"), (Architecture::Other(99), "`code-99`")]
    {
        let mut story = Story::new();
        story.architecture = architecture;
        story.discover();
        if let Seen::Dhcp(dhcp) = &mut Arc::make_mut(&mut story.events[0]).seen {
            dhcp.lacks_loader = Some(architecture);
        }
        let found = only(&story, 1, Case::NoLoader);
        assert!(found.fix.contains(fix), "{found:?}");
    }
}

#[test]
fn questions_that_no_subnet_is_there_for() {
    let silence = |why: NoSubnet| {
        let mut story = Story::new();
        let request = story.message(Kind::Discover);
        story.silent(&request, Silence::Subnet(why));
        only(&story, 1, Case::NotAnswered).fix
    };
    let giaddr = Ipv4Addr::new(198, 51, 100, 1);
    assert!(silence(NoSubnet::UnknownRelay { giaddr }).contains("--append relays=198.51.100.1"));
    assert!(silence(NoSubnet::Off { name: "tern-bay".into() }).contains("subnet change tern-bay"));
    assert!(silence(NoSubnet::UnknownInterface { interface: "eno2".into() }).contains("subnet suggest eno2"));
}

#[test]
fn a_full_pool() {
    let mut story = Story::new();
    let request = story.message(Kind::Discover);
    let full = crate::decide::dhcp::NoAddress::PoolsFull { subnet: "holm-quay".into(), size: 3 };
    story.silent(&request, Silence::Reply(NoReply::NoAddress(full)));
    let found = only(&story, 1, Case::NotAnswered);
    assert!(found.seen.contains("every address") && found.fix.contains("Widen"), "{found:?}");
}

#[test]
fn an_address_that_is_in_use_and_one_that_is_refused() {
    let mut story = Story::new();
    story.discover().request();
    let mut decline = story.message(Kind::Decline);
    decline.options.set(code::REQUESTED_ADDRESS, ADDRESS.octets());
    let exchange = story.exchange(&decline, None);
    story.push(Seen::Dhcp(Box::new(exchange)));
    assert!(
        only(&story, 1, Case::AddressInUse)
            .fix
            .contains("subnet change holm-quay --append exclusions=192.0.2.50`")
    );

    let mut moved = Story::new();
    moved.discover().nak();
    nothing(&moved, 1);
    moved.after(1).nak();
    assert!(only(&moved, 1, Case::Refused).seen.contains("2 times"));
    moved.after(1).request();
    nothing(&moved, 1);
}
