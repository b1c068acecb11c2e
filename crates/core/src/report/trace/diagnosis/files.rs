//! Cases of a machine that has its address: the files that it asks for.

use jiff::SignedDuration;

use super::{
    super::{Role, Seen, TransferEnd},
    Boot, Case, Diagnosis,
};
use crate::base::size_text;

/// A loader that has started asks for its menu within this time, slow flash and Secure Boot checks counted in.
const LOADER_START: SignedDuration = SignedDuration::from_secs(30);

/// What stands for a subnet in a command where the trace does not tell which it is.
fn subnet_of<'a>(boot: &'a Boot<'_>) -> &'a str {
    let named = boot.events.iter().rev().find_map(|event| match &event.seen {
        Seen::Dhcp(dhcp) => dhcp.subnet.as_deref(),
        _ => None,
    });
    named.unwrap_or("NAME")
}

pub(super) fn wrong_loader(boot: &Boot<'_>) -> Option<Diagnosis> {
    let own = boot.exchanges().find_map(|exchange| exchange.request.firmware())?.architecture;
    let (event, fetched, file) = boot.files().find_map(|(event, file)| match file.role {
        Role::Loader(architecture) if architecture != own => Some((event, architecture, file)),
        _ => None,
    })?;
    Some(Diagnosis::new(
        Case::WrongLoader,
        event,
        format!("{own} firmware asks for {}, the loader for {fetched}", file.path),
        "The firmware cannot start it: it will say so, or hang, or restart. This service tells each architecture its \
         own loader, so the name came from another DHCP server that has one name for all.",
        format!(
            "Make that server tell by option 93: `lastmile subnet advice {}` lists the name for each architecture.",
            subnet_of(boot)
        ),
    ))
}

pub(super) fn file_not_found(boot: &Boot<'_>) -> Option<Diagnosis> {
    let missing =
        |file: &super::FileRequest| matches!(file.end, TransferEnd::NotFound { optional: false, .. });
    let (event, file) = boot.files().rev().find(|(_, file)| missing(file))?;
    let nearest = match &file.end {
        TransferEnd::NotFound { nearest, .. } => nearest.as_deref(),
        _ => None,
    };
    let (means, fix) = match nearest {
        Some(nearest) => (
            format!("The nearest name that is served is {nearest}."),
            format!("Correct the name where it is written: in another DHCP server, or in the loader's own settings. \
                     Meant is probably {nearest}."),
        ),
        None => (
            "Nothing like it is served.".to_owned(),
            "Add the file to its loader or image, or correct the name where it is written: in another DHCP server, or \
             in the loader's own settings."
                .to_owned(),
        ),
    };
    Some(Diagnosis::new(
        Case::FileNotFound,
        event,
        format!("the machine asks for {}, which is not there", file.path),
        means,
        fix,
    ))
}

pub(super) fn transfer_stalled(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.files().rev().find(|(_, file)| file.end == TransferEnd::Stalled)?;
    let later = boot.after(event).any(|event| match &event.seen {
        Seen::File(again) => again.path == file.path && again.end == TransferEnd::Done,
        _ => false,
    });
    if later {
        return None;
    }
    let (delivered, size) = (file.delivered, file.size);
    let mut seen = format!("{} stopped after {} of {}", file.path, size_text(delivered), size_text(size));
    let Some(terms) = file.terms else {
        return Some(Diagnosis::new(
            Case::TransferStalled,
            event,
            seen,
            "The machine stopped reading.",
            "Look whether it was switched off, or whether its loader reports that its memory is full.",
        ));
    };
    let blocks = size / u64::from(terms.blksize.max(1)) + 1;
    seen.push_str(&format!(
        " (blksize {}, windowsize {}, {} of {blocks} blocks sent again)",
        terms.blksize, terms.windowsize, file.retransmitted
    ));
    let (means, fix) = if delivered == 0 && terms.blksize > 512 {
        (
            format!(
                "Not one block of {} bytes arrived: packets of that size are lost on the way.",
                terms.blksize
            ),
            "A tunnel or VLAN on the way carries less than the interface here: set the interface's MTU to what the \
             path carries, and blocks are cut to fit. Look for a firewall that drops fragments, or UDP from other \
             ports than 69.",
        )
    } else if delivered == 0 {
        (
            "Not one block arrived, however small.".to_owned(),
            "A firewall lets port 69 through and drops the transfer itself, which comes from a port of its own (RFC \
             1350, section 4): allow UDP from this service to the machines, from any port.",
        )
    } else if file.retransmitted * 20 > blocks {
        (
            "The path loses packets: many blocks had to be sent again before it broke.".to_owned(),
            "Look at the cable, the port's error counters and its duplex setting, and at what else fills the link.",
        )
    } else {
        (
            "It went well and then the machine fell silent.".to_owned(),
            "Look whether it was switched off or restarted in between, or whether its memory is too small for the file.",
        )
    };
    Some(Diagnosis::new(Case::TransferStalled, event, seen, means, fix))
}

pub(super) fn no_menu_asked(boot: &Boot<'_>) -> Option<Diagnosis> {
    let (event, file) = boot.delivered(|role| matches!(role, Role::Loader(_)))?;
    // A menu that came before a module did is a menu: GRUB fetches `http.mod` only when its menu says so.
    let more = boot.after(event).any(|event| match &event.seen {
        Seen::File(file) => matches!(file.role, Role::Menu | Role::Kernel | Role::Initrd | Role::ImageFile),
        Seen::Report(_) | Seen::Agent(_) => true,
        _ => false,
    });
    // shim is followed by the loader that it starts: what counts is silence after the last of them.
    let beside =
        boot.delivered(|role| matches!(role, Role::BesideLoader)).filter(|(later, _)| later.at >= event.at);
    let (event, file) = beside.unwrap_or((event, file));
    if more || boot.since(event) < LOADER_START {
        return None;
    }
    let beside_other =
        boot.events.iter().any(|event| matches!(&event.seen, Seen::Foreign(found) if found.expected));
    if beside_other {
        return Some(Diagnosis::new(
            Case::NoMenuAsked,
            event,
            format!(
                "{} was fetched whole beside another DHCP server, and no menu was asked for since",
                file.path
            ),
            "GRUB up to 2.06 asks for its menu where the other server's acknowledgement says (next server, siaddr), not \
             where this service's offer says.",
            format!(
                "Enter this service's address as next server in the other DHCP server: `lastmile subnet advice {}` \
                 has it. It need name no boot file.",
                subnet_of(boot)
            ),
        ));
    }
    Some(Diagnosis::new(
        Case::NoMenuAsked,
        event,
        format!("{} was fetched whole, and no menu was asked for since", file.path),
        "The firmware refused to start the loader, or the loader started and does not know where to ask.",
        "Look at the machine's screen. With Secure Boot, the loader must be signed by a key that the firmware holds: \
         use the operating system's own signed loader. A loader with a menu built in, or with another protocol's \
         modules, never asks here.",
    ))
}
