//! Any text where a person or a database gives a name, an address, a range, a client or an option.
#![no_main]

use lastmile_core::{
    base::{name, range::AddressRange},
    decide::boot::Request,
    model::{image::Sha256, lease::ClientKey, option::FurtherOption, reservation::ReservedFor},
};
use lastmile_formats::{architecture::Architecture, mac::Mac, tftp::ServedPath};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(mac) = text.parse::<Mac>() {
        assert_eq!(mac.to_string().parse(), Ok(mac));
    }
    if let Ok(range) = text.parse::<AddressRange>() {
        assert_eq!(range.to_string().parse(), Ok(range));
    }
    if let Ok(client) = text.parse::<ReservedFor>() {
        assert_eq!(client.to_string().parse(), Ok(client));
    }
    if let Ok(architecture) = text.parse::<Architecture>() {
        assert_eq!(architecture.to_string().parse(), Ok(architecture));
    }
    if let Ok(path) = ServedPath::parse(text) {
        let _ = Request::recognise(&path);
    }
    let (name, value) = text.split_once('=').unwrap_or((text, ""));
    if let Err(error) = FurtherOption::read(name, value) {
        assert!(!error.fix().is_empty());
    }
    let _ = (text.parse::<ClientKey>(), text.parse::<Sha256>());
    let _ = (name::check_host_name(text), name::check_domain(text), name::check_thing_name(text));
});
