//! The README's first half hour, exactly as it is written there, with what it says that comes of it.
//!
//! Of a block of commands, lines that begin with `$ ` are typed, and what follows is what they must write: `…` stands for
//! whatever may differ, alone on a line for any lines.

use std::{fs, path::PathBuf, process::Stdio};

use crate::{
    boot::other_server,
    support::{
        computer::{Computer, INSTALLER, uefi, wire_of},
        need,
        netns::Netns,
        program,
        service::{LASTMILE, Service},
    },
};

const README: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md");
const HALF_HOUR: &str = "## The first half hour on a real subnet";
const ALONE: &str = "#### Alone on the wire";
const BESIDE: &str = "#### Beside a DHCP server of somebody else";
/// Where the machine is switched on, before the commands are typed.
const SWITCH_ON: &str = "### 7.";

/// A command of the README, and what it is said to write.
#[derive(Debug)]
struct Step {
    command: String,
    output: Vec<String>,
}

/// The text below a heading, up to the next of its rank or above.
fn section<'a>(text: &'a str, heading: &str) -> &'a str {
    let start =
        text.find(&format!("\n{heading}\n")).unwrap_or_else(|| panic!("the README has no {heading:?}"));
    let body = &text[start + heading.len() + 2..];
    let rank = heading.split(' ').next().unwrap();
    let ends = (2..=rank.len()).filter_map(|rank| body.find(&format!("\n{} ", "#".repeat(rank))));
    &body[..ends.min().unwrap_or(body.len())]
}

/// The commands of a text, in order.
fn steps(text: &str) -> Vec<Step> {
    let mut steps: Vec<Step> = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        if line.starts_with("```") {
            inside = line == "```console";
        } else if let (true, Some(command)) = (inside, line.strip_prefix("$ ")) {
            steps.push(Step { command: command.into(), output: Vec::new() });
        } else if inside {
            steps.last_mut().unwrap().output.push(line.into());
        }
    }
    steps
}

/// Whether a line is as it was said to be.
fn is_line(said: &str, line: &str) -> bool {
    let mut parts = said.split('…');
    let Some(rest) = line.strip_prefix(parts.next().unwrap_or_default()) else { return false };
    let mut rest = rest;
    let parts: Vec<&str> = parts.collect();
    for (number, part) in parts.iter().enumerate() {
        let is_last = number + 1 == parts.len();
        match if is_last {
            rest.ends_with(part).then_some(rest.len())
        } else {
            rest.find(part).map(|at| at + part.len())
        } {
            Some(end) => rest = &rest[end..],
            None => return false,
        }
    }
    !parts.is_empty() || rest.is_empty()
}

/// Whether a text is as it was said to be.
fn is_as_said(said: &[String], text: &[&str]) -> bool {
    match said {
        [] => text.is_empty(),
        [first, rest @ ..] if first == "…" => {
            (0..=text.len()).any(|skipped| is_as_said(rest, &text[skipped..]))
        }
        [first, rest @ ..] => {
            text.first().is_some_and(|line| is_line(first, line)) && is_as_said(rest, &text[1..])
        }
    }
}

/// A place where the commands are typed: a namespace whose service is the one that the README speaks of.
struct Bench<'a> {
    namespace: &'a Netns,
    folder: tempfile::TempDir,
    /// A command's folder is the next one's, as in a shell.
    here: PathBuf,
}

impl<'a> Bench<'a> {
    fn new(namespace: &'a Netns) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(LASTMILE, folder.path().join("lastmile")).unwrap();
        // The person at the editor chooses a password. No mirror is reached from here: in the installation's stead, the
        // installer reports its end as soon as it has read its answers.
        let editor = folder.path().join("editor");
        program(&editor, EDITOR);
        let here = folder.path().to_owned();
        Self { namespace, folder, here }
    }

    /// Types the commands one after another, and holds what they write to what is said of them.
    fn follow(&mut self, steps: &[Step]) {
        assert!(!steps.is_empty(), "there are no commands to follow");
        let place = self.folder.path().join("here");
        let path = format!("{}:{}", self.folder.path().display(), std::env::var("PATH").unwrap());
        for Step { command, output: said } in steps {
            println!("$ {command}");
            let ended = self
                .namespace
                .command("/bin/sh")
                .args(["-c", &format!("{command}\nstatus=$?; pwd > '{}'; exit $status", place.display())])
                .env("PATH", &path)
                .env("HOME", self.folder.path())
                .current_dir(&self.here)
                .stdin(Stdio::null())
                .output()
                .unwrap();
            let written = String::from_utf8(ended.stdout).unwrap();
            let errors = String::from_utf8(ended.stderr).unwrap();
            println!("{written}{errors}");
            assert!(ended.status.success(), "`{command}` ended with {}: {errors}", ended.status);
            let lines: Vec<&str> = written.lines().map(str::trim_end).collect();
            assert!(
                is_as_said(said, &lines),
                "`{command}` does not write what the README says:\n{}\nbut\n{written}",
                said.join("\n")
            );
            self.here = fs::read_to_string(&place).unwrap().trim_end().into();
        }
    }
}

/// What the person at the editor does.
const EDITOR: &str = r#"#!/bin/sh
sed -i 's/change me before use/skerry tide table/' "$1"
cat >>"$1" <<'END'

[formats.preseed.fragments]
end = """
d-i preseed/early_command string wget -q -O /dev/null '{{ reports.started }}'; wget -q -O /dev/null '{{ reports.done }}'
"""
END
"#;

#[test]
#[ignore = "minutes: make test-firmware"]
fn a_first_machine_is_installed_as_the_readme_says() {
    for (file, package) in [
        ("/usr/lib/shim/shimx64.efi.signed", "shim-signed"),
        ("/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed", "grub-efi-amd64-signed"),
        ("/usr/lib/grub/x86_64-efi/http.mod", "grub-efi-amd64-bin"),
        ("/usr/lib/PXELINUX/lpxelinux.0", "pxelinux"),
        ("/usr/lib/syslinux/modules/bios/ldlinux.c32", "syslinux-common"),
        (&format!("{INSTALLER}/linux"), "debian-installer-12-netboot-amd64"),
    ] {
        need(file, package);
    }
    let namespace = wire_of("half-hour", "eno1");
    // A switch that is on, so that the interface has a carrier before the machine is on.
    let switch = Netns::new("switch");
    namespace.hang("eno1", &switch, "eth0");
    let service = Service::start(Some(&namespace), "interfaces = ['eno1']", 8480);
    let readme = fs::read_to_string(README).unwrap();
    let half_hour = section(&readme, HALF_HOUR);
    let mut bench = Bench::new(&namespace);
    bench.follow(&steps(section(half_hour, ALONE)));
    for heading in half_hour.lines().filter(|line| line.starts_with("### ") && !line.starts_with("### 1.")) {
        let computer = heading.starts_with(SWITCH_ON).then(|| {
            let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
            Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware)
        });
        bench.follow(&steps(section(half_hour, heading)));
        drop(computer);
    }
}

#[test]
#[ignore = "minutes: make test-firmware"]
fn beside_another_server_the_network_is_added_as_the_readme_says() {
    let namespace = wire_of("beside", "eno1");
    let _other = other_server(&namespace, "eno1", "beside-other", None);
    let _service = Service::start(Some(&namespace), "interfaces = ['eno1']", 8480);
    let readme = fs::read_to_string(README).unwrap();
    Bench::new(&namespace).follow(&steps(section(section(&readme, HALF_HOUR), BESIDE)));
}

#[test]
fn what_differs_is_told_from_what_must_not() {
    let said: Vec<String> = ["name  auklet", "…", "at … by ada"].map(String::from).into();
    assert!(is_as_said(&said, &["name  auklet", "at 14:02 by ada"]));
    assert!(is_as_said(&said, &["name  auklet", "x", "y", "at  by ada"]));
    assert!(!is_as_said(&said, &["name  fulmar", "at 14:02 by ada"]));
    assert!(!is_as_said(&said, &["name  auklet", "at 14:02 by bob"]));
    assert!(!is_as_said(&said, &["name  auklet"]));
}
