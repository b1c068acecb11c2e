//! Any bytes for what a management controller answers while one logs in to it, and after.
#![no_main]

use lastmile_bmc::{
    Account,
    ipmi::{
        Suite,
        packet::{Answer, Packet, kind, outside},
        session::{LogIn, Step},
    },
};
use lastmile_formats::ipmi::BootFlags;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let _ = (Answer::parse(bytes), BootFlags::read(bytes));
    let account = Account { user: "purser".into(), password: "terns".to_owned().into() };
    let (mut log_in, _) =
        LogIn::begin(Suite::Seventeen, account, 7, [1; 16]).expect("name and password are short");
    let mut told = |datagram: &[u8]| {
        let packet = Packet::parse(datagram).ok()?;
        log_in.handle(&packet).ok()
    };
    let _ = told(bytes);
    // The next step is heard only once a session is granted.
    let granted = [&[0, 0, 4, 0][..], &[7, 0, 0, 0], &[1, 2, 3, 4]].concat();
    let _ = told(&outside(kind::OPENED, &granted));
    let _ = told(bytes);
    // Nobody gets in who does not know the password.
    assert!(!matches!(told(&outside(kind::LOG_IN_2, bytes)), Some(Step::In(_))));
});
