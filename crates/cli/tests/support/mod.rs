//! What the tests share: the service as a process, its client, and networks of their own.
#![allow(dead_code, unreachable_pub, missing_docs, reason = "each test binary uses its part")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

pub mod background;
pub mod bmc;
pub mod browser;
pub mod computer;
pub mod demo;
pub mod netns;
pub mod service;
pub mod simulated;
pub mod site;
pub mod udhcpc;

use std::{
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

/// Waits until `ready` gives a value, and fails with `what` if it does not within `limit`.
pub fn wait_for<T>(what: &str, limit: Duration, mut ready: impl FnMut() -> Option<T>) -> T {
    let end = Instant::now() + limit;
    loop {
        if let Some(value) = ready() {
            return value;
        }
        assert!(Instant::now() < end, "not within {limit:?}: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Fails with the name of the Debian package that `path` comes from, if it is not there.
pub fn need(path: &str, package: &str) -> String {
    assert!(
        Path::new(path).exists(),
        "{path} is missing: `apt-get install {package}` (or `make packages-test`)"
    );
    path.into()
}

/// The root into which make has unpacked the packages of programs that are asked as witnesses and not installed.
pub fn unpacked() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses/root");
    root.canonicalize().unwrap_or_else(|_| panic!("{} is missing: make packages-test", root.display()))
}

/// Where their libraries lie, as `LD_LIBRARY_PATH` has it.
pub fn unpacked_libraries() -> String {
    ["usr/lib", "lib"]
        .map(|folder| unpacked().join(folder).join("x86_64-linux-gnu").display().to_string())
        .join(":")
}

/// Writes a file that is run. Another process writes it: had this one it open, a process that another test starts at that
/// moment would hold it open for writing, too, and it could not be run (`ETXTBSY`, execve(2)).
pub fn program(path: &Path, text: &str) {
    use std::{io::Write, process::Stdio};
    let mut install = std::process::Command::new("install")
        .args(["-m", "755", "/dev/stdin"])
        .arg(path)
        .stdin(Stdio::piped())
        .spawn()
        .unwrap();
    install.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    assert!(install.wait().unwrap().success(), "{} was not written", path.display());
}

/// Status and body of what `curl` gets with these arguments.
pub fn curl(arguments: &[&str]) -> (String, String) {
    let output = std::process::Command::new(need("/usr/bin/curl", "curl"))
        .args(["-s", "-m", "20", "-w", "\n%{http_code}"])
        .args(arguments)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (body, status) = text.rsplit_once('\n').unwrap();
    (status.into(), body.into())
}
