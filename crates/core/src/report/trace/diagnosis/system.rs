//! Cases of a machine that runs what it was given: an installer, or the survey.

use jiff::SignedDuration;
use lastmile_formats::dhcp::Kind;

use super::{
    super::{AgentEvent, Course, Role, Seen, TransferEnd},
    Boot, Case, Diagnosis,
};
use crate::model::{agent::DHCP_CLASS, install::ReportStage};

/// A kernel that has started asks for an address within this time: it unpacks its initrd and finds its NICs first
/// (65 s were measured under emulation).
const KERNEL_START: SignedDuration = SignedDuration::from_secs(150);
/// An agent that has its address connects within this time.
const AGENT_CONNECT: SignedDuration = SignedDuration::from_secs(60);
/// An installer that has its address fetches its answers within this time.
const ANSWERS_FETCH: SignedDuration = SignedDuration::from_secs(60);

pub(super) fn no_second_lease(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.delivered(|role| matches!(role, Role::Kernel | Role::Initrd))?;
    let more = boot.after(event).any(|event| match &event.seen {
        Seen::Dhcp(dhcp) => !dhcp.is_from_firmware(),
        Seen::File(_) | Seen::Report(_) | Seen::Agent(_) => true,
        Seen::Foreign(_) => false,
    });
    if more || boot.since(event) < KERNEL_START {
        return None;
    }
    Some(Diagnosis::new(
        Case::NoSecondLease,
        event,
        format!("{} was fetched, and since then no second DHCP", file.path),
        "The kernel did not start, or started and found no NIC: its system never asked for an address.",
        "Look at the machine's screen, and give the kernel a serial console. The kernel may lack the driver of this \
         NIC, a kernel parameter may name a NIC or VLAN that is called otherwise there, or the machine's memory is too \
         small for the initrd.",
    ))
}

pub(super) fn agent_not_connected(boot: &Boot<'_>) -> Option<Diagnosis> {
    let latest = boot.events.iter().rev().find_map(|event| match &event.seen {
        Seen::Agent(agent) => Some((event, agent)),
        _ => None,
    });
    if let Some((event, agent)) = latest {
        return (agent.what == AgentEvent::Refused).then(|| {
            Diagnosis::new(
                Case::AgentNotConnected,
                event,
                format!("the survey's agent was {}", agent.text),
                "The machine runs the survey, reaches this service, and is not let in: it tries again and again.",
                "A system of another version is built anew by `lastmile survey build`. Where the address is not known to \
                 be the machine's, set the subnet's identify to first-claim. Then switch the machine off and on: each \
                 start has a token of its own.",
            )
        });
    }
    // One that renews its address has been here for long: traces are kept for so many events, and how it connected may be gone.
    let lease = boot.exchanges().find(|exchange| {
        exchange.request.class().as_deref() == Some(DHCP_CLASS)
            && exchange.request.ciaddr.is_unspecified()
            && exchange.reply.as_ref().is_some_and(|reply| reply.kind == Kind::Ack)
    })?;
    (boot.since(lease.event) >= AGENT_CONNECT).then(|| {
        Diagnosis::new(
            Case::AgentNotConnected,
            lease.event,
            "the survey's system has its address, and its agent never connected",
            "It cannot reach the boot listener by TCP from the address that it has.",
            "A firewall may let DHCP and TFTP through and not TCP to the boot listener's port; the subnet's router may be \
             wrong. The machine's screen says what the agent tried.",
        )
    })
}

pub(super) fn answers_never_fetched(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (kernel, _) = boot.delivered(|role| matches!(role, Role::Kernel | Role::Initrd))?;
    let installs = boot
        .files()
        .any(|(_, file)| file.decision.as_ref().is_some_and(|decision| decision.course == Course::Install));
    let lease = boot.exchanges().find(|exchange| {
        exchange.event.at >= kernel.at
            && !exchange.dhcp.is_from_firmware()
            && exchange.reply.as_ref().is_some_and(|reply| reply.kind == Kind::Ack)
    })?;
    let fetched = boot.after(lease.event).any(|event| match &event.seen {
        Seen::File(file) => file.role == Role::Answers,
        Seen::Report(_) => true,
        _ => false,
    });
    if !installs || fetched || boot.since(lease.event) < ANSWERS_FETCH {
        return None;
    }
    Some(Diagnosis::new(
        Case::AnswersNeverFetched,
        lease.event,
        "the installer has its address, and never fetched its answers",
        "It waits at a question on its screen, or cannot reach the boot listener by HTTP.",
        "Look at the machine's screen. A firewall may let DHCP and TFTP through and not TCP to the boot listener's \
         port. Kernel parameters of the image may come after the address of the answers and replace it: `lastmile plan \
         MACHINE` lists them.",
    ))
}

pub(super) fn install_repeats(boot: &Boot<'_>) -> Option<Diagnosis> {
    let mut starts = 0;
    let mut last = None;
    for event in boot.all {
        match &event.seen {
            Seen::File(file) if file.role == Role::Kernel && file.end == TransferEnd::Done => {
                starts += 1;
                last = Some((event, file));
            }
            Seen::Report(report) if report.stage == ReportStage::Done => starts = 0,
            // It was started for the survey, and reached it.
            Seen::Agent(agent) if agent.what == AgentEvent::Surveyed => starts = 0,
            _ => {}
        }
    }
    let (event, file) = last.filter(|_| starts >= 3)?;
    Some(Diagnosis::new(
        Case::InstallRepeats,
        event,
        format!("{} was fetched {starts} times without a report of the end", file.what),
        "The machine installs, or tries to, restarts, and boots the network again. After three starts the install is \
         stopped here and the machine is sent to its own disk.",
        "Look why the end is not reported: the install fails before it, or the machine cannot reach the boot listener \
         when it ends. `lastmile install show` tells what was reported.",
    ))
}
