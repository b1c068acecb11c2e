//! The site's own programs: executables that `lastmile survey build --add` put into the system, run at defined points.
//!
//! Each is given JSON on its standard input, and says JSON on its standard output. This is how vendors' tools for RAID controllers
//! and firmware are used.

use std::{
    collections::BTreeMap,
    fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Stdio,
    time::Duration,
};

use serde::Serialize;
use serde_json::Value;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    process::Command,
    time::timeout,
};

/// Where the folders are, one for each point.
pub const FOLDER: &str = "/lastmile";
/// Where programs look for others.
pub(crate) const SEARCHED: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// How long one may take: tools that ask every disk of a shelf take a minute.
const PATIENCE: Duration = Duration::from_secs(180);
/// Most bytes of what one says.
const MOST_SAID: u64 = 1 << 20;
/// Bytes of its errors that are told.
const MOST_ERRORS: usize = 300;

/// When they run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum Point {
    /// Before the first report of a boot: what they say is reported.
    BeforeReport,
    /// After rules have run for the first time in a boot: what they say is reported, and rules run again.
    AfterRules,
    /// Before a job, which is not done if one of them fails: what they say is part of its result.
    BeforeJob,
    /// After a job, which has failed if one of them fails: what they say is part of its result.
    AfterJob,
}

/// What the programs of a point said, by their names, and what went wrong with others.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Said {
    /// What each said.
    pub found: BTreeMap<String, Value>,
    /// What went wrong, in words.
    pub faults: Vec<String>,
}

/// Runs the programs of a point below a folder, one after another in the order of their names. Each is given `input`, and `told` in its
/// environment.
pub async fn run(folder: &Path, point: Point, input: &impl Serialize, told: &[(String, String)]) -> Said {
    let mut said = Said::default();
    let input = match serde_json::to_vec(input) {
        Ok(input) => input,
        Err(error) => {
            said.faults.push(format!("the site's programs cannot be told: {error}"));
            return said;
        }
    };
    for program in programs(&folder.join(<&str>::from(point))) {
        let name = program.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        match one(&program, &input, point, told).await {
            Ok(Some(value)) => {
                said.found.insert(name, value);
            }
            Ok(None) => {}
            Err(why) => said.faults.push(format!("{name}: {why}")),
        }
    }
    said
}

/// The executables in a folder, in their order.
fn programs(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let is_program = |path: &PathBuf| {
        fs::metadata(path).is_ok_and(|found| found.is_file() && found.permissions().mode() & 0o111 != 0)
    };
    let mut programs: Vec<PathBuf> = entries.filter(is_program).collect();
    programs.sort();
    programs
}

/// Runs one; gives what it said, if that was anything.
async fn one(
    program: &Path,
    input: &[u8],
    point: Point,
    told: &[(String, String)],
) -> Result<Option<Value>, String> {
    let mut child = Command::new(program)
        .env("PATH", SEARCHED)
        .env("LASTMILE_POINT", <&str>::from(point))
        .envs(told.iter().map(|(key, value)| (key, value)))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| format!("it cannot be run: {error}"))?;
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let talk = async {
        let (mut said, mut errors) = (Vec::new(), Vec::new());
        let tells = async {
            if let Some(mut stdin) = stdin {
                // One that does not listen is told nothing.
                let _ = stdin.write_all(input).await;
            }
        };
        let hears = async {
            if let Some(stdout) = stdout {
                let _ = stdout.take(MOST_SAID + 1).read_to_end(&mut said).await;
            }
        };
        let complains = async {
            if let Some(stderr) = stderr {
                let _ = stderr.take(MOST_SAID).read_to_end(&mut errors).await;
            }
        };
        tokio::join!(tells, hears, complains);
        (child.wait().await, said, errors)
    };
    let (status, said, errors) =
        timeout(PATIENCE, talk).await.map_err(|_| format!("it took longer than {} s", PATIENCE.as_secs()))?;
    let status = status.map_err(|error| error.to_string())?;
    if !status.success() {
        let errors = String::from_utf8_lossy(&errors);
        let errors: String = errors.trim().chars().take(MOST_ERRORS).collect();
        return Err(format!("it ended with {status}: {errors}"));
    }
    if said.len() as u64 > MOST_SAID {
        return Err(format!("it said more than {MOST_SAID} bytes"));
    }
    if said.iter().all(u8::is_ascii_whitespace) {
        return Ok(None);
    }
    serde_json::from_slice(&said).map(Some).map_err(|error| format!("what it said is no JSON: {error}"))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn put(folder: &Path, name: &str, script: &str, mode: u32) {
        let folder = folder.join("before-report");
        fs::create_dir_all(&folder).unwrap();
        let path = folder.join(name);
        fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
    }

    #[tokio::test]
    async fn programs_are_given_the_facts_and_what_they_say_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        put(folder.path(), "raid", "echo \"{\\\"told\\\": $(cat)}\"", 0o755);
        put(folder.path(), "silent", "exit 0", 0o755);
        put(folder.path(), "broken", "echo 'no controller' >&2; exit 3", 0o755);
        put(folder.path(), "chatty", "echo hello", 0o755);
        put(folder.path(), "notes.txt", "echo {}", 0o644);
        let said = run(folder.path(), Point::BeforeReport, &json!({"cores": 8}), &[]).await;
        assert_eq!(said.found, BTreeMap::from([("raid".into(), json!({"told": {"cores": 8}}))]));
        assert_eq!(said.faults.len(), 2, "{said:?}");
        assert_eq!(said.faults[0], "broken: it ended with exit status: 3: no controller");
        assert!(said.faults[1].starts_with("chatty: what it said is no JSON"), "{said:?}");
        let nothing = run(&folder.path().join("elsewhere"), Point::BeforeReport, &json!({}), &[]).await;
        assert_eq!(nothing, Said::default());
    }
}
