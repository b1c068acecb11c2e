//! Preseed files: debconf reads them, a shell reads their scripts, and disks are found by them.

use super::*;
use crate::kickstart::sections;

#[test]
fn debconf_reads_every_preseed_file() {
    for (case, _) in MATRIX.iter().filter(|(_, families)| families.contains(&Family::Preseed)) {
        let text = main_text(case, Family::Preseed);
        let (ok, said) = run("debconf-set-selections", &["--checkonly"], &text);
        assert!(ok && said.is_empty(), "{case}: {said}");
        let (ok, _) = run("debconf-set-selections", &["--checkonly"], &format!("{text}\nonly two\n"));
        assert!(!ok, "it would find a broken line");
    }
}

/// What a preseed file sets, as Debian's installer reads it: comments and empty lines are dropped first, what a line begins
/// with is stripped, and one that ends in a backslash is joined to the next with a blank.
pub(crate) fn preseeded(text: &str, question: &str) -> String {
    let lines = text.lines().filter(|line| !line.starts_with('#') && !line.trim().is_empty());
    let joined: String = lines
        .map(|line| match line.trim_start().strip_suffix('\\') {
            Some(begun) => format!("{} ", begun.trim_end()),
            None => format!("{}\n", line.trim_start()),
        })
        .collect();
    let line = joined.lines().find(|line| line.split(' ').nth(1) == Some(question)).unwrap_or_default();
    line.splitn(4, ' ').nth(3).unwrap_or_default().into()
}

#[test]
fn the_scripts_in_the_files_are_what_a_shell_reads() {
    for (case, families) in MATRIX {
        if families.contains(&Family::Preseed) {
            let text = main_text(case, Family::Preseed);
            let late = preseeded(&text, "preseed/late_command");
            let (ok, said) = run("sh", &["-n"], &late);
            assert!(ok, "{case}: {said}\n{late}");
            // The command writes a script: that one too is one.
            let inner = late.split(" >/target/root/lastmile-setup").next().unwrap();
            let (ok, script) = run("busybox", &["sh", "-c", inner], "");
            assert!(ok && script.starts_with("set -e\n"), "{case}: {script}");
            let (ok, said) = run("sh", &["-n"], &script);
            assert!(ok, "{case}: {said}\n{script}");
            let early = preseeded(&text, "partman/early_command");
            let (ok, said) = run("busybox", &["sh", "-n"], &early);
            assert!(ok, "{case}: {said}\n{early}");
        }
        if families.contains(&Family::Kickstart) {
            for (name, body) in sections(&main_text(case, Family::Kickstart)) {
                if name.starts_with("%p") && !name.starts_with("%packages") || name.starts_with("%onerror") {
                    let (ok, said) = run("bash", &["-n"], &body);
                    assert!(ok, "{case} {name}: {said}\n{body}");
                }
            }
        }
    }
}

/// What the script that finds disks does with a list that stands in for real ones.
fn found(script: &str, disks: &str) -> String {
    let dir = tempfile::tempdir().unwrap();
    // Written by another process: what this one has open for writing cannot be run while another test starts something
    // (`ETXTBSY`, execve(2)).
    let tool = |name: &str, body: &str| {
        let path = dir.path().join(name);
        let (ok, said) = run(
            "install",
            &["-m", "755", "/dev/stdin", path.to_str().unwrap()],
            &format!("#!/bin/sh\n{body}\n"),
        );
        assert!(ok, "{said}");
    };
    tool("debconf-set", "echo \"$1=$2\"");
    tool("wget", "echo \"$@\"");
    tool("sleep", "true");
    // The first two lines ask the hardware; here a list answers.
    let rest = script.splitn(3, '\n').nth(2).unwrap();
    let whole = format!("PATH={}:$PATH\nall() {{ cat <<'E'\n{disks}E\n}}\n{rest}", dir.path().display());
    run("sh", &["-c", &whole], "").1
}

/// The script that finds disks, as the installer unpacks it.
fn choosing(case: &str) -> String {
    let command = preseeded(&main_text(case, Family::Preseed), "partman/early_command");
    run("busybox", &["sh", "-c", command.split(" >/tmp").next().unwrap()], "").1
}

#[test]
fn disks_are_found_by_what_they_are_like_and_others_never_taken() {
    let script = choosing("mirror");
    let disks = "953869|/dev/sda|Puffin 960|P-1\n457862|/dev/sdb|Puffin 480 T1|P-2\n457862|/dev/sdc|Puffin 480 T1|ARCHIVE-3\n\
        457863|/dev/nvme0n1|Puffin 480 T2|P-4\n9999999|/dev/sdd|Puffin 480 T9|P-5\n";
    let both = "/dev/sdb /dev/nvme0n1";
    assert_eq!(found(&script, disks), format!("partman-auto/disk={both}\ngrub-installer/bootdev={both}\n"));
    let one = "457862|/dev/sdb|Puffin 480 T1|P-2\n457862|/dev/sdc|Puffin 480 T1|ARCHIVE-3\n";
    let said = found(&script, one);
    assert!(said.contains("/failed?text=no+disk+fits"), "{said}");
}

/// The list itself, made of what stands under /sys: a device in a folder of its own, and one that says no size.
#[test]
fn disks_are_listed_from_what_the_kernel_says() {
    let dir = tempfile::tempdir().unwrap();
    for (disk, size, model) in
        [("sda", "1953525168", "Puffin 960  "), ("cciss!c0d0", "286682112", "Tern"), ("sdr", "", "")]
    {
        let folder = dir.path().join(disk).join("device");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("model"), format!("{model}\n")).unwrap();
        if !size.is_empty() {
            fs::write(dir.path().join(disk).join("size"), format!("{size}\n")).unwrap();
        }
    }
    let list = choosing("plain")
        .lines()
        .nth(1)
        .unwrap()
        .replace("/sys/block", dir.path().to_str().unwrap())
        .replace("list-devices disk", "echo /dev/sda /dev/cciss/c0d0 /dev/sdr");
    let tools = "udevadm() { [ \"$5\" != /dev/sda ] || echo ID_SERIAL_SHORT=P-1; }\n";
    let (ok, said) = run("busybox", &["sh", "-c", &format!("{tools}{list}\nall")], "");
    assert!(ok, "{said}");
    assert_eq!(said, "953869|/dev/sda|Puffin 960|P-1\n139981|/dev/cciss/c0d0|Tern|\n0|/dev/sdr||\n");
}

/// Nobody said which disk: it is taken where there is only one, and else none is.
#[test]
fn a_disk_that_nobody_described_is_taken_only_where_it_is_alone() {
    let one = "953869|/dev/sda|Puffin 960|P-1\n";
    let script = choosing("plain");
    assert_eq!(found(&script, one), "partman-auto/disk=/dev/sda\ngrub-installer/bootdev=/dev/sda\n");
    // A card reader without a card is none.
    let beside = format!("0|/dev/sdr|Reader|\n{one}");
    assert_eq!(found(&script, &beside), "partman-auto/disk=/dev/sda\ngrub-installer/bootdev=/dev/sda\n");
    let said = found(&script, &format!("{one}457862|/dev/sdb|Puffin 480|P-2\n"));
    assert!(said.contains("/failed?text=there+are+several+disks+and+none+is+described"), "{said}");
    assert!(found(&script, "").contains("/failed?text=no+disk+fits"));
    // The same by autoinstall's early command.
    let read = crate::yaml::yaml(&main_text("plain", Family::Autoinstall));
    let command = read["autoinstall"]["early-commands"][1].as_str().unwrap();
    let early = |types: &str| {
        let tools = format!("lsblk() {{ printf '{types}'; }}; curl() {{ echo \"$@\"; }}; ");
        run("sh", &["-c", &(tools + command)], "")
    };
    assert_eq!(
        early("disk 960197124096\\ndisk 0\\nrom 1073741824\\nloop 67108864\\n"),
        (true, String::new())
    );
    let (ok, said) = early("disk 960197124096\\ndisk 480103981056\\n");
    assert!(!ok && said.contains("several+disks"), "{said}");
}

/// A name that the machine gives a disk by its maker and number is looked up there: the installer takes no other name.
#[test]
fn a_disk_by_its_id_is_looked_up_on_the_machine() {
    let dir = tempfile::tempdir().unwrap();
    let link = dir.path().join("nvme-Puffin_480_T1");
    std::os::unix::fs::symlink("/dev/null", &link).unwrap();
    let script = choosing("quay").replace("/dev/disk/by-id/nvme-Puffin_480_T1", link.to_str().unwrap());
    let disks = "953869|/dev/zero|Puffin 960|P-1\n457862|/dev/null|Puffin 480 T1|P-2\n";
    assert_eq!(found(&script, disks), "partman-auto/disk=/dev/null\ngrub-installer/bootdev=/dev/null\n");
}

/// The network of the installed system, as the program that sets it up reads it.
#[test]
fn ifupdown_reads_the_network_of_the_installed_system() {
    let late = preseeded(&main_text("quay", Family::Preseed), "preseed/late_command");
    let inner = late.split(" >/target/root/lastmile-setup").next().unwrap();
    let (_, script) = run("busybox", &["sh", "-c", inner], "");
    let end = "} >/etc/network/interfaces\n";
    let part = &script[script.find("nic() {").unwrap()..script.find(end).unwrap() + end.len()];
    // The machine's NICs, and the file, lie in a folder of the test's.
    let dir = tempfile::tempdir().unwrap();
    for (nic, mac) in [("eno1", "00:00:5e:00:53:01"), ("eno2", "00:00:5e:00:53:02")] {
        fs::create_dir_all(dir.path().join(nic)).unwrap();
        fs::write(dir.path().join(nic).join("address"), format!("{mac}\n")).unwrap();
    }
    let interfaces = dir.path().join("interfaces");
    let part = part
        .replace("/sys/class/net", dir.path().to_str().unwrap())
        .replace("/etc/network/interfaces", interfaces.to_str().unwrap());
    let (ok, said) = run("sh", &["-e", "-c", &part], "");
    assert!(ok, "{said}");
    let ask = |words: &[&str]| {
        let words = [&["-i", interfaces.to_str().unwrap()], words].concat();
        let (ok, said) = run(&witness("root/sbin/ifquery"), &words, "");
        assert!(ok, "{said}{}", fs::read_to_string(&interfaces).unwrap());
        said
    };
    assert_eq!(ask(&["--list"]), "lo\neno1\neno2\nbond0\nquay\n");
    let quay = ask(&["quay"]);
    let lines = [
        "address: 192.0.2.10",
        "netmask: 255.255.255.0",
        "gateway: 192.0.2.1",
        "vlan-raw-device: bond0",
        "vlan-id: 30",
        "dns-nameservers: 192.0.2.3 192.0.2.4",
    ];
    for line in lines {
        assert!(quay.lines().any(|has| has == line), "'{line}' is not in {quay}");
    }
    let bond = ask(&["bond0"]);
    for line in ["bond-slaves: eno1 eno2", "bond-mode: 802.3ad", "mtu: 9000"] {
        assert!(bond.lines().any(|has| has == line), "'{line}' is not in {bond}");
    }
}
