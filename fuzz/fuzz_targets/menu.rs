//! Any names, parameters and reasons in a menu: what is rendered in GRUB's language is a menu of that many entries,
//! and none of them breaks out of its quotes; in the other languages, none begins a line of its own. Any text to the
//! interpreter that the simulated loader has.
#![no_main]

use std::net::Ipv4Addr;

use lastmile_core::{
    decide::boot::{KernelBoot, Line, LineAction, Screen, render},
    model::{
        loader::{HttpReach, Language, Reader},
        menu::After,
        parameter::{Origin, Parameter},
        service::Service,
    },
};
use lastmile_sim::grub::Script;
use libfuzzer_sys::fuzz_target;

fn line(key: &str, title: String, action: LineAction) -> Line {
    Line { key: key.into(), title, path: format!("boot/x/pick/{key}"), action, guard: None }
}

fn screen(parts: &[&str]) -> Screen {
    let part = |index: usize| parts.get(index).copied().unwrap_or_default().to_owned();
    let parameter = |word| Parameter { word, origin: Origin::Entry, replaces: vec![] };
    let kernel = KernelBoot {
        kernel: "boot/x/linux".into(),
        initrds: vec![],
        parameters: vec![parameter(part(1)), parameter(part(2))],
    };
    Screen {
        why: part(3),
        title: part(4),
        lines: vec![
            line("kernel", part(0), LineAction::Kernel(kernel)),
            line("message", part(5), LineAction::Message(part(6))),
            line("restart", "Restart".into(), LineAction::Restart),
        ],
        default: "kernel".into(),
        timeout: None,
        silent: false,
        after: After::Menu,
        left_out: vec![],
        architecture: None,
    }
}

fuzz_target!(|text: &str| {
    let _ = Script::parse(text);
    let parts: Vec<&str> = text.splitn(7, '\u{1}').collect();
    let service = Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None };
    let tame: Vec<String> = parts.iter().map(|part| part.chars().map(tame).collect()).collect();
    let tame: Vec<&str> = tame.iter().map(String::as_str).collect();
    let (hostile, plain) = (screen(&parts), screen(&tame));
    for language in [Language::Grub, Language::Pxelinux, Language::Script] {
        let reader = Reader { language, http: HttpReach::Port80, boxed: false };
        let rendered = render(&hostile, service, reader);
        // Fewer may come of a word that a language has no way to say alone.
        assert!(lines(&rendered) <= lines(&render(&plain, service, reader)), "{language:?}: {rendered}");
        if language == Language::Grub {
            Script::parse(&rendered).expect("what is rendered can be read");
        }
    }
});

/// A character without a meaning in the place of one.
fn tame(character: char) -> char {
    if character.is_whitespace() || character.is_control() { ' ' } else { 'x' }
}

fn lines(text: &str) -> usize {
    text.lines().count()
}
