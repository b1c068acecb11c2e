use super::*;
use crate::model::answers::{KEY_BYTES, Keeping, NONCE_BYTES, Password, SALT_BYTES, SealKey};

pub(crate) fn draft() -> Settings<PasswordInput> {
    Settings {
        locale: Some("en_GB.UTF-8".into()),
        keyboard: Some("gb".into()),
        time_zone: Some("Europe/London".into()),
        ntp: Some(vec!["time.gannet.example".into()]),
        root: Some(Root { password: Some(PasswordInput::Plain("holm quay at dawn".into())), ssh_keys: None }),
        users: [(
            "purser".into(),
            User {
                full_name: Some("Ship's Purser".into()),
                password: Some(PasswordInput::Plain("tern bay at dusk".into())),
                sudo: Some(Sudo::Password),
                ..User::default()
            },
        )]
        .into(),
        storage: Some(Storage { logical_volumes: Some(true), ..Storage::default() }),
        software: Some(Software {
            packages: Some(vec!["openssh-server".into(), "chrony".into()]),
            ..Software::default()
        }),
        ..Settings::default()
    }
}

/// The key that tests seal with.
pub(crate) fn key() -> SealKey {
    SealKey::new([5; KEY_BYTES])
}

pub(crate) fn finished(draft: &Settings<PasswordInput>) -> Result<Settings<Password>, Vec<Fault>> {
    draft.finish(|place, input| {
        let key = key();
        let keeping = Keeping { key: &key, salt: [7; SALT_BYTES], nonce: [1; NONCE_BYTES] };
        let kept = if place == "storage.encrypt" {
            input.keep_passphrase(&keeping, None)
        } else {
            input.keep(&keeping, None)
        };
        kept.map_err(|error| Fault { place: place.into(), what: error.to_string(), fix: String::new() })
    })
}

#[test]
fn all_that_is_wrong_is_said_at_once() {
    let mut bad = draft();
    bad.locale = Some("english".into());
    bad.keyboard = Some("GB!".into());
    bad.time_zone = Some("europe/london".into());
    bad.root =
        Some(Root { password: Some(PasswordInput::Plain("x".into())), ssh_keys: Some(vec!["key".into()]) });
    bad.users.insert("Purser".into(), User { full_name: Some("a\nb".into()), ..User::default() });
    bad.software.as_mut().unwrap().packages.as_mut().unwrap().push("Big; rm".into());
    bad.host_name = Some("{{ nmae }}".into());
    bad.without = vec!["usres.purser".into()];
    let storage = bad.storage.as_mut().unwrap();
    storage.disks.insert("system".into(), DiskMatch { device: Some("sda".into()), ..DiskMatch::default() });
    storage.never = Some(vec![DiskMatch::default()]);
    storage.volumes =
        Some(vec![Volume { mount: "srv".into(), size: "20".into(), file_system: None, disk: None }]);
    let nic = Interface { mac: Some("02:00".into()), vlan: Some("5000".into()), ..Interface::default() };
    bad.network = Some(Network { dns: None, interfaces: [("lan".into(), nic)].into() });
    let question = Question { text: String::new(), kind: AnswerKind::Number, default: Some("many".into()) };
    bad.questions.insert("berth".into(), question);
    let faults = finished(&bad).unwrap_err();
    let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
    assert_eq!(
        places,
        [
            "locale",
            "keyboard",
            "time_zone",
            "host_name",
            "network.interfaces.lan.mac",
            "network.interfaces.lan.vlan",
            "network.interfaces.lan",
            "root.ssh_keys[0]",
            "users.Purser",
            "users.Purser.full_name",
            "storage.disks.system.device",
            "storage.never[0]",
            "storage.volumes[0].mount",
            "storage.volumes[0].size",
            "software.packages[2]",
            "questions.berth.text",
            "questions.berth.default",
            "without[0]",
            "root.password",
        ]
    );
    assert_eq!(faults[2].fix, "Write Europe/London.");
}

#[test]
fn what_is_shown_holds_no_hash_and_can_be_saved_again() {
    let settings = finished(&draft()).unwrap();
    let shown = serde_json::to_string(&settings.shown()).unwrap();
    assert!(shown.contains(r#""password":"set""#) && !shown.contains("$6$"), "{shown}");
    let again: Settings<PasswordInput> = serde_json::from_str(&shown).unwrap();
    let kept = again.finish(|place, input| {
        assert_eq!(*input, PasswordInput::Set);
        settings.password_at(place).ok_or_else(|| unreachable!("{place}"))
    });
    assert_eq!(kept.unwrap(), settings);
    let kept = serde_json::to_string(&settings).unwrap();
    assert_eq!(serde_json::from_str::<Settings<Password>>(&kept).unwrap(), settings);
}

#[test]
fn answers_to_questions_are_held_against_their_kind() {
    let ask = |kind| Question { text: "Which berth?".into(), kind, default: None };
    assert_eq!(ask(AnswerKind::Number).take(" 07 ").unwrap(), "7");
    assert!(ask(AnswerKind::Number).take("seven").is_err() && ask(AnswerKind::Text).take(" ").is_err());
    assert_eq!(ask(AnswerKind::YesNo).take("Y").unwrap(), "yes");
    let berths = ask(AnswerKind::Choice(vec!["North".into(), "South".into()]));
    assert_eq!(berths.take("north").unwrap(), "North");
    assert_eq!(berths.take("east").unwrap_err().fix, "Choose North, South.");
}

#[test]
fn sizes_are_read_and_written() {
    for (text, size) in [("512M", Size::Mib(512)), ("2T", Size::Mib(2 << 20)), ("rest", Size::Rest)] {
        assert_eq!(Size::parse(text), Some(size), "{text}");
    }
    for bad in ["", "20", "0G", "G", "1.5G", "20GB", "99999999999999999T", "é"] {
        assert_eq!(Size::parse(bad), None, "{bad}");
    }
    assert_eq!(Size::Mib(2048).to_string(), "2G");
}
