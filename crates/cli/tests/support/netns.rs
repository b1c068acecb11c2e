//! A network namespace that the test makes and removes.

use std::{
    process::{Command, Output},
    sync::atomic::{AtomicU32, Ordering},
};

use super::need;

/// Counts the namespaces of this process: tests beside each other may call theirs the same.
static MADE: AtomicU32 = AtomicU32::new(0);

/// A network namespace, removed with the value.
pub struct Netns {
    name: String,
}

impl Netns {
    /// Makes a namespace with a loopback. Needs root.
    pub fn new(what: &str) -> Self {
        need("/sbin/ip", "iproute2");
        let name = format!("lm-{what}-{}-{}", std::process::id(), MADE.fetch_add(1, Ordering::Relaxed));
        run(&["ip", "netns", "add", &name]);
        let namespace = Self { name };
        namespace.run("ip link set lo up");
        namespace
    }

    pub fn name(&self) -> &str {
        &self.name
    }

    /// A command to be run inside.
    pub fn command(&self, program: &str) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.name, program]);
        command
    }

    /// Runs a command line inside; fails the test if it fails.
    pub fn run(&self, line: &str) -> String {
        let mut words = line.split_whitespace();
        let output = self.command(words.next().unwrap()).args(words).output().unwrap();
        check(line, &output)
    }

    /// Runs `work` on a thread inside; sockets and interfaces that it makes are of this namespace, wherever they are
    /// used later.
    pub fn inside<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> T {
        let path = format!("/run/netns/{}", self.name);
        let entered = std::thread::spawn(move || {
            let namespace = std::fs::File::open(path).unwrap();
            nix::sched::setns(namespace, nix::sched::CloneFlags::CLONE_NEWNET).unwrap();
            work()
        });
        entered.join().unwrap()
    }

    /// Makes a bridge: a wire that several namespaces hang on.
    pub fn bridge(&self, name: &str, address: &str) {
        self.run(&format!("ip link add {name} type bridge"));
        self.run(&format!("ip address add {address} dev {name}"));
        self.run(&format!("ip link set {name} up"));
    }

    /// Hangs another namespace on a bridge of this one.
    pub fn hang(&self, bridge: &str, other: &Self, others: &str) {
        let port = format!("p{}-{others}", other.name.bytes().map(u32::from).sum::<u32>() % 9999);
        self.join(&port, other, others);
        self.run(&format!("ip link set {port} master {bridge}"));
    }

    /// Joins this namespace and another by a pair of virtual Ethernet interfaces.
    pub fn join(&self, own: &str, other: &Self, others: &str) {
        run(&[
            "ip",
            "link",
            "add",
            own,
            "netns",
            &self.name,
            "type",
            "veth",
            "peer",
            "name",
            others,
            "netns",
            &other.name,
        ]);
        self.run(&format!("ip link set {own} up"));
        other.run(&format!("ip link set {others} up"));
    }
}

impl Drop for Netns {
    fn drop(&mut self) {
        // Whatever the test left in it goes with it.
        let _ = Command::new("ip").args(["netns", "delete", &self.name]).status();
    }
}

fn run(words: &[&str]) -> String {
    let output = Command::new(words[0]).args(&words[1..]).output().unwrap();
    check(&words.join(" "), &output)
}

fn check(line: &str, output: &Output) -> String {
    assert!(
        output.status.success(),
        "`{line}` failed ({}): {}{}",
        output.status,
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8_lossy(&output.stdout).into_owned()
}
