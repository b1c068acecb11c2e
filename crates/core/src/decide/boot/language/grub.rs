//! Menus in GRUB's language (GNU GRUB manual, chapter 6, "Writing full configuration files directly").

use std::fmt::Write;

use super::{ascii, line, one_line, url_path};
use crate::{
    decide::boot::{KernelBoot, Line, LineAction, Screen, compose::AGAIN},
    model::{loader::HttpReach, menu::After, service::Service},
};

/// Who may edit entries and use the command line while a phrase guards any: nobody, as it has no phrase.
const NOBODY: &str = "nobody";

/// Where systems put their loaders on an EFI system partition: an installed system's own before the one for media that
/// move from machine to machine (UEFI 2.10, section 3.5.1.1), which may only set the others up.
const DISK_LOADERS: [&str; 6] = [
    "/EFI/*/shim*.efi",
    "/EFI/Microsoft/Boot/bootmgfw.efi",
    "/EFI/*/grub*.efi",
    "/EFI/systemd/systemd-boot*.efi",
    "/EFI/BOOT/BOOT*.EFI",
    "/EFI/Boot/boot*.efi",
];

/// Writes `screen` for a loader that fetches by HTTP as far as `reach` says.
///
/// Whether HTTP really works is tried when the menu is read: under Secure Boot's lockdown the module
/// cannot be loaded, and a build may lack it; then everything goes by TFTP.
pub(super) fn render(screen: &Screen, service: Service, reach: HttpReach) -> String {
    let mut out = String::new();
    line(&mut out, format_args!("# {}", one_line(&screen.why)));
    match screen.timeout {
        Some(timeout) => line(&mut out, format_args!("set timeout={}", timeout.as_secs())),
        None => line(&mut out, format_args!("set timeout=-1")),
    }
    if screen.silent {
        line(&mut out, format_args!("set timeout_style=hidden"));
    }
    if let Some(default) = screen.default_line() {
        line(&mut out, format_args!("set default={}", quote(&default.key)));
    }
    write_source(&mut out, service, reach);
    let guarded = screen.is_guarded();
    if guarded {
        line(&mut out, format_args!("insmod password_pbkdf2"));
        line(&mut out, format_args!("set superusers={NOBODY}"));
        line(&mut out, format_args!("export superusers"));
        for entry in screen.all_lines() {
            if let Some(guard) = &entry.guard {
                line(&mut out, format_args!("password_pbkdf2 {} {}", entry.key, guard.pbkdf2()));
            }
        }
    }
    if !screen.title.is_empty() {
        // GRUB's plain menu has no title: a line that does nothing stands in for it.
        let free = if guarded { " --unrestricted" } else { "" };
        line(
            &mut out,
            format_args!("menuentry {}{free} {{", quote(&format!("-- {} --", ascii(&screen.title)))),
        );
        line(&mut out, format_args!("  true"));
        line(&mut out, format_args!("}}"));
    }
    for entry in &screen.lines {
        write_entry(&mut out, entry, screen.after, guarded, 0);
    }
    out
}

/// What is carried out after a line was picked: GRUB reads it with `source`.
pub(super) fn picked(action: &LineAction, after: After) -> String {
    let mut out = String::new();
    write_action(&mut out, "", "", action, after);
    out
}

fn write_source(out: &mut String, service: Service, reach: HttpReach) {
    line(out, format_args!("set from='(tftp,{})'", service.address));
    let http = match reach {
        HttpReach::Port80 | HttpReach::AnyPort if service.http_port == 80 => {
            Some(service.address.to_string())
        }
        HttpReach::AnyPort => Some(format!("{}:{}", service.address, service.http_port)),
        HttpReach::Port80 | HttpReach::None => None,
    };
    if let Some(http) = http {
        line(out, format_args!("if [ \"$lockdown\" != \"y\" ]; then"));
        line(out, format_args!("  if insmod http; then"));
        line(out, format_args!("    set from='(http,{http})'"));
        line(out, format_args!("  fi"));
        line(out, format_args!("fi"));
    }
    // Entries run in a context of their own, which sees exported variables only.
    line(out, format_args!("export from"));
}

fn write_entry(out: &mut String, entry: &Line, after: After, guarded: bool, depth: usize) {
    let pad = "  ".repeat(depth);
    let title = match &entry.guard {
        Some(_) => format!("{}  (name: {})", ascii(&entry.title), entry.key),
        None => ascii(&entry.title),
    };
    let who = match &entry.guard {
        Some(_) => format!(" --users {}", entry.key),
        None if guarded => " --unrestricted".into(),
        None => String::new(),
    };
    let kind = if matches!(entry.action, LineAction::Lines(_)) { "submenu" } else { "menuentry" };
    line(out, format_args!("{pad}{kind} {} --id {}{who} {{", quote(&title), quote(&entry.key)));
    match &entry.action {
        LineAction::Lines(inner) => {
            for inner in inner {
                write_entry(out, inner, after, guarded, depth + 1);
            }
        }
        action => write_action(out, &format!("{pad}  "), &entry.path, action, after),
    }
    line(out, format_args!("{pad}}}"));
}

fn write_action(out: &mut String, pad: &str, path: &str, action: &LineAction, after: After) {
    match action {
        LineAction::Kernel(boot) => {
            write_kernel(out, pad, boot);
            write_after(out, pad, after);
        }
        LineAction::Program(program) => {
            line(
                out,
                format_args!(
                    "{pad}if chainloader \"$from\"{}; then",
                    quote(&format!("/{}", url_path(program)))
                ),
            );
            line(out, format_args!("{pad}  boot"));
            line(out, format_args!("{pad}fi"));
            write_after(out, pad, after);
        }
        LineAction::Pick => {
            line(out, format_args!("{pad}source \"$from\"{}", quote(&format!("/{}.grub", url_path(path)))));
            write_after(out, pad, after);
        }
        // Reading the menu again would keep the menu before it in memory, each time: so a text is read that starts
        // what there is to start, or nothing yet.
        LineAction::Again(_) => {
            line(out, format_args!("{pad}echo 'Waiting. Escape leads back to the menu.'"));
            line(out, format_args!("{pad}while sleep --interruptible {}; do", AGAIN.as_secs()));
            line(out, format_args!("{pad}  source \"$from\"{}", quote(&format!("/{}.grub", url_path(path)))));
            line(out, format_args!("{pad}done"));
        }
        LineAction::Lines(_) => {}
        LineAction::LocalDisk => {
            line(out, format_args!("{pad}if [ \"$grub_platform\" = \"efi\" ]; then"));
            write_local_uefi(out, &format!("{pad}  "));
            line(out, format_args!("{pad}else"));
            line(out, format_args!("{pad}  set root='(hd0)'"));
            line(out, format_args!("{pad}  chainloader +1"));
            line(out, format_args!("{pad}  boot"));
            line(out, format_args!("{pad}fi"));
        }
        LineAction::FirmwareSetup => {
            line(out, format_args!("{pad}if [ \"$grub_platform\" = \"efi\" ]; then"));
            line(out, format_args!("{pad}  fwsetup"));
            line(out, format_args!("{pad}else"));
            write_message(
                out,
                &format!("{pad}  "),
                "This firmware opens its set-up by a key at power-on only.",
            );
            line(out, format_args!("{pad}fi"));
        }
        LineAction::Restart => line(out, format_args!("{pad}reboot")),
        LineAction::PowerOff => line(out, format_args!("{pad}halt")),
        LineAction::NetworkDisk(_) => {
            write_message(
                out,
                pad,
                "GRUB cannot start from a network disk: give this machine another loader.",
            );
            write_after(out, pad, after);
        }
        LineAction::Message(text) => {
            write_message(out, pad, text);
            write_after(out, pad, after);
        }
    }
}

/// Starts the first loader found on a disk of the machine; goes back to the firmware only if there is none.
///
/// Going back at once would not do: GRUB 2.06 ends with success, and after that firmware shows its own menu in the
/// place of its next boot option (UEFI 2.10, section 3.1.1). A loader for another processor fails to load, and the
/// next is tried.
fn write_local_uefi(out: &mut String, pad: &str) {
    line(out, format_args!("{pad}insmod regexp"));
    line(
        out,
        format_args!("{pad}for loader in {}; do", DISK_LOADERS.map(|path| format!("(hd*){path}")).join(" ")),
    );
    line(out, format_args!("{pad}  if [ -f \"$loader\" ]; then"));
    line(out, format_args!("{pad}    if chainloader \"$loader\"; then"));
    line(out, format_args!("{pad}      boot"));
    line(out, format_args!("{pad}    fi"));
    line(out, format_args!("{pad}  fi"));
    line(out, format_args!("{pad}done"));
    line(out, format_args!("{pad}exit"));
}

fn write_kernel(out: &mut String, pad: &str, boot: &KernelBoot) {
    line(out, format_args!("{pad}echo 'Fetching the kernel ...'"));
    let _ = write!(out, "{pad}if linux \"$from\"{}", quote(&format!("/{}", url_path(&boot.kernel))));
    for word in boot.words() {
        let _ = write!(out, " {}", quote(word));
    }
    line(out, format_args!("; then"));
    if boot.initrds.is_empty() {
        line(out, format_args!("{pad}  boot"));
    } else {
        line(out, format_args!("{pad}  echo 'Fetching the initrd ...'"));
        let _ = write!(out, "{pad}  if initrd");
        for initrd in &boot.initrds {
            let _ = write!(out, " \"$from\"{}", quote(&format!("/{}", url_path(initrd))));
        }
        line(out, format_args!("; then"));
        line(out, format_args!("{pad}    boot"));
        line(out, format_args!("{pad}  fi"));
    }
    line(out, format_args!("{pad}fi"));
}

fn write_message(out: &mut String, pad: &str, text: &str) {
    line(out, format_args!("{pad}echo {}", quote(&ascii(text))));
    line(out, format_args!("{pad}sleep --interruptible 8"));
}

fn write_after(out: &mut String, pad: &str, after: After) {
    match after {
        After::Menu => {}
        After::LocalDisk => write_action(out, pad, "", &LineAction::LocalDisk, after),
        After::Restart => line(out, format_args!("{pad}reboot")),
        After::PowerOff => line(out, format_args!("{pad}halt")),
    }
}

/// One word of GRUB's language: bare where nothing in it could mean anything, else in single quotes, where
/// nothing has a meaning but the closing quote. A line break would end even that, and becomes a space.
fn quote(word: &str) -> String {
    let plain = |c: char| {
        c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | ':' | '=' | ',' | '+' | '@' | '%')
    };
    if !word.is_empty() && word.chars().all(plain) {
        return word.into();
    }
    format!("'{}'", one_line(word).replace('\'', "'\\''"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decide::boot::language::tests::{hostile, sample, service};

    #[test]
    fn a_menu_reads_as_a_person_would_write_it() {
        let text = render(&sample(), service(80), HttpReach::Port80);
        let expected = "\
# install 41 of tidewrack-12 r1 is armed
set timeout=5
set default=install
set from='(tftp,192.0.2.2)'
if [ \"$lockdown\" != \"y\" ]; then
  if insmod http; then
    set from='(http,192.0.2.2)'
  fi
fi
export from
menuentry 'Install Tidewrack 12' --id install {
  echo 'Fetching the kernel ...'
  if linux \"$from\"/boot/02-00-5e-00-53-01/tidewrack-12/r1/linux auto=true quiet; then
    echo 'Fetching the initrd ...'
    if initrd \"$from\"/boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz; then
      boot
    fi
  fi
}
menuentry 'Start from the local disk' --id local-disk {
  if [ \"$grub_platform\" = \"efi\" ]; then
    insmod regexp
    for loader in (hd*)/EFI/*/shim*.efi (hd*)/EFI/Microsoft/Boot/bootmgfw.efi (hd*)/EFI/*/grub*.efi (hd*)/EFI/systemd/systemd-boot*.efi (hd*)/EFI/BOOT/BOOT*.EFI (hd*)/EFI/Boot/boot*.efi; do
      if [ -f \"$loader\" ]; then
        if chainloader \"$loader\"; then
          boot
        fi
      fi
    done
    exit
  else
    set root='(hd0)'
    chainloader +1
    boot
  fi
}
";
        assert_eq!(text, expected);
    }

    #[test]
    fn http_is_named_only_where_the_loader_reaches_it() {
        let http = |port, reach| render(&sample(), service(port), reach).contains("(http,");
        assert!(http(80, HttpReach::Port80) && http(8080, HttpReach::AnyPort));
        assert!(!http(8080, HttpReach::Port80) && !http(80, HttpReach::None));
    }

    #[test]
    fn nothing_breaks_out_of_its_quotes() {
        let text = render(&hostile(), service(80), HttpReach::None);
        assert!(text.contains(r#"menuentry 'it'\''s $root; `halt` "x" } \ #   reboot"#), "{text}");
        assert!(!text.lines().any(|line| line.trim() == "reboot" || line.trim() == "halt"));
    }
}
