//! Any names, parameters and reasons in a menu: what is rendered in GRUB's language is a menu of that many entries,
//! and none of them breaks out of its quotes. Any text to the interpreter that the simulated loader has.
#![no_main]

use std::net::Ipv4Addr;

use lastmile_core::boot::{Entry, EntryAction, HttpReach, KernelBoot, Menu, Service, grub};
use lastmile_sim::grub::Script;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = Script::parse(text);
    let parts: Vec<&str> = text.splitn(4, '\u{1}').collect();
    let part = |index: usize| parts.get(index).copied().unwrap_or_default().to_owned();
    let kernel = KernelBoot { kernel: "boot/x/linux".into(), initrds: vec![], parameters: vec![part(1), part(2)] };
    let menu = Menu {
        why: part(3),
        entries: vec![
            Entry { title: part(0), action: EntryAction::Kernel(kernel) },
            Entry { title: "Restart".into(), action: EntryAction::Restart },
        ],
        timeout: None,
    };
    let service = Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None };
    let rendered = grub::render(&menu, service, HttpReach::Port80);
    Script::parse(&rendered).expect("what is rendered can be read");
});
