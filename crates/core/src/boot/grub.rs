//! Menus in GRUB's language (GNU GRUB manual, chapter 6, "Writing full configuration files directly").

use std::fmt::Write;

use super::{Entry, EntryAction, HttpReach, KernelBoot, Menu, Service};

/// Writes `menu` for a loader that fetches by HTTP as far as `reach` says.
///
/// Whether HTTP really works is tried when the menu is read: under Secure Boot's lockdown the module
/// cannot be loaded, and a build may lack it; then everything goes by TFTP.
#[must_use]
pub fn render(menu: &Menu, service: Service, reach: HttpReach) -> String {
    let mut out = String::new();
    line(&mut out, format_args!("# {}", one_line(&menu.why)));
    match menu.timeout {
        Some(timeout) => line(&mut out, format_args!("set timeout={}", timeout.as_secs())),
        None => line(&mut out, format_args!("set timeout=-1")),
    }
    line(&mut out, format_args!("set default=0"));
    write_source(&mut out, service, reach);
    for entry in &menu.entries {
        write_entry(&mut out, entry);
    }
    out
}

fn write_source(out: &mut String, service: Service, reach: HttpReach) {
    line(out, format_args!("set from='(tftp,{})'", service.address));
    let http = match reach {
        HttpReach::Port80 if service.http_port == 80 => Some(service.address.to_string()),
        HttpReach::AnyPort if service.http_port == 80 => Some(service.address.to_string()),
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

fn write_entry(out: &mut String, entry: &Entry) {
    line(out, format_args!("menuentry {} {{", quote(&entry.title)));
    match &entry.action {
        EntryAction::Kernel(boot) => write_kernel(out, boot),
        EntryAction::LocalDisk => {
            line(out, format_args!("  if [ \"$grub_platform\" = \"efi\" ]; then"));
            line(out, format_args!("    exit"));
            line(out, format_args!("  else"));
            line(out, format_args!("    set root='(hd0)'"));
            line(out, format_args!("    chainloader +1"));
            line(out, format_args!("    boot"));
            line(out, format_args!("  fi"));
        }
        EntryAction::FirmwareSetup => {
            line(out, format_args!("  if [ \"$grub_platform\" = \"efi\" ]; then"));
            line(out, format_args!("    fwsetup"));
            line(out, format_args!("  else"));
            line(out, format_args!("    echo 'This firmware opens its set-up by a key at power-on only.'"));
            line(out, format_args!("    sleep 5"));
            line(out, format_args!("  fi"));
        }
        EntryAction::Restart => line(out, format_args!("  reboot")),
        EntryAction::PowerOff => line(out, format_args!("  halt")),
    }
    line(out, format_args!("}}"));
}

fn write_kernel(out: &mut String, boot: &KernelBoot) {
    line(out, format_args!("  echo 'Fetching the kernel ...'"));
    let _ = write!(out, "  linux \"$from\"{}", quote(&format!("/{}", boot.kernel)));
    for word in &boot.parameters {
        let _ = write!(out, " {}", quote(word));
    }
    out.push('\n');
    if !boot.initrds.is_empty() {
        line(out, format_args!("  echo 'Fetching the initrd ...'"));
        out.push_str("  initrd");
        for initrd in &boot.initrds {
            let _ = write!(out, " \"$from\"{}", quote(&format!("/{initrd}")));
        }
        out.push('\n');
    }
}

fn line(out: &mut String, text: std::fmt::Arguments<'_>) {
    // Writing to a String cannot fail.
    let _ = writeln!(out, "{text}");
}

/// A comment cannot be broken out of if it is one line.
fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// One word of GRUB's language: bare where nothing in it could mean anything, else in single quotes, where
/// nothing has a meaning but the closing quote. A line break would end even that, and becomes a space.
fn quote(word: &str) -> String {
    let plain = |c: char| {
        c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | ':' | '=' | ',' | '+' | '@')
    };
    if !word.is_empty() && word.chars().all(plain) {
        return word.into();
    }
    format!("'{}'", one_line(word).replace('\'', "'\\''"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn menu(title: &str, parameter: &str) -> Menu {
        Menu {
            why: "install 41 of tidewrack-12 r1 is armed".into(),
            entries: vec![
                Entry {
                    title: title.into(),
                    action: EntryAction::Kernel(KernelBoot {
                        kernel: "boot/02-00-5e-00-53-01/tidewrack-12/r1/linux".into(),
                        initrds: vec!["boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz".into()],
                        parameters: vec!["auto=true".into(), parameter.into()],
                    }),
                },
                Entry { title: "Start from the local disk".into(), action: EntryAction::LocalDisk },
            ],
            timeout: Some(std::time::Duration::from_secs(5)),
        }
    }

    fn service(http_port: u16) -> Service {
        Service { address: std::net::Ipv4Addr::new(192, 0, 2, 2), http_port, https_port: None }
    }

    #[test]
    fn a_menu_reads_as_a_person_would_write_it() {
        let text = render(&menu("Install Tidewrack 12", "quiet"), service(80), HttpReach::Port80);
        let expected = "\
# install 41 of tidewrack-12 r1 is armed
set timeout=5
set default=0
set from='(tftp,192.0.2.2)'
if [ \"$lockdown\" != \"y\" ]; then
  if insmod http; then
    set from='(http,192.0.2.2)'
  fi
fi
export from
menuentry 'Install Tidewrack 12' {
  echo 'Fetching the kernel ...'
  linux \"$from\"/boot/02-00-5e-00-53-01/tidewrack-12/r1/linux auto=true quiet
  echo 'Fetching the initrd ...'
  initrd \"$from\"/boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz
}
menuentry 'Start from the local disk' {
  if [ \"$grub_platform\" = \"efi\" ]; then
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
        let http = |port, reach| render(&menu("x", "y"), service(port), reach).contains("(http,");
        assert!(http(80, HttpReach::Port80) && http(8080, HttpReach::AnyPort));
        assert!(!http(8080, HttpReach::Port80) && !http(80, HttpReach::None));
    }

    #[test]
    fn nothing_breaks_out_of_its_quotes() {
        let hostile = "it's $root; `halt` \"x\" } \\ # \n reboot";
        let text = render(&menu(hostile, hostile), service(80), HttpReach::None);
        assert!(text.contains(r#"menuentry 'it'\''s $root; `halt` "x" } \ #   reboot' {"#), "{text}");
        assert!(!text.lines().any(|line| line.trim() == "reboot"));
    }
}
