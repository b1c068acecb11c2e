//! Menus in the script language of the network boot firmware that names itself in the user class.
//!
//! The language has no quotes. What has a meaning in it: the end of a line, `${` anywhere, and the words `||`, `&&`, `;`
//! and those that begin with `#`. What is put in is split into words and none of them is left to be any of these.

use super::{ascii, line, one_line, url_path};
use crate::{
    decide::boot::{KernelBoot, Line, LineAction, Screen, script_path},
    model::{menu::After, service::Service},
};

/// Writes `screen`. Labels of our own begin with `_`, which no entry's key holds.
pub(super) fn render(screen: &Screen, service: Service) -> String {
    let mut out = String::from("#!ipxe\n");
    line(&mut out, format_args!("# {}", one_line(&screen.why)));
    if let (true, Some(timeout), Some(default)) = (screen.silent, screen.timeout, screen.default_line()) {
        let ms = timeout.as_millis();
        line(&mut out, format_args!("prompt --timeout {ms} Press any key for the menu. && goto _menu ||"));
        line(&mut out, format_args!("goto {}", default.key));
    }
    write_menu(&mut out, "_menu", None, screen, &screen.lines);
    for entry in screen.all_lines() {
        if let LineAction::Lines(inner) = &entry.action {
            write_menu(&mut out, &entry.key, Some(entry), screen, inner);
        } else {
            line(&mut out, format_args!(":{}", entry.key));
            write_line(&mut out, entry, service);
            line(&mut out, format_args!("goto _after"));
        }
    }
    line(&mut out, format_args!(":_after"));
    match screen.after {
        After::Menu => {
            line(&mut out, format_args!("prompt --timeout 8000 That did not start. ||"));
            line(&mut out, format_args!("goto _menu"));
        }
        After::LocalDisk => write_local_disk(&mut out),
        After::Restart => line(&mut out, format_args!("reboot")),
        After::PowerOff => line(&mut out, format_args!("poweroff")),
    }
    out
}

/// What is started after a line was picked.
pub(super) fn picked(action: &LineAction, service: Service) -> String {
    let mut out = String::from("#!ipxe\n");
    write_action(&mut out, "", action, service);
    out
}

fn write_menu(out: &mut String, label: &str, of: Option<&Line>, screen: &Screen, lines: &[Line]) {
    line(out, format_args!(":{label}"));
    let title = of.map_or(screen.title.as_str(), |entry| entry.title.as_str());
    line(out, format_args!("menu {}", first_words(if title.is_empty() { "Last Mile" } else { title })));
    for entry in lines {
        line(out, format_args!("item {} {}", entry.key, words(&entry.title)));
    }
    if of.is_some() {
        line(out, format_args!("item {label}._back Back"));
    }
    let default = screen.default_line().filter(|_| of.is_none());
    let timeout = screen
        .timeout
        .filter(|_| of.is_none())
        .map_or(String::new(), |t| format!("--timeout {} ", t.as_millis()));
    let default = default.map_or(String::new(), |entry| format!("--default {} ", entry.key));
    line(out, format_args!("choose {timeout}{default}line && goto ${{line}} || goto _menu"));
    if of.is_some() {
        line(out, format_args!(":{label}._back"));
        line(out, format_args!("goto _menu"));
    }
}

fn write_line(out: &mut String, entry: &Line, service: Service) {
    match (&entry.guard, &entry.action) {
        // The service compares the phrase, as this language has no hash: what is typed goes there.
        (Some(_), _) => {
            line(out, format_args!("echo This asks for a phrase."));
            line(out, format_args!("set phrase:string"));
            line(out, format_args!("echo -n Phrase: && read phrase ||"));
            let url = format!("{}/{}.script", service.http_base(), url_path(&entry.path));
            line(out, format_args!("chain {url}?phrase=${{phrase:uristring}} ||"));
        }
        (None, action) => write_action(out, &entry.path, action, service),
    }
}

fn write_action(out: &mut String, path: &str, action: &LineAction, service: Service) {
    let url = |path: &str| format!("{}/{}", service.http_base(), url_path(path));
    match action {
        LineAction::Kernel(boot) => write_kernel(out, boot, service),
        LineAction::Program(program) => line(out, format_args!("chain {} ||", url(program))),
        LineAction::Pick => line(out, format_args!("chain {} ||", url(&format!("{path}.script")))),
        LineAction::NetworkDisk(root) => line(out, format_args!("sanboot {} ||", first_words(root))),
        LineAction::LocalDisk => write_local_disk(out),
        LineAction::FirmwareSetup => {
            write_message(out, "This loader cannot open the set-up: press the firmware's key at power-on.");
        }
        LineAction::Restart => line(out, format_args!("reboot")),
        LineAction::PowerOff => line(out, format_args!("poweroff")),
        LineAction::Message(text) => write_message(out, text),
        LineAction::Again(mac) => {
            line(out, format_args!("chain --replace --autofree {} ||", url(&script_path(*mac))));
        }
        LineAction::Lines(_) => {}
    }
}

fn write_kernel(out: &mut String, boot: &KernelBoot, service: Service) {
    let url = |path: &str| format!("{}/{}", service.http_base(), url_path(path));
    let mut parameters: Vec<String> = Vec::new();
    // Under UEFI the kernel finds its initrds by these names; under BIOS it passes them over.
    parameters.extend((0..boot.initrds.len()).map(|index| format!("initrd=initrd{index}")));
    parameters.extend(boot.words().map(words).filter(|word| !word.is_empty()));
    line(out, format_args!("imgfree"));
    line(out, format_args!("kernel {} {} || goto _after", url(&boot.kernel), parameters.join(" ")));
    for (index, initrd) in boot.initrds.iter().enumerate() {
        line(out, format_args!("initrd --name initrd{index} {} || goto _after", url(initrd)));
    }
    line(out, format_args!("boot ||"));
}

/// UEFI goes on with its next boot option, as it does after a program that failed and not after one that ended well
/// (UEFI 2.10, section 3.1.1); BIOS starts the first disk.
fn write_local_disk(out: &mut String) {
    line(out, format_args!("iseq ${{platform}} efi && exit 1 ||"));
    line(out, format_args!("sanboot --no-describe --drive 0x80 ||"));
    line(out, format_args!("exit"));
}

fn write_message(out: &mut String, text: &str) {
    line(out, format_args!("echo {}", first_words(text)));
    line(out, format_args!("sleep 5"));
}

/// The same where nothing of the command stands before it: the command would take what begins with a hyphen for an option of its
/// own. Behind its first other word no command looks for options.
fn first_words(text: &str) -> String {
    let words = words(text);
    if words.starts_with('-') { format!("'{words}") } else { words }
}

/// A text as words without a meaning.
fn words(text: &str) -> String {
    let harmless = |word: &str| {
        let word = word.replace("${", "$ {");
        match word.as_str() {
            "||" => "|".into(),
            "&&" => "&".into(),
            ";" => ",".into(),
            word if word.starts_with('#') => format!("'{word}"),
            word => word.to_owned(),
        }
    };
    // Putting one word apart may make another of these.
    let once = |text: &str| text.split_whitespace().map(harmless).collect::<Vec<_>>().join(" ");
    once(&once(&ascii(text)))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::decide::boot::language::tests::{hostile, sample, service};

    #[test]
    fn a_menu_reads_as_a_person_would_write_it() {
        let text = render(&sample(), service(8080));
        let expected = "\
#!ipxe
# install 41 of tidewrack-12 r1 is armed
:_menu
menu Last Mile
item install Install Tidewrack 12
item local-disk Start from the local disk
choose --timeout 5000 --default install line && goto ${line} || goto _menu
:install
imgfree
kernel http://192.0.2.2:8080/boot/02-00-5e-00-53-01/tidewrack-12/r1/linux initrd=initrd0 auto=true quiet || goto _after
initrd --name initrd0 http://192.0.2.2:8080/boot/02-00-5e-00-53-01/tidewrack-12/r1/initrd.gz || goto _after
boot ||
goto _after
:local-disk
iseq ${platform} efi && exit 1 ||
sanboot --no-describe --drive 0x80 ||
exit
goto _after
:_after
prompt --timeout 8000 That did not start. ||
goto _menu
";
        assert_eq!(text, expected);
    }

    #[test]
    fn hyphens_are_kept_where_no_option_can_be() {
        assert_eq!(words("quiet -- console=ttyS0 --- vga=788"), "quiet -- console=ttyS0 --- vga=788");
        assert_eq!(first_words("--timeout 1"), "'--timeout 1");
        assert_eq!(first_words("Quay -- berth 3"), "Quay -- berth 3");
    }

    #[test]
    fn hostile_texts_stay_texts() {
        let text = render(&hostile(), service(80));
        assert!(!text.lines().any(|line| line.trim() == "reboot"), "{text}");
    }

    proptest! {
        #[test]
        fn no_word_keeps_a_meaning(text in "[\\PC\n\r\t ${}|&;#a-]{0,60}") {
            let safe = words(&text);
            prop_assert!(!safe.contains("${") && !safe.chars().any(char::is_control), "{}", safe);
            for word in safe.split(' ') {
                prop_assert!(!matches!(word, "||" | "&&" | ";") && !word.starts_with('#'), "{}", safe);
            }
        }
    }
}
