//! Menus in PXELINUX's language (the Syslinux Project, "Config" and `doc/menu.txt`).
//!
//! The language has no quotes: a directive's value goes to the end of its line. What keeps a text in its place is that it
//! is one line, and that no value begins as something else.

use super::{ascii, line, one_line, url_path};
use crate::{
    decide::boot::{KernelBoot, Line, LineAction, Screen},
    model::{
        loader::{HttpReach, Reader},
        menu::After,
        service::Service,
    },
};

/// Longest command line that the loader hands to a kernel.
const MOST_APPEND: usize = 2000;

struct Writer<'a> {
    out: String,
    service: Service,
    reader: Reader,
    screen: Option<&'a Screen>,
}

/// Writes `screen`.
pub(super) fn render(screen: &Screen, service: Service, reader: Reader) -> String {
    let mut writer = Writer { out: String::new(), service, reader, screen: Some(screen) };
    writer.screen(screen);
    writer.out
}

/// What is started after a line was picked: PXELINUX reads it as a configuration of its own.
pub(super) fn picked(action: &LineAction, service: Service, reader: Reader) -> String {
    let mut writer = Writer { out: String::new(), service, reader, screen: None };
    line(&mut writer.out, format_args!("DEFAULT picked"));
    line(&mut writer.out, format_args!("PROMPT 0"));
    line(&mut writer.out, format_args!("LABEL picked"));
    writer.action("", action);
    writer.out
}

/// Text for a person: printable, one line, without the mark of a hot key.
fn shown(text: &str) -> String {
    ascii(text).replace('^', "'").trim().to_owned()
}

impl Writer<'_> {
    fn put(&mut self, text: std::fmt::Arguments<'_>) {
        line(&mut self.out, text);
    }

    fn screen(&mut self, screen: &Screen) {
        self.put(format_args!("# {}", one_line(&screen.why)));
        if self.reader.boxed {
            self.put(format_args!("UI menu.c32"));
            let title = if screen.title.is_empty() { "Last Mile".into() } else { shown(&screen.title) };
            self.put(format_args!("MENU TITLE {title}"));
            // Nobody edits a line or leaves the menu for a prompt past a phrase.
            self.put(format_args!("NOESCAPE 1"));
            self.put(format_args!("ALLOWOPTIONS 0"));
            if screen.silent {
                self.put(format_args!("MENU HIDDEN"));
            }
        } else {
            self.put(format_args!("SAY {}", shown(&screen.title)));
            for entry in screen.all_lines() {
                if !self.can_show(entry) {
                    continue;
                }
                self.put(format_args!("SAY   {:<16} {}", entry.key, shown(&entry.title)));
            }
            self.put(format_args!("PROMPT 1"));
            self.put(format_args!("NOESCAPE 1"));
            self.put(format_args!("ALLOWOPTIONS 0"));
        }
        if let Some(default) = screen.default_line() {
            self.put(format_args!("DEFAULT {}", default.key));
            if screen.timeout.is_some() {
                self.put(format_args!("ONTIMEOUT {}", default.key));
            }
        }
        // In tenths of a second; 0 waits for ever.
        self.put(format_args!("TIMEOUT {}", screen.timeout.map_or(0, |timeout| timeout.as_secs() * 10)));
        match screen.after {
            After::Menu => {}
            After::LocalDisk | After::Restart | After::PowerOff => self.put(format_args!("ONERROR _after")),
        }
        for entry in &screen.lines {
            self.entry(entry);
        }
        let after = match screen.after {
            After::Menu => return,
            After::LocalDisk => LineAction::LocalDisk,
            After::Restart => LineAction::Restart,
            After::PowerOff => LineAction::PowerOff,
        };
        self.put(format_args!("LABEL _after"));
        if self.reader.boxed {
            self.put(format_args!("  MENU HIDE"));
        }
        self.action("", &after);
    }

    /// A prompt cannot ask for a phrase: without the menu module a guarded entry is not there.
    fn can_show(&self, entry: &Line) -> bool {
        !matches!(entry.action, LineAction::Lines(_)) && (self.reader.boxed || entry.guard.is_none())
    }

    fn entry(&mut self, entry: &Line) {
        if let LineAction::Lines(inner) = &entry.action {
            if self.reader.boxed {
                self.put(format_args!("MENU BEGIN {}", entry.key));
                self.put(format_args!("  MENU TITLE {}", shown(&entry.title)));
                self.guard(entry);
                inner.iter().for_each(|inner| self.entry(inner));
                self.put(format_args!("LABEL {}._back", entry.key));
                self.put(format_args!("  MENU LABEL Back"));
                self.put(format_args!("  MENU EXIT"));
                self.put(format_args!("MENU END"));
            } else {
                inner.iter().for_each(|inner| self.entry(inner));
            }
            return;
        }
        if !self.can_show(entry) {
            return;
        }
        self.put(format_args!("LABEL {}", entry.key));
        if self.reader.boxed {
            self.put(format_args!("  MENU LABEL {}", shown(&entry.title)));
            if self.screen.is_some_and(|screen| screen.default == entry.key) {
                self.put(format_args!("  MENU DEFAULT"));
            }
            self.guard(entry);
        }
        self.action(&entry.path, &entry.action);
    }

    fn guard(&mut self, entry: &Line) {
        if let Some(guard) = &entry.guard {
            self.put(format_args!("  MENU PASSWD {}", guard.crypt()));
        }
    }

    /// A path as PXELINUX asks for it: by HTTP where it can, else from the TFTP server's root (`::`).
    fn path(&self, path: &str) -> String {
        let path = url_path(path);
        match self.reader.http {
            HttpReach::AnyPort => format!("{}/{path}", self.service.http_base()),
            HttpReach::Port80 if self.service.http_port == 80 => {
                format!("{}/{path}", self.service.http_base())
            }
            _ => format!("::{path}"),
        }
    }

    fn action(&mut self, path: &str, action: &LineAction) {
        match action {
            LineAction::Kernel(boot) => self.kernel(boot),
            LineAction::Pick => {
                let path = self.path(&format!("{path}.pxelinux"));
                self.put(format_args!("  CONFIG {path}"));
            }
            // The menu itself, which has another first line when there is nothing more to wait for.
            LineAction::Again(mac) => {
                let path = self.path(&format!("pxelinux.cfg/01-{}", mac.dashed()));
                self.put(format_args!("  CONFIG {path}"));
            }
            LineAction::LocalDisk => self.put(format_args!("  LOCALBOOT 0")),
            LineAction::Restart => self.put(format_args!("  COM32 reboot.c32")),
            LineAction::PowerOff => self.put(format_args!("  COM32 poweroff.c32")),
            LineAction::FirmwareSetup => {
                self.message("This firmware opens its set-up by a key at power-on only.");
            }
            LineAction::Program(_) => self.message("A UEFI application does not start on BIOS."),
            LineAction::NetworkDisk(_) => {
                self.message("PXELINUX cannot start from a network disk: give this machine another loader.");
            }
            LineAction::Message(text) => self.message(text),
            LineAction::Lines(_) => {}
        }
    }

    fn kernel(&mut self, boot: &KernelBoot) {
        let kernel = self.path(&boot.kernel);
        // LINUX, not KERNEL: the file's name does not say what it is.
        self.put(format_args!("  LINUX {kernel}"));
        if !boot.initrds.is_empty() {
            let initrds: Vec<String> = boot.initrds.iter().map(|path| self.path(path)).collect();
            self.put(format_args!("  INITRD {}", initrds.join(",")));
        }
        let words: Vec<String> = boot.words().map(one_line).collect();
        let mut append = words.join(" ");
        let mut end = append.len().min(MOST_APPEND);
        while !append.is_char_boundary(end) {
            end -= 1;
        }
        append.truncate(end);
        // A hyphen alone would mean "nothing".
        if !append.is_empty() && append.trim() != "-" {
            self.put(format_args!("  APPEND {append}"));
        }
    }

    /// An entry that cannot be chosen, with why.
    fn message(&mut self, text: &str) {
        if self.reader.boxed {
            self.put(format_args!("  MENU DISABLE"));
            self.put(format_args!("  TEXT HELP"));
            // Behind a blank, no line of it can be the end of the text.
            self.put(format_args!("  . {}", ascii(text)));
            self.put(format_args!("  ENDTEXT"));
        }
        self.put(format_args!("  LOCALBOOT 0"));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        decide::boot::language::tests::{hostile, sample, service},
        model::loader::Language,
    };

    fn reader(boxed: bool, http: HttpReach) -> Reader {
        Reader { language: Language::Pxelinux, http, boxed }
    }

    #[test]
    fn a_menu_reads_as_a_person_would_write_it() {
        let text = render(&sample(), service(80), reader(true, HttpReach::None));
        let expected = "\
# install 41 of tidewrack-12 r1 is armed
UI menu.c32
MENU TITLE Last Mile
NOESCAPE 1
ALLOWOPTIONS 0
DEFAULT install
ONTIMEOUT install
TIMEOUT 50
LABEL install
  MENU LABEL Install Tidewrack 12
  MENU DEFAULT
  LINUX ::boot/02-00-5e-00-53-01/tidewrack-12/r1/linux
  INITRD ::boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz
  APPEND auto=true quiet
LABEL local-disk
  MENU LABEL Start from the local disk
  LOCALBOOT 0
";
        assert_eq!(text, expected);
        let by_http = render(&sample(), service(8080), reader(true, HttpReach::AnyPort));
        assert!(by_http.contains("LINUX http://192.0.2.2:8080/boot/"), "{by_http}");
        let prompt = render(&sample(), service(80), reader(false, HttpReach::None));
        assert!(
            prompt.contains("SAY   install          Install Tidewrack 12\n") && !prompt.contains("MENU"),
            "{prompt}"
        );
    }

    #[test]
    fn no_text_becomes_a_directive() {
        for boxed in [true, false] {
            let text = render(&hostile(), service(80), reader(boxed, HttpReach::None));
            let known = [
                "#",
                "UI",
                "MENU",
                "NOESCAPE",
                "ALLOWOPTIONS",
                "DEFAULT",
                "ONTIMEOUT",
                "ONERROR",
                "TIMEOUT",
                "LABEL",
                "LINUX",
                "INITRD",
                "APPEND",
                "LOCALBOOT",
                "CONFIG",
                "SAY",
                "PROMPT",
                "COM32",
                "TEXT",
                "ENDTEXT",
                ".",
            ];
            for line in text.lines() {
                let first = line.split_whitespace().next().unwrap();
                assert!(known.contains(&first), "{line}");
            }
            assert!(
                !text.contains("\n reboot")
                    && !text.lines().skip(1).any(|line| line.contains('^') && !line.contains("APPEND")),
                "{text}"
            );
        }
    }
}
