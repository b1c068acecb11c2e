//! Disks that are described, found on the machine by a shell before its installer divides any.

use std::fmt::Write;

use lastmile_formats::quote;

use crate::{
    decide::answers::{Disks, Mount},
    model::answers::{DiskMatch, Prefer, Size},
};

/// MiB that a disk has at the least which nobody described.
pub(super) const LEAST_MIB: u64 = 1024;

/// The devices, where all disks are named by theirs and nothing is to be found on the machine.
pub(super) fn devices(disks: &Disks) -> Option<Vec<&str>> {
    let devices: Option<Vec<&str>> = disks.taken.iter().map(|(_, disk)| disk.device.as_deref()).collect();
    devices.filter(|_| disks.never.is_empty())
}

/// Shell lines that set `taken` to the disks in the order of their names, or `bad` to the one that is not there, and `why`
/// to the reason, as a query has it.
pub(super) fn matching(disks: &Disks) -> String {
    let mut script = String::from("taken=; bad=; why=no+disk+fits\n");
    let _ = writeln!(script, "usable() {{ all | while IFS='|' read -r mib d model serial; do");
    for never in &disks.never {
        let _ = writeln!(script, "  if {}; then continue; fi", condition(never));
    }
    let _ = writeln!(
        script,
        "  case \" $taken \" in *\" $d \"*) continue ;; esac\n  echo \"$mib|$d|$model|$serial\"\ndone; }}"
    );
    if let [(name, disk)] = disks.taken.as_slice()
        && disk.is_any()
    {
        // Nobody said which: it is taken if there is no other.
        let _ = writeln!(
            script,
            "[ \"$(usable | while IFS='|' read -r mib rest; do if {}; then echo; fi; done | wc -l)\" -le 1 ] || \
             {{ bad={name}; why=there+are+several+disks+and+none+is+described; }}",
            condition(disk)
        );
    }
    for (name, disk) in &disks.taken {
        let order = match disk.prefer {
            Some(Prefer::Small) => " | sort -n",
            Some(Prefer::Large) => " | sort -rn",
            None => "",
        };
        let _ = writeln!(
            script,
            "disk_{name}=$(usable | while IFS='|' read -r mib d model serial; do if {}; then echo \"$mib|$d\"; fi; done{order} | head -n 1)",
            condition(disk)
        );
        let _ = writeln!(script, "disk_{name}=${{disk_{name}#*|}}; [ -n \"$disk_{name}\" ] || bad={name}");
        let _ = writeln!(script, "taken=\"${{taken:+$taken }}$disk_{name}\"");
    }
    script
}

/// A shell condition on `$mib`, `$d`, `$model` and `$serial`.
fn condition(disk: &DiskMatch) -> String {
    let mut tests: Vec<String> = Vec::new();
    let mib = |text: &Option<String>| match text.as_deref().and_then(Size::parse) {
        Some(Size::Mib(mib)) => Some(mib),
        Some(Size::Rest) | None => None,
    };
    if let Some(device) = &disk.device {
        tests.push(format!("[ \"$d\" = \"$(readlink -f {})\" ]", quote::shell(device)));
    }
    for (variable, pattern) in [("model", &disk.model), ("serial", &disk.serial)] {
        if let Some(pattern) = pattern {
            let parts: Vec<String> = pattern
                .split('*')
                .map(|part| if part.is_empty() { String::new() } else { quote::shell(part) })
                .collect();
            tests.push(format!("case \"${variable}\" in {}) true ;; *) false ;; esac", parts.join("*")));
        }
    }
    if let Some(least) = mib(&disk.at_least) {
        tests.push(format!("[ \"$mib\" -ge {least} ]"));
    }
    if let Some(most) = mib(&disk.at_most) {
        tests.push(format!("[ \"$mib\" -le {most} ]"));
    }
    if tests.is_empty() {
        // Readers without a card and what a BMC offers are disks, too, and hold no system.
        tests.push(format!("[ \"$mib\" -ge {LEAST_MIB} ]"));
    }
    tests.join(" && ")
}

/// `/` is root, `/srv/quay` is srv_quay.
pub(super) fn volume_name(mount: &Mount) -> String {
    match mount {
        Mount::Swap => "swap".into(),
        Mount::Letter(letter) => letter.to_string(),
        Mount::Path(path) if path == "/" => "root".into(),
        Mount::Path(path) => path.trim_start_matches('/').replace(['/', '.', '-'], "_"),
    }
}
