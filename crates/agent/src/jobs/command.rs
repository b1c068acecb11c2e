//! A command that people have run on the machine.

use std::{pin::pin, process::Stdio, time::Duration};

use lastmile_survey::job::{JobResult, RunCommand};
use nix::{
    sys::signal::{Signal, killpg},
    unistd::Pid,
};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, BufReader},
    time::{Instant, sleep_until, timeout},
};

use super::{CANCELLED, Doing};
use crate::hooks::SEARCHED;

/// Bytes of a line, after which another one begins: what never ends a line must not fill the memory.
const MOST_LINE: u64 = 8 << 10;

/// How long the output of a command that has ended is read.
const LAST_LINES: Duration = Duration::from_secs(2);

pub(super) async fn run(doing: &Doing<'_>, asked: &RunCommand) -> JobResult {
    let mut command = doing.bench.hardware.command(&asked.words);
    command.env("PATH", SEARCHED).envs(doing.bench.about.borrow().told());
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    // A group of its own, so that what it starts ends with it.
    let spawned = command.process_group(0).kill_on_drop(true).spawn();
    let mut child = match spawned {
        Ok(child) => child,
        Err(error) => return JobResult::failed(format!("{} cannot be run: {error}", asked.words.join(" "))),
    };
    let group = child.id().and_then(|id| i32::try_from(id).ok()).map(Pid::from_raw);
    let (stdout, stderr) = (child.stdout.take(), child.stderr.take());
    let written = async { tokio::join!(lines(stdout, doing), lines(stderr, doing)) };
    let ended = async {
        let mut written = pin!(written);
        tokio::select! {
            status = child.wait() => {
                // What is left running in the background may keep its output open; what it wrote itself is read to its end.
                let _ = timeout(LAST_LINES, &mut written).await;
                status
            }
            ((), ()) = &mut written => child.wait().await,
        }
    };
    let end = Instant::now() + doing.limit;
    let why = tokio::select! {
        status = ended => return of_status(status),
        () = sleep_until(end) => format!("it took longer than {} min and was ended", asked.limit_minutes),
        () = doing.stop() => CANCELLED.into(),
        () = send_lines(doing) => return JobResult::failed("its output was lost"),
    };
    if let Some(group) = group {
        // Gone already is as good.
        let _ = killpg(group, Signal::SIGKILL);
    }
    JobResult::failed(why)
}

pub(super) fn of_status(status: std::io::Result<std::process::ExitStatus>) -> JobResult {
    match status {
        Ok(status) if status.success() => JobResult { exit_status: Some(0), ..JobResult::default() },
        Ok(status) => {
            JobResult { exit_status: status.code(), ..JobResult::failed(format!("it ended with {status}")) }
        }
        Err(error) => JobResult::failed(error.to_string()),
    }
}

/// Sends what waits to be sent, whenever it has waited long enough.
async fn send_lines(doing: &Doing<'_>) {
    loop {
        let now = Instant::now();
        let due = doing.log.due().unwrap_or(now + Duration::from_millis(250));
        sleep_until(due).await;
        if doing.log.due().is_some_and(|due| due <= Instant::now()) {
            doing.log.flush();
        }
    }
}

async fn lines(stream: Option<impl AsyncRead + Unpin>, doing: &Doing<'_>) {
    let Some(stream) = stream else { return };
    let mut stream = BufReader::new(stream);
    let mut line = Vec::new();
    loop {
        line.clear();
        let mut limited = tokio::io::AsyncReadExt::take(&mut stream, MOST_LINE);
        match limited.read_until(b'\n', &mut line).await {
            Ok(0) | Err(_) => return,
            Ok(_) => doing.log.line(&String::from_utf8_lossy(&line)),
        }
    }
}
