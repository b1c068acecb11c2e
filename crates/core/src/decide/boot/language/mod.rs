//! Screens in each loader's language.
//!
//! Whatever stands in a title, a parameter or a path, it cannot break out of its place: each language has one function
//! that makes a text safe, and everything that comes from outside goes through it.

use std::fmt::Write;

use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};

use crate::{
    decide::boot::{LineAction, Screen},
    model::{
        loader::{Language, Reader},
        menu::After,
        service::Service,
    },
};

mod grub;
mod pxelinux;
mod script;

/// Writes a screen for a loader.
#[must_use]
pub fn render(screen: &Screen, service: Service, reader: Reader) -> String {
    match reader.language {
        Language::Grub => grub::render(screen, service, reader.http),
        Language::Pxelinux => pxelinux::render(screen, service, reader),
        Language::Script => script::render(screen, service),
    }
}

/// Writes what is started after a line was picked, without a menu.
#[must_use]
pub fn render_picked(action: &LineAction, after: After, service: Service, reader: Reader) -> String {
    match reader.language {
        Language::Grub => grub::picked(action, after),
        Language::Pxelinux => pxelinux::picked(action, service, reader),
        Language::Script => script::picked(action, service),
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

/// What a loader's screen can show: other characters come out as a question mark.
fn ascii(text: &str) -> String {
    let shown = |c: char| match c {
        ' '..='~' => c,
        'ä' | 'à' | 'á' | 'â' | 'å' => 'a',
        'ö' | 'ò' | 'ó' | 'ô' | 'ø' => 'o',
        'ü' | 'ù' | 'ú' | 'û' => 'u',
        'é' | 'è' | 'ê' | 'ë' => 'e',
        'í' | 'ì' | 'î' | 'ï' => 'i',
        'ñ' => 'n',
        'ç' => 'c',
        '–' | '—' => '-',
        '’' | '‘' => '\'',
        c if c.is_control() || c.is_whitespace() => ' ',
        _ => '?',
    };
    text.chars().map(shown).collect()
}

/// A path as URLs and words of any loader's language take it (RFC 3986, section 3.3).
fn url_path(path: &str) -> String {
    const UNSAFE: &AsciiSet = &CONTROLS
        .add(b' ')
        .add(b'"')
        .add(b'#')
        .add(b'<')
        .add(b'>')
        .add(b'?')
        .add(b'`')
        .add(b'{')
        .add(b'}')
        .add(b'%')
        .add(b'\'')
        .add(b'\\')
        .add(b'^')
        .add(b'|')
        .add(b'$')
        .add(b'&')
        .add(b';')
        .add(b'[')
        .add(b']')
        .add(b'*')
        .add(b'(')
        .add(b')')
        .add(b'!')
        .add(b',');
    utf8_percent_encode(path, UNSAFE).to_string()
}

#[cfg(test)]
pub(crate) mod tests {
    use std::{net::Ipv4Addr, time::Duration};

    use super::*;
    use crate::{
        decide::boot::{KernelBoot, Line},
        model::parameter::{Origin, Parameter},
    };

    pub(crate) fn service(http_port: u16) -> Service {
        Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port, https_port: None }
    }

    fn kernel(words: &[&str]) -> LineAction {
        let word = |word: &&str| Parameter { word: (*word).into(), origin: Origin::Image, replaces: vec![] };
        LineAction::Kernel(KernelBoot {
            kernel: "boot/02-00-5e-00-53-01/tidewrack-12/r1/linux".into(),
            initrds: vec!["boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz".into()],
            parameters: words.iter().map(word).collect(),
        })
    }

    fn entry(key: &str, title: &str, action: LineAction) -> Line {
        Line {
            key: key.into(),
            title: title.into(),
            path: format!("pick/02-00-5e-00-53-01/{key}"),
            action,
            guard: None,
        }
    }

    /// An install and the disk.
    pub(crate) fn sample() -> Screen {
        Screen {
            why: "install 41 of tidewrack-12 r1 is armed".into(),
            title: String::new(),
            lines: vec![
                entry("install", "Install Tidewrack 12", kernel(&["auto=true", "quiet"])),
                entry("local-disk", "Start from the local disk", LineAction::LocalDisk),
            ],
            default: "install".into(),
            timeout: Some(Duration::from_secs(5)),
            silent: false,
            after: After::Menu,
            left_out: vec![],
            architecture: None,
        }
    }

    /// Texts that would do harm if any of them got out of its place.
    pub(crate) fn hostile() -> Screen {
        let text = "it's $root; `halt` \"x\" } \\ # \n reboot";
        let more = "${net0/mac} || reboot ; && #x ^y \r\nLABEL evil\nENDTEXT";
        let path = LineAction::Program("boot/02-00-5e-00-53-01/x/r1/a 'b' $c;d\n".into());
        let inner = vec![entry("inner", more, kernel(&[more, "-", text])), entry("app", text, path)];
        Screen {
            why: more.into(),
            title: format!("{text}{more}"),
            lines: vec![
                entry("one", text, kernel(&[text, more])),
                entry("two", more, LineAction::Message(text.into())),
                entry("three", text, LineAction::Lines(inner)),
                entry("four", more, LineAction::NetworkDisk(more.into())),
            ],
            ..sample()
        }
    }
}
