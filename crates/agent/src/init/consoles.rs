//! The machine's screens and serial lines.

use std::{
    fs,
    io::{self, Write},
    time::Duration,
};

use tokio::{sync::watch, time::sleep};

use crate::status::Shown;

/// The kernel's list of its consoles.
const ACTIVE: &str = "/sys/class/tty/console/active";
/// Clears a screen and goes to its first place (ECMA-48: ED, CUP).
const CLEAR: &str = "\x1b[2J\x1b[H";

/// Between two drawings: what changes in between is drawn at once.
const PAUSE: Duration = Duration::from_millis(300);

/// Draws on every console whenever something is different.
pub(super) async fn follow(mut shown: watch::Receiver<Shown>) {
    loop {
        sleep(PAUSE).await;
        let text = shown.borrow_and_update().to_string();
        // A serial line at 9600 baud takes its time; nothing else waits for it.
        let _ = tokio::task::spawn_blocking(move || print(&text)).await;
        if shown.changed().await.is_err() {
            return;
        }
    }
}

/// Draws a text on every console: a screen is cleared before, a serial line keeps what was said, for whoever records it.
pub(super) fn print(text: &str) {
    let active = fs::read_to_string(ACTIVE).unwrap_or_else(|_| "console".into());
    for name in active.split_whitespace() {
        let is_screen =
            name.strip_prefix("tty").is_some_and(|rest| rest.bytes().all(|byte| byte.is_ascii_digit()));
        // A console that cannot be written to is one that nobody reads.
        let _ = write(name, text, is_screen);
    }
}

fn write(name: &str, text: &str, is_screen: bool) -> io::Result<()> {
    let mut console = fs::OpenOptions::new().write(true).open(format!("/dev/{name}"))?;
    let lines = text.replace('\n', "\r\n");
    let whole = if is_screen { format!("{CLEAR}{lines}") } else { format!("\r\n{lines}") };
    console.write_all(whole.as_bytes())
}
