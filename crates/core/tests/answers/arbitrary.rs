//! Any settings at all: what is written can be read again, and says what was meant; what cannot be written is refused.

use proptest::prelude::*;
use serde_json::Value;

use super::*;
use crate::{kickstart::sections, preseed::preseeded};

/// What a name or a script may hold: everything a keyboard has, and what means something to one reader or another.
fn text() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        "[ -~]{0,12}",
        Just("'".to_owned()),
        Just("\\".to_owned()),
        Just("%end".to_owned()),
        Just("$(id)`id`".to_owned()),
        Just("]]>&lt;".to_owned()),
        Just("<<END".to_owned()),
        Just("č ☕ Ö".to_owned()),
        Just("#-:| ".to_owned()),
        Just("yes".to_owned()),
        Just("0x1f".to_owned()),
    ];
    prop::collection::vec(piece, 0..4).prop_map(|pieces| pieces.concat())
}

/// A script of several lines, some of which look like the end of what is around them.
fn script() -> impl Strategy<Value = String> {
    let line = prop_oneof![
        text(),
        Just("END".into()),
        Just("|END".into()),
        Just("\tindented".into()),
        Just("%end".into())
    ];
    prop::collection::vec(line, 1..6).prop_map(|lines| lines.join("\n") + "\n")
}

fn disks() -> impl Strategy<Value = String> {
    let one = prop_oneof![
        Just("device = '/dev/sda'".to_owned()),
        Just("device = '0'".to_owned()),
        Just("model = 'Puffin*', prefer = 'large'".to_owned()),
        Just("serial = 'P 1*', at_least = '200G'".to_owned()),
        Just(String::new()),
    ];
    let volume = prop_oneof![
        Just("{ mount = '/srv', size = '8G', file_system = 'xfs' }"),
        Just("{ mount = '/var/log', size = '1T' }"),
        Just("{ mount = 'swap', size = '512M' }"),
        Just("{ mount = 'D:', size = '20G' }"),
    ];
    let flags = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>());
    (one, prop::collection::vec(volume, 0..3), flags).prop_map(
        |(disk, volumes, (lvm, encrypt, bios, whole))| {
            let mut toml = format!(
                "storage.logical_volumes = {}\nstorage.boot_mode = '{}'\n",
                lvm,
                if bios { "bios" } else { "uefi" }
            );
            if encrypt {
                toml.push_str("storage.encrypt = { plain = 'petrel & guillemot' }\n");
            }
            if !disk.is_empty() {
                toml.push_str(&format!("storage.disks.system = {{ {disk} }}\n"));
            }
            if !whole {
                let all: Vec<&str> = ["{ mount = '/', size = 'rest' }"].into_iter().chain(volumes).collect();
                toml.push_str(&format!("storage.volumes = [{}]\n", all.join(", ")));
            }
            toml
        },
    )
}

/// A value in TOML that is this text.
fn quoted(text: &str) -> String {
    // JSON's strings are TOML's, but for DEL.
    Value::from(text).to_string().replace('\u{7f}', "\\u007f")
}

/// Settings as they are entered; `None` if they are refused at once.
fn entered(toml: &str) -> Option<Settings<Password>> {
    let draft: Settings<PasswordInput> =
        toml::from_str(toml).unwrap_or_else(|error| panic!("{toml}: {error}"));
    draft.finish(kept).ok()
}

fn files(settings: &Settings<Password>, family: Family) -> Option<Vec<AnswerFile>> {
    let (subject, key) = (subject(), key());
    let resolution = resolve([(Layer::Site, settings)], &subject, &BTreeMap::new()).ok()?;
    match write(family, &resolution, &target(&subject, Some(&key), "any")) {
        Ok(files) => Some(files),
        Err(faults) => {
            // Whoever is refused is told where, what, and what to do.
            for fault in &faults {
                assert!(
                    !fault.place.is_empty() && !fault.what.is_empty() && !fault.fix.is_empty(),
                    "{fault:?}"
                );
            }
            None
        }
    }
}

/// The last step `odd` as it stands in a script, taken out of the here-document around it.
fn step_in(script: &str) -> String {
    let begin = "sed 's/^|//' >/root/lastmile-odd <<'END'\n";
    let from = script.find(begin).unwrap() + begin.len();
    let lines = script[from..].lines().take_while(|line| *line != "END");
    lines.map(|line| line.strip_prefix('|').unwrap().to_owned() + "\n").collect()
}

/// `printf '%b'` and the shell's single quotes undone (POSIX.1-2024), of a preseed command.
fn unpacked(command: &str) -> String {
    let inner = command.strip_prefix("printf '%b' '").unwrap();
    let inner = inner.split('\'').next().unwrap();
    let mut text = String::new();
    let mut rest = inner.chars();
    while let Some(c) = rest.next() {
        match (c, c == '\\') {
            (_, true) => match rest.next() {
                Some('n') => text.push('\n'),
                Some('t') => text.push('\t'),
                Some('\\') => text.push('\\'),
                Some('0') => {
                    let digits: String = rest.by_ref().take(3).collect();
                    text.push(char::from(u8::from_str_radix(&digits, 8).unwrap()));
                }
                other => panic!("printf has no \\{other:?}"),
            },
            (c, false) => text.push(c),
        }
    }
    text
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn names_and_scripts_come_back_as_they_were_given(name in text(), step in script()) {
        // Debian's installer wants a name, and gives none its log-in name.
        let name = format!("A{name}").trim().to_owned();
        let toml = format!(
            "[users.purser]\nfull_name = {}\npassword = {{ sealed = 'tern bay at dusk' }}\n[last_steps]\nodd = {}\n[software]\nedition = 'x'\n",
            quoted(&name.replace("{{", "{ {").replace("{%", "{ %").replace("{#", "{ #")),
            quoted(&step)
        );
        let Some(settings) = entered(&toml) else { return Ok(()) };
        let name = settings.users["purser"].full_name.clone().unwrap();
        let wanted = format!("#!/bin/sh\nset -e\n{step}");
        let without = Settings { software: None, ..settings.clone() };
        if let Some(files) = files(&without, Family::Preseed) {
            prop_assert_eq!(preseeded(&files[0].text, "passwd/user-fullname"), name.clone());
            prop_assert_eq!(step_in(&unpacked(&preseeded(&files[0].text, "preseed/late_command"))), wanted.clone());
        }
        if let Some(files) = files(&without, Family::Kickstart) {
            let line = files[0].text.lines().find(|line| line.starts_with("user ")).unwrap();
            let words = shlex::split(line).unwrap();
            let gecos = words.iter().find_map(|word| word.strip_prefix("--gecos=")).unwrap_or_default();
            prop_assert_eq!(gecos, &name);
            let sections = sections(&files[0].text);
            let post = sections.iter().find(|(name, _)| name.starts_with("%post --erroronfail")).unwrap();
            prop_assert_eq!(step_in(&post.1), wanted.clone());
        }
        for family in [Family::Autoinstall, Family::CloudConfig] {
            let Some(files) = files(&without, family) else { continue };
            let read: Value = serde_saphyr::from_str(&files[0].text).unwrap();
            let config = if family == Family::Autoinstall { &read["autoinstall"]["user-data"] } else { &read };
            prop_assert_eq!(config["users"][0]["gecos"].as_str().unwrap_or_default(), &name);
            let whole = read.to_string();
            prop_assert!(whole.contains("lastmile-odd"));
            let scripts: Vec<String> = strings(&read).filter(|text| text.contains("/root/lastmile-odd <<")).collect();
            prop_assert_eq!(step_in(&scripts[0]), wanted.clone());
        }
        if let Some(files) = files(&settings, Family::UnattendedXml) {
            // White space at the ends is not kept by readers of such files.
            prop_assert_eq!(display_name(&files[0].text), name.trim());
            let doubled = step.replace(['\'', '\u{2018}', '\u{2019}'], "''");
            prop_assert!(files[1].text.contains(&doubled), "{}", files[1].text);
        }
    }

    #[test]
    fn whatever_disks_are_asked_for_files_can_be_read_or_are_refused(disks in disks()) {
        let toml = format!("users.purser.password = {{ sealed = 'tern bay at dusk' }}\nsoftware.edition = 'x'\n{disks}");
        let Some(settings) = entered(&toml) else { return Ok(()) };
        let without = Settings { software: None, ..settings.clone() };
        if let Some(files) = files(&without, Family::Autoinstall) {
            let read: Value = serde_saphyr::from_str(&files[0].text).unwrap();
            let wrong: Vec<String> = crate::yaml::schema().iter_errors(&read).map(|error| error.to_string()).collect();
            prop_assert!(wrong.is_empty(), "{wrong:?}");
        }
        if let Some(files) = files(&without, Family::Kickstart) {
            sections(&files[0].text);
            // Whatever is divided is named: nothing else on the machine is.
            for line in files[0].text.lines().filter(|line| line.trim_start_matches('|').starts_with("clearpart")) {
                prop_assert!(line.contains("--drives="), "{line}");
            }
        }
        if let Some(files) = files(&without, Family::Preseed) {
            let recipe = preseeded(&files[0].text, "partman-auto/expert_recipe");
            if without.storage.as_ref().is_some_and(|storage| storage.volumes.is_some()) {
                prop_assert!(recipe.starts_with("lastmile :: "), "{recipe}");
                // Every partition: three sizes, of which the least is not above the greatest, and a dot at its end.
                for part in recipe.trim_start_matches("lastmile :: ").split(" . ").map(|part| part.trim_end_matches(" .")) {
                    let mut words = part.split_whitespace();
                    let sizes: Vec<i64> = words.by_ref().take(3).map(|word| word.parse().unwrap()).collect();
                    prop_assert!(sizes[2] == -1 || sizes[0] <= sizes[2], "{part}");
                    prop_assert!(words.next().is_some(), "{part}");
                    prop_assert_eq!(part.matches('{').count(), part.matches('}').count(), "{}", part);
                }
            }
        }
        if let Some(files) = files(&settings, Family::UnattendedXml) {
            well_formed(&files[0].text);
        }
    }
}

/// Every text in a tree.
fn strings(tree: &Value) -> Box<dyn Iterator<Item = String> + '_> {
    match tree {
        Value::String(text) => Box::new(std::iter::once(text.clone())),
        Value::Array(items) => Box::new(items.iter().flat_map(strings)),
        Value::Object(items) => Box::new(items.values().flat_map(strings)),
        _ => Box::new(std::iter::empty()),
    }
}

/// The text of an element, read by a parser.
fn display_name(xml: &str) -> String {
    let document = roxmltree::Document::parse(xml).unwrap_or_else(|error| panic!("{error}\n{xml}"));
    let element = document.descendants().find(|node| node.tag_name().name() == "DisplayName");
    element.and_then(|node| node.text()).unwrap_or_default().trim().to_owned()
}

fn well_formed(xml: &str) {
    roxmltree::Document::parse(xml).unwrap_or_else(|error| panic!("{error}\n{xml}"));
}
