//! BusyBox's DHCP client, in a namespace.

use std::{
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};

use super::{need, netns::Netns, program, wait_for};

/// Where the client writes what it was told, as `name=value` lines.
fn script(folder: &Path) -> std::path::PathBuf {
    let script = folder.join("told");
    let told = folder.join("told.env");
    let text = format!(
        "#!/bin/sh\necho \"$1\" >> {0}.steps\ncase \"$1\" in bound|renew) env > {0};; esac\nexit 0\n",
        told.display()
    );
    program(&script, &text);
    let _ = std::fs::remove_file(&told);
    let _ = std::fs::remove_file(folder.join("told.env.steps"));
    script
}

fn command(client: &Netns, folder: &Path, options: &[&str]) -> Command {
    let busybox = need("/bin/busybox", "busybox-static");
    let mut command = client.command(&busybox);
    command.args(["udhcpc", "-i", "eth0", "-f", "-s", script(folder).to_str().unwrap()]).args(options);
    command
}

/// Asks once; gives what the client was told, as `name=value` lines.
pub fn ask(client: &Netns, folder: &Path, options: &[&str]) -> String {
    // A loaded host may take its time; a client that is answered does not wait for the rest.
    let patient = [&["-t", "12"], options].concat();
    try_ask(client, folder, &patient).unwrap_or_else(|said| panic!("udhcpc {options:?}: {said}"))
}

/// The same, or what the client said when it got no lease.
pub fn try_ask(client: &Netns, folder: &Path, options: &[&str]) -> Result<String, String> {
    let once = ["-q", "-n", "-t", "4", "-T", "1"];
    let output = command(client, folder, &[&once, options].concat()).output().unwrap();
    if !output.status.success() {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned());
    }
    Ok(std::fs::read_to_string(folder.join("told.env")).unwrap())
}

/// What the client was told of `name`.
pub fn told(all: &str, name: &str) -> Option<String> {
    all.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('=')).map(str::to_owned)
}

/// The address it was given.
pub fn address(all: &str) -> String {
    told(all, "ip").unwrap_or_else(|| panic!("no address:\n{all}"))
}

/// A client that goes on running, ended with the value.
pub struct Running {
    child: Child,
    folder: std::path::PathBuf,
}

impl Running {
    /// Starts it, and waits until it has a lease.
    pub fn start(client: &Netns, folder: &Path, options: &[&str]) -> Self {
        let mut command = command(client, folder, options);
        let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let running = Self { child, folder: folder.into() };
        running.wait_for_step("bound");
        running
    }

    /// Waits until it has gone through a step, as its script is told.
    pub fn wait_for_step(&self, step: &str) {
        wait_for(&format!("the client's step '{step}'"), Duration::from_secs(10), || {
            let steps = std::fs::read_to_string(self.folder.join("told.env.steps")).ok()?;
            steps.lines().any(|found| found == step).then_some(())
        });
    }

    /// Sends it a signal: USR1 renews, USR2 gives the lease back.
    pub fn signal(&self, signal: &str) {
        // The client is the only child of `ip netns exec`, which became it.
        let sent = Command::new("kill").args(["-s", signal, &self.child.id().to_string()]).status().unwrap();
        assert!(sent.success());
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
