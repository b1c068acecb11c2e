//! What several systems are set up by alike, in the language of their shell.

use std::fmt::Write;

use lastmile_formats::quote;

use super::Target;
use crate::{
    decide::answers::{Account, Resolved},
    model::{answers::Sudo, install::ReportStage},
};

/// A command that reports and never fails. `wget` is in every installer that runs it here. A service that is away for a
/// moment is asked again.
pub(super) fn wget(target: &Target<'_>, stage: ReportStage) -> String {
    wget_to(&target.report_url(stage))
}

/// The same with what went wrong.
pub(super) fn wget_failed(target: &Target<'_>, text: &str) -> String {
    wget_to(&format!("{}?text={text}", target.report_url(ReportStage::Failed)))
}

fn wget_to(url: &str) -> String {
    format!(
        "for try in 1 2 3 4 5 6; do if wget -q -O /dev/null {}; then break; fi; sleep 5; done",
        quote::shell(url)
    )
}

/// The same by `curl`.
pub(super) fn curl(target: &Target<'_>, stage: ReportStage) -> String {
    format!(
        "curl -fsS --retry 6 --retry-delay 5 --retry-connrefused -o /dev/null {} || true",
        quote::shell(&target.report_url(stage))
    )
}

/// Sends what stands new in an installer's log, every few seconds, as long as the installer runs. In the tools of a
/// small installer, whose `wget` only asks: the lines go in the query, at most twenty at a time, without what a query
/// cannot hold.
pub(super) fn send_log_by_wget(target: &Target<'_>, log: &str, lines: &str) -> String {
    let url = quote::shell(&target.log_url());
    format!(
        "(n=0; while sleep 5; do m=$(wc -l <{log}); [ \"$m\" -gt \"$n\" ] || continue; \
         t=$(sed -n \"$((n+1)),${{m}}p\" {log} | grep -E {lines} | tail -n 20 | cut -c 1-200 | \
         tr -c 'A-Za-z0-9 .,:;/()=_%+&#@\\n-' '?' | \
         sed 's/%/%25/g;s/&/%26/g;s/#/%23/g;s/+/%2B/g;s/ /%20/g;s/$/%0A/' | tr -d '\\n'); n=$m; \
         [ -z \"$t\" ] || wget -q -O /dev/null {url}\"?text=$t\"; done >/dev/null 2>&1 </dev/null &)",
        lines = quote::shell(lines)
    )
}

/// The same by `curl`, which sends the lines as they are.
pub(super) fn send_log_by_curl(target: &Target<'_>, log: &str) -> String {
    let url = quote::shell(&target.log_url());
    format!(
        "(n=0; while sleep 5; do m=$(wc -l <{log}); [ \"$m\" -gt \"$n\" ] || continue; \
         sed -n \"$((n+1)),${{m}}p\" {log} | tail -n 50 | curl -fsS -o /dev/null --data-binary @- {url}; n=$m; \
         done >/dev/null 2>&1 </dev/null &)"
    )
}

/// Puts a user's keys in place.
pub(super) fn keys(script: &mut String, login: &str, keys: &[String]) {
    if keys.is_empty() {
        return;
    }
    let _ = writeln!(script, "home=$(getent passwd {login} | cut -d: -f6)");
    let _ = writeln!(script, "mkdir -p \"$home/.ssh\"");
    script.push_str(&quote::here_document(&keys.join("\n"), "\"$home/.ssh/authorized_keys\""));
    let _ = writeln!(script, "chmod 700 \"$home/.ssh\"; chmod 600 \"$home/.ssh/authorized_keys\"");
    let _ = writeln!(script, "chown -R \"$(id -u {login}):$(id -g {login})\" \"$home/.ssh\"");
}

/// Lets a user become root without a password.
pub(super) fn sudoers(script: &mut String, user: &Account) {
    if user.sudo == Sudo::NoPassword {
        let login = &user.login;
        let _ = writeln!(script, "mkdir -p /etc/sudoers.d");
        let _ = writeln!(script, "echo '{login} ALL=(ALL:ALL) NOPASSWD: ALL' >/etc/sudoers.d/{login}");
        let _ = writeln!(script, "chmod 440 /etc/sudoers.d/{login}");
    }
}

/// Runs the last steps, each from a file of its own, and stops at the first that fails.
pub(super) fn last_steps(script: &mut String, settings: &Resolved) {
    for (name, step) in &settings.last_steps {
        let _ = writeln!(script, "# Last step {name}");
        let path = format!("/root/lastmile-{name}");
        script.push_str(&quote::here_document(&with_interpreter(step), &path));
        let _ = writeln!(script, "chmod 700 {path}; {path}; rm -f {path}");
    }
}

/// A script without a first line that says who reads it is the shell's.
pub(super) fn with_interpreter(script: &str) -> String {
    if script.starts_with("#!") { script.into() } else { format!("#!/bin/sh\nset -e\n{script}") }
}

/// Where the first start finds what it is to do.
pub(super) const FIRST_BOOT: &str = "/usr/local/lib/lastmile";

/// Host, port, authority and path of one of our own URLs.
fn parts_of(url: &str) -> (&str, &str, &str, &str) {
    let base = url.strip_prefix("http://").unwrap_or(url);
    let (authority, path) = base.split_once('/').unwrap_or((base, ""));
    let (host, port) = authority.split_once(':').unwrap_or((authority, "80"));
    (host, port, authority, path)
}

/// A command that reports, in bash alone: for images that have neither `wget` nor `curl`.
pub(super) fn report_by_shell(url: &str) -> String {
    let (host, port, authority, path) = parts_of(url);
    format!(
        "exec 3<>/dev/tcp/{host}/{port} && printf 'GET /{path} HTTP/1.0\\r\\nHost: {authority}\\r\\n\\r\\n' >&3; true"
    )
}

/// What runs once at the first start: the scripts, and the report of what has become of the machine.
pub(super) fn first_boot_runner(target: &Target<'_>) -> String {
    let url = target.report_url(ReportStage::Booted);
    let (host, port, authority, path) = parts_of(&url);
    // The shell speaks HTTP by itself: a small system has neither wget nor curl.
    format!(
        r#"#!/bin/bash
# Runs once, when the installed system starts for the first time.
result=0
for script in {FIRST_BOOT}/first-boot.d/*; do
  [ -x "$script" ] || continue
  "$script" || {{ echo "$script failed" >&2; result=1; }}
done
encode() {{ sed 's/%/%25/g; s/ /%20/g; s/&/%26/g; s/#/%23/g; s/+/%2B/g; s/"/%22/g'; }}
. /etc/os-release
address=$(hostname -I 2>/dev/null | tr ' ' '\n' | grep -v : | head -n 1)
query="host_name=$(uname -n | encode)&address=$(echo "$address" | encode)&kernel=$(uname -r | encode)"
query="$query&os=$(echo "$PRETTY_NAME" | encode)&first_boot=$result"
for try in 1 2 3 4 5 6 7 8 9 10; do
  if exec 3<>/dev/tcp/{host}/{port}; then
    printf 'GET /{path}?%s HTTP/1.0\r\nHost: {authority}\r\n\r\n' "$query" >&3
    read -r status <&3 && case $status in *" 200 "*|*" 204 "*) break ;; esac
  fi
  sleep 5
done
[ ! -e /etc/systemd/system/lastmile-first-boot.service ] || systemctl disable lastmile-first-boot.service
exit $result
"#
    )
}

/// The unit that starts it (systemd.service(5)).
pub(super) fn first_boot_unit() -> String {
    format!(
        "[Unit]\nDescription=First start: scripts and report\nWants=network-online.target\nAfter=network-online.target\n\n\
         [Service]\nType=oneshot\nExecStart=/bin/bash {FIRST_BOOT}/first-boot\n\n[Install]\nWantedBy=multi-user.target\n"
    )
}

/// Puts the first start's scripts and unit in place.
pub(super) fn first_boot(script: &mut String, settings: &Resolved, target: &Target<'_>) {
    put_first_boot(script, settings, target);
    let unit = "/etc/systemd/system/lastmile-first-boot.service";
    script.push_str(&quote::here_document(&first_boot_unit(), unit));
    let _ = writeln!(script, "systemctl enable lastmile-first-boot.service");
}

fn put_first_boot(script: &mut String, settings: &Resolved, target: &Target<'_>) {
    let _ = writeln!(script, "# First start");
    let _ = writeln!(script, "mkdir -p {FIRST_BOOT}/first-boot.d");
    for (name, text) in &settings.first_boot {
        let path = format!("{FIRST_BOOT}/first-boot.d/{name}");
        script.push_str(&quote::here_document(&with_interpreter(text), &path));
        let _ = writeln!(script, "chmod 755 {path}");
    }
    script.push_str(&quote::here_document(&first_boot_runner(target), &format!("{FIRST_BOOT}/first-boot")));
}

/// Puts the scripts of a host in place that runs from memory, and runs them: each of its starts is its first.
pub(super) fn first_boot_scripts(script: &mut String, settings: &Resolved, target: &Target<'_>) {
    put_first_boot(script, settings, target);
    let _ = writeln!(script, "bash {FIRST_BOOT}/first-boot");
}

/// Words of a kernel's command line are added to GRUB's settings.
pub(super) fn default_grub(words: &[String]) -> String {
    let words = words.join(" ");
    format!(
        "sed -i 's|^GRUB_CMDLINE_LINUX=\"|&{words} |' /etc/default/grub && update-grub",
        words = words.replace('|', "\\|")
    )
}
