//! `lastmile serve` as a process, and the client's commands against it.

use std::{
    fs::File,
    io::Write,
    path::PathBuf,
    process::{Child, Command, Output, Stdio},
    time::Duration,
};

use serde_json::Value;

use super::{netns::Netns, wait_for};

/// The binary under test.
pub const LASTMILE: &str = env!("CARGO_BIN_EXE_lastmile");

/// A running service with a data folder of its own, ended with the value.
pub struct Service<'a> {
    pub folder: tempfile::TempDir,
    /// What the next process is started with beside what the test has itself.
    pub environment: Vec<(String, String)>,
    namespace: Option<&'a Netns>,
    server: String,
    child: Option<Child>,
}

impl<'a> Service<'a> {
    /// Starts the service with this `[boot]` section; inside a namespace if one is given.
    pub fn start(namespace: Option<&'a Netns>, boot: &str, admin_port: u16) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let config = format!(
            "data_dir = '{}'\n[boot]\n{boot}\n[admin]\nlisten = '127.0.0.1:{admin_port}'\n[log]\nlevel = \
             'info,lastmile_server=debug'\n",
            folder.path().join("data").display()
        );
        std::fs::write(folder.path().join("lastmile.toml"), config).unwrap();
        let server = format!("http://127.0.0.1:{admin_port}");
        let mut service = Self { folder, environment: Vec::new(), namespace, server, child: None };
        service.spawn();
        service
    }

    /// Starts the process on the data folder as it is.
    pub fn spawn(&mut self) {
        let log = File::options().create(true).append(true).open(self.log_path()).unwrap();
        let mut command = self.program();
        let child = command
            .envs(self.environment.iter().cloned())
            .args(["serve", "--config"])
            .arg(self.folder.path().join("lastmile.toml"))
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap();
        self.child = Some(child);
        let ready = || {
            let ended = self.program().args(["status", "--server", &self.server]).output().unwrap();
            ended.status.success().then_some(())
        };
        let log = self.log_path();
        wait_for(&format!("the service's start; see {}", log.display()), Duration::from_secs(10), ready);
    }

    fn program(&self) -> Command {
        match self.namespace {
            Some(namespace) => namespace.command(LASTMILE),
            None => Command::new(LASTMILE),
        }
    }

    pub fn log_path(&self) -> PathBuf {
        self.folder.path().join("log")
    }

    pub fn log(&self) -> String {
        std::fs::read_to_string(self.log_path()).unwrap_or_default()
    }

    /// The number of its process.
    pub fn id(&self) -> u32 {
        self.child.as_ref().unwrap().id()
    }

    pub fn server(&self) -> &str {
        &self.server
    }

    /// Runs a client's command, whatever comes of it.
    pub fn try_run(&self, words: &[&str]) -> Output {
        self.program().args(["--server", &self.server]).args(words).output().unwrap()
    }

    /// Runs a client's command that must work; gives what it wrote.
    pub fn run(&self, words: &[&str]) -> String {
        let output = self.try_run(words);
        assert!(
            output.status.success(),
            "lastmile {}: {}\n{}",
            words.join(" "),
            String::from_utf8_lossy(&output.stderr),
            self.log()
        );
        String::from_utf8(output.stdout).unwrap()
    }

    /// Runs a client's command that must work, with something on its standard input; gives what it wrote.
    pub fn piped(&self, words: &[&str], input: &str) -> String {
        let output = self.piped_whatever(words, input);
        assert!(output.status.success(), "lastmile {}: {}", words.join(" "), output.status);
        String::from_utf8(output.stdout).unwrap()
    }

    /// The same, whatever comes of it.
    pub fn piped_whatever(&self, words: &[&str], input: &str) -> Output {
        let mut command = self.program();
        command.args(["--server", &self.server]).args(words);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// Saves a file as answers or a menu: new ones, or in the place of those of that name.
    pub fn put(&self, noun: &str, name: &str, file: &str) {
        let is_there = self.try_run(&[noun, "show", name]).status.success();
        self.run(&[noun, if is_there { "change" } else { "add" }, name, "--from", file]);
    }

    /// The same, as JSON.
    pub fn json(&self, words: &[&str]) -> Value {
        serde_json::from_str(&self.run(&[&["--json"], words].concat())).unwrap()
    }

    /// The command that must fail; gives exit code and what it wrote on standard error.
    pub fn fail(&self, words: &[&str]) -> (i32, String) {
        let output = self.try_run(words);
        assert!(!output.status.success(), "lastmile {} worked", words.join(" "));
        (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
    }

    /// Sends a signal to the process and waits for its end; gives whether it ended well.
    pub fn signal(&mut self, signal: &str) -> bool {
        let mut child = self.child.take().unwrap();
        let sent = Command::new("kill").args(["-s", signal, &child.id().to_string()]).status().unwrap();
        assert!(sent.success());
        child.wait().unwrap().success()
    }
}

impl Drop for Service<'_> {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
        if std::thread::panicking() {
            eprintln!("--- the service's log\n{}", self.log());
        }
    }
}
