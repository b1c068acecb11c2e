//! The command line's grammar: one verb means one thing for every noun, nothing is lost unasked, and programs can rely on
//! what is written.

use std::{os::unix::fs::PermissionsExt, process::Command};

use serde_json::Value;

use crate::support::{
    need,
    service::{LASTMILE, Service},
    site::{MAC, loopback},
};

#[test]
fn how_a_command_ends_says_which_kind_of_trouble_it_was() {
    let service = loopback(21_100);
    service.fill();
    let nowhere = ["subnet", "list", "--server", "http://127.0.0.1:1"];
    let confirm = ["machine", "remove", "auklet-chart"];
    for (words, code, says) in [
        (&["machine", "show", "no-such"][..], 3, "no machine is named 'no-such'"),
        (&["machine", "show"], 2, "<NAME>"),
        (&["image", "list", "--nonsense"], 2, "unexpected argument '--nonsense'"),
        (&["label", "add", "kiosk", "--set", "rank=much"], 1, "rank"),
        (&confirm, 2, "--yes"),
        (&["subnet", "change", "holm-quay", "--set", "pools=1.2.3"], 1, "pools"),
    ] {
        let (ended, said) = service.fail(words);
        assert!(ended == code && said.contains(says), "{words:?} ends with {ended}: {said}");
    }
    let output = Command::new(LASTMILE).args(nowhere).output().unwrap();
    assert_eq!(output.status.code(), Some(5), "the service does not answer");
    assert_eq!(
        service.json(&["machine", "show", "auklet-chart"])["name"],
        "auklet-chart",
        "it is still there"
    );
    // Somebody else has made one of that name meanwhile.
    service.run(&["label", "add", "kiosk"]);
    let (_, said) = service.fail(&["label", "add", "kiosk"]);
    assert!(said.contains("kiosk") && said.contains("change"), "{said}");
}

#[test]
fn a_dry_run_shows_what_would_change_and_changes_nothing() {
    let service = loopback(21_110);
    service.fill();
    service.run(&["install", "cancel", "1", "--yes"]);
    let all = || {
        let things: Vec<Value> = ["machine", "subnet", "image", "loader", "answers", "label", "webhook"]
            .map(|noun| service.json(&[noun, "list"]))
            .into();
        (things, service.json(&["settings", "show"]))
    };
    let before = all();
    let csv = service.write("new.csv", "name,mac\nfulmar-log,02:00:5e:00:53:44\n");
    for (words, says) in [
        (&["machine", "change", "auklet-chart", "--append", "labels=spare"][..], "labels  (none) → spare"),
        (&["machine", "rename", "auklet-chart", "auklet-bridge"], "auklet-bridge"),
        (&["machine", "copy", "auklet-chart", "skua-log", "--set", "macs=02:00:5e:00:53:45"], "skua-log"),
        (&["machine", "add", "fulmar-log", "--mac", "02:00:5e:00:53:44"], "fulmar-log"),
        (&["machine", "import", &csv], "1 new, 0 changed, 0 unchanged"),
        (&["machine", "remove", "auklet-chart"], "auklet-chart"),
        (&["machine", "name", "auklet-chart", "--name", "point-{{ counter }}"], "point-1"),
        (&["subnet", "change", "holm-quay", "--set", "lease_secs=7200"], "lease_secs"),
        (&["subnet", "remove", "holm-quay"], "holm-quay"),
        (&["image", "change", "tidewrack-12", "--set", "title=Wrack"], "title   Tidewrack 12 → Wrack"),
        (&["image", "rename", "tidewrack-12", "wrack"], "wrack"),
        (&["answers", "change", "quay-server", "--set", "time_zone=Europe/Oslo"], "time_zone"),
        (&["answers", "copy", "quay-server", "quay-spare"], "quay-spare"),
        (&["loader", "change", "signed-x64", "--set", "class=PXEClient"], "class"),
        (&["label", "add", "spare", "--set", "rank=7"], "spare"),
        (&["webhook", "add", "records", "https://records.gannet.example/x"], "records"),
        (&["settings", "change", "--set", "limits.loading_minutes=9"], "limits.loading_minutes"),
        (&["subnet", "reserve", "holm-quay", "198.51.100.20", "auklet-chart"], "198.51.100.20"),
        (&["image", "set-current", "tidewrack-12", "1"], "tidewrack-12"),
    ] {
        let words = [words, &["--dry-run"]].concat();
        let said = service.run(&words);
        let spaced = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(spaced(&said).contains(&spaced(says)), "{words:?} lacks {says:?}: {said}");
        assert!(said.contains("Dry run"), "{words:?}: {said}");
        assert_eq!(all(), before, "{words:?} changed something");
    }
    // What would be refused is refused in a dry run, too.
    let (code, said) =
        service.fail(&["subnet", "change", "holm-quay", "--set", "router=10.0.0.1", "--dry-run"]);
    assert!(code == 1 && said.contains("router"), "{said}");
}

#[test]
fn no_command_writes_a_secret_that_it_was_given() {
    let service = loopback(21_105);
    let secrets =
        ["skerry tide table", "the whole harbour", "light the lamp", "a key of thirty-two letters, or more"];
    let answers = |name: &str, password: &str| {
        let example = service.run(&["answers", "example"]).replace("change me before use", password);
        let encrypted = "encrypt = { plain = 'the whole harbour' }";
        service.write(name, example.replace("# encrypt = { plain = \"a long passphrase\" }", encrypted))
    };
    let (first, second) = (answers("first.toml", "spare password"), answers("second.toml", secrets[0]));
    let menu = service.write(
        "menu.toml",
        "title = 'Tools'\n[[entries]]\nkey = 'off'\ntitle = 'Off'\nguard = 'light the lamp'\naction = 'power-off'\n",
    );
    let mut written = String::new();
    for words in [
        &["answers", "add", "quay-server", "--from", &first, "--dry-run"][..],
        &["answers", "add", "quay-server", "--from", &first],
        &["answers", "change", "quay-server", "--from", &second, "--dry-run"],
        &["answers", "change", "quay-server", "--from", &second],
        &["answers", "copy", "quay-server", "quay-spare"],
        &["answers", "show", "quay-server"],
        &["menu", "add", "tools", "--from", &menu],
        &["webhook", "add", "records", "https://records.gannet.example/x"],
        &["webhook", "change", "records", "--set", &format!("key={}", secrets[3])],
    ] {
        for json in [&["--json"][..], &[]] {
            // What was added once is added no more; what it writes then is looked at, too.
            let output = service.try_run(&[json, words].concat());
            written.push_str(&String::from_utf8_lossy(&output.stdout));
            written.push_str(&String::from_utf8_lossy(&output.stderr));
        }
    }
    assert!(written.matches("(hidden)").count() > 8, "{written}");
    for secret in secrets.iter().chain(&["spare password"]) {
        assert!(!written.contains(secret), "{secret:?} is shown: {written}");
    }
}

#[test]
fn names_follow_a_rename_wherever_they_are_written() {
    let service = loopback(21_120);
    service.fill();
    service.run(&["install", "cancel", "1", "--yes"]);
    let menu = service.write("menu.toml", service.run(&["menu", "example"]));
    service.put("menu", "tools", &menu);
    service.run(&["label", "add", "chart", "--set", "menu=tools"]);
    service.run(&["machine", "change", "auklet-chart", "--append", "labels=chart", "--set", "menu=tools"]);
    service.run(&["answers", "change", "quay-server", "--append", "images=tidewrack-12"]);
    service.run(&["menu", "rename", "tools", "workshop"]);
    service.run(&["label", "rename", "chart", "bridge"]);
    service.run(&["image", "rename", "tidewrack-12", "tidewrack"]);
    service.run(&["answers", "rename", "quay-server", "pier-server"]);
    service.run(&["machine", "rename", MAC, "auklet-bridge"]);
    let machine = service.json(&["machine", "show", "auklet-bridge"]);
    assert_eq!((&machine["menu"], &machine["labels"][0]), (&"workshop".into(), &"bridge".into()));
    assert_eq!(service.json(&["label", "show", "bridge"])["menu"], "workshop");
    assert_eq!(service.json(&["answers", "show", "pier-server"])["settings"]["images"][0], "tidewrack");
    // The record keeps what was so when it was written down.
    let install = service.json(&["install", "show", "1"]);
    assert_eq!((&install["machine"], &install["image"]), (&"auklet-chart".into(), &"tidewrack-12".into()));
    service.run(&["install", "arm", "auklet-bridge", "--image", "tidewrack", "--answers", "pier-server"]);
    assert!(service.run(&["plan", "auklet-bridge"]).contains("tidewrack r1 is armed"));
    let (_, said) = service.fail(&["menu", "rename", "workshop", "Two Words"]);
    assert!(said.contains("'Two Words'"), "{said}");
    let (code, said) = service.fail(&["menu", "rename", "no-such", "tools"]);
    assert!(code == 3 && said.contains("no-such"), "{said}");
}

/// An editor that replaces `from` by `to`.
fn editor(service: &Service<'_>, from: &str, to: &str) -> String {
    let path = service.write("editor", format!("#!/bin/sh\nexec sed -i 's|{from}|{to}|' \"$1\"\n"));
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    path
}

#[test]
fn an_editor_changes_what_it_opens_and_rejected_text_is_kept() {
    let service = loopback(21_130);
    service.fill();
    let edit = |words: &[&str], from: &str, to: &str| {
        let mut command = Command::new(LASTMILE);
        command.args(["--server", service.server()]).args(words).env("TMPDIR", service.folder.path());
        let output = command.env("EDITOR", editor(&service, from, to)).env_remove("VISUAL").output().unwrap();
        (
            output.status.code(),
            String::from_utf8(output.stdout).unwrap(),
            String::from_utf8(output.stderr).unwrap(),
        )
    };
    let (code, said, error) = edit(&["subnet", "edit", "holm-quay"], "gannet.example", "quay.gannet.example");
    assert!(code == Some(0) && said.contains("gannet.example → quay.gannet.example"), "{said}{error}");
    assert_eq!(service.json(&["subnet", "show", "holm-quay"])["domain"], "quay.gannet.example");
    let (code, said, _) = edit(&["subnet", "edit", "holm-quay"], "not there", "x");
    assert!(code == Some(0) && said.contains("Nothing was changed"), "{said}");

    // Refused by the service: everything that was typed is in the file that is named, and can be saved from it.
    let (code, _, said) = edit(&["subnet", "edit", "holm-quay"], "198.51.100.120", "203.0.113.120");
    assert_eq!(code, Some(1), "{said}");
    assert!(said.contains("pools"), "{said}");
    let words = said.split(|letter: char| letter.is_whitespace() || "'\":,;".contains(letter));
    let path = words.map(|word| word.trim_end_matches('.')).find(|word| word.ends_with(".toml"));
    let kept = path.unwrap_or_else(|| panic!("no path is named: {said}"));
    let text = std::fs::read_to_string(kept).unwrap();
    assert!(text.contains("203.0.113.120"), "{text}");
    assert_eq!(service.json(&["subnet", "show", "holm-quay"])["pools"][0], "198.51.100.100-198.51.100.120");
    std::fs::write(kept, text.replace("203.0.113.120", "198.51.100.119")).unwrap();
    service.run(&["subnet", "change", "holm-quay", "--from", kept]);
    assert_eq!(service.json(&["subnet", "show", "holm-quay"])["pools"][0], "198.51.100.100-198.51.100.119");
    // No TOML at all.
    let (code, _, said) = edit(&["machine", "edit", "auklet-chart"], "^macs", "= macs");
    assert!(code == Some(1) && said.contains(".toml"), "{said}");
    assert_eq!(service.json(&["machine", "show", "auklet-chart"])["macs"][0], MAC);
}

#[test]
fn programs_read_json_and_csv_whose_form_does_not_change() {
    let service = loopback(21_140);
    service.fill();
    service.run(&["machine", "change", "auklet-chart", "--append", "labels=chart"]);
    let csv = service.run(&["machine", "list", "--output", "csv"]);
    let mut lines = csv.lines();
    let head = lines.next().unwrap();
    assert!(head.starts_with("name,mac,stage,"), "{csv}");
    assert!(lines.next().unwrap().starts_with("auklet-chart,00:00:5e:00:53:01,armed,,1,,chart,"), "{csv}");
    // The fields of every list and every single thing, and the kind of their values. Whoever changes one, breaks somebody's
    // program: `LASTMILE_ACCEPT=1` writes the file anew, and the change log tells it.
    let mut forms = serde_json::Map::new();
    for words in [
        &["status"][..],
        &["machine", "list"],
        &["machine", "show", "auklet-chart"],
        &["subnet", "list"],
        &["subnet", "show", "holm-quay"],
        &["loader", "show", "signed-x64"],
        &["image", "list"],
        &["image", "show", "tidewrack-12"],
        &["answers", "show", "quay-server"],
        &["install", "list"],
        &["install", "show", "1"],
        &["settings", "show"],
        &["plan", "auklet-chart"],
        &["check"],
        &["history", "hosts"],
        &["history", "rates"],
    ] {
        let text = Command::new(LASTMILE)
            .args(["--server", service.server(), "--json"])
            .args(words)
            .output()
            .unwrap();
        let value: Value =
            serde_json::from_slice(&text.stdout).unwrap_or_else(|error| panic!("{words:?}: {error}"));
        forms.insert(words.join(" "), form(&value));
    }
    let found = serde_json::to_string_pretty(&forms).unwrap() + "\n";
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/service/json.golden");
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        std::fs::write(path, &found).unwrap();
    }
    let expected = std::fs::read_to_string(path).unwrap();
    assert!(found == expected, "the form of JSON has changed; it is now\n{found}");
}

/// What a value is made of: names of fields, and kinds instead of values.
fn form(value: &Value) -> Value {
    match value {
        Value::Object(fields) => fields.iter().map(|(name, value)| (name.clone(), form(value))).collect(),
        Value::Array(values) => {
            values.first().map_or_else(|| Value::Array(vec![]), |first| vec![form(first)].into())
        }
        Value::Null => "null".into(),
        Value::Bool(_) => "bool".into(),
        Value::Number(_) => "number".into(),
        Value::String(_) => "text".into(),
    }
}

#[test]
fn colour_is_for_terminals_and_only_where_it_is_wanted() {
    let service = loopback(21_150);
    service.fill();
    let words = format!("{LASTMILE} --server {} install list", service.server());
    let coloured = |environment: &[(&str, &str)], command: &str| {
        let script = need("/usr/bin/script", "bsdutils");
        let mut on_terminal = Command::new(script);
        on_terminal.args(["-qec", command, "/dev/null"]).env("TERM", "xterm").env_remove("NO_COLOR");
        let output = on_terminal.envs(environment.iter().copied()).output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(text.contains("auklet-chart"), "{text}");
        text.contains('\u{1b}')
    };
    assert!(coloured(&[], &words), "a terminal shows colour");
    assert!(!coloured(&[("NO_COLOR", "1")], &words), "NO_COLOR is heeded");
    assert!(!coloured(&[], &format!("{words} | cat")), "a pipe gets none");
}

#[test]
fn names_are_completed_by_asking_the_service() {
    let service = loopback(21_160);
    service.fill();
    service.run(&["machine", "add", "auklet-bridge", "--mac", "02:00:5e:00:53:44"]);
    service.run(&["machine", "add", "fulmar-log", "--mac", "02:00:5e:00:53:45"]);
    // As the script of `completion bash` asks: the words of the line, and which of them is being typed.
    let completed = |line: &[&str]| {
        let mut command = Command::new(LASTMILE);
        command.env("COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", (line.len() - 1).to_string());
        command.env("_CLAP_IFS", "\n").env("LASTMILE_SERVER", service.server()).arg("--").args(line);
        let output = command.output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        text.lines().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(completed(&["lastmile", "machine", "show", "auk"]), ["auklet-bridge", "auklet-chart"]);
    assert_eq!(completed(&["lastmile", "install", "arm", "fulmar-log", "--image", ""]), ["tidewrack-12"]);
    assert_eq!(completed(&["lastmile", "answers", "edit", "q"]), ["quay-server"]);
    assert!(completed(&["lastmile", "machine", ""]).contains(&"adopt".to_owned()));
    let script = service.run(&["completion", "bash"]);
    assert!(script.contains("lastmile"), "{script}");
}
