//! The demo, run through once.

use std::process::Command;

use serde_json::Value;

use crate::support::{demo::Demo, service::LASTMILE};

#[test]
fn the_demo_installs_six_machines_and_says_so() {
    let output = Command::new(LASTMILE).args(["--json", "demo", "--once", "--port", "0"]).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let tables: Value = serde_json::from_slice(&output.stdout).unwrap();
    let installs = tables[1].as_array().unwrap();
    assert_eq!(installs.len(), 6);
    assert!(installs.iter().all(|install| install["state"] == "installed"));
    let machines = tables[0].as_array().unwrap();
    let holding = machines.iter().filter(|machine| machine["installed"]["image"] == "tidewrack-12").count();
    assert_eq!((machines.len(), holding), (9, 6));
    assert_eq!(machines.iter().filter(|machine| machine["stage"] == "installed").count(), 6);
    // Each host has said what it is; one is not as it was expected.
    for install in installs {
        let expected = usize::from(install["machine"] == "fulmar-engine-log");
        assert_eq!(install["differs"], expected, "{install}");
    }
    // Of machines at rest, it comes first.
    assert_eq!(
        (&machines[0]["name"], &machines[0]["installed"]["differs"]),
        (&"fulmar-engine-log".into(), &1.into())
    );
}

#[test]
fn the_story_tells_each_machines_way() {
    let output = Command::new(LASTMILE).args(["demo", "--once", "--port", "0"]).output().unwrap();
    let story = String::from_utf8(output.stdout).unwrap();
    for line in [
        "skerry-kiosk-1: has loader/00-00-5e-00-53-11/signed-x64/shimx64.efi by TFTP, 1.00 MiB, digest right",
        "skerry-gate-2: has loader/00-00-5e-00-53-12/bios-core/core.0 by TFTP",
        "petrel-display-3: menu: Install Tidewrack 12 on petrel-display-3",
        "initrd.gz by HTTP, 6.00 MiB, digest right",
        "skerry-kiosk-1: installer reports done",
        "fulmar-engine-log: starts from its own disk",
        "fulmar-engine-log: says what it is",
        "tidewrack-12 r1 (not as expected)",
    ] {
        assert!(story.contains(line), "the story lacks {line:?}\n{story}");
    }
}

#[test]
fn the_demo_goes_on_with_something_new() {
    let (_demo, mut lines) = Demo::telling(&["--fast"]);
    // In the order in which it comes about, between whatever else is told.
    let wanted = [
        "From now on something new happens again and again.",
        "skerry-kiosk-1: installer reports done",
        "a newcomer (00:00:5e:00:53:60): is sent to its own disk",
        "installer reports failed",
        "it started its installer three times without a report, and is stopped",
        "kittiwake-chart: waits on its screen",
        "kittiwake-chart: the berth is 12, says the harbour office",
        "kittiwake-chart: installer reports done",
        "tidewrack-12: a new revision; who was installed before is behind",
        "is cancelled",
    ];
    let mut told = Vec::new();
    let mut missing = wanted.iter().peekable();
    while let Some(line) = missing.peek().and_then(|_| lines.next()) {
        let is_round_again = line.contains("a newcomer (00:00:5e:00:53:61)");
        assert!(
            !line.contains("this was left out") && !is_round_again,
            "{missing:?}\n{line}\n{}",
            told.join("\n")
        );
        if missing.peek().is_some_and(|wanted| line.contains(**wanted)) {
            missing.next();
        }
        told.push(line);
    }
    assert_eq!(missing.next(), None, "{}", told.join("\n"));
}
