//! Settings in every installer's language: what is written stands in files beside this one that a person has read, and
//! is read again by programs that are not ours.
//!
//! `LASTMILE_ACCEPT=1` writes the files anew; read them before they are committed.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{collections::BTreeMap, fs, net::Ipv4Addr, path::PathBuf, process::Command};

use lastmile_core::{
    Fault,
    answers::{
        AnswerFile, KEY_BYTES, Keeping, Layer, NONCE_BYTES, Password, PasswordInput, Resolution, SALT_BYTES,
        SealKey, Settings, Subject, Target, resolve, write,
    },
    boot::{Service, Values},
    image::{Family, recognise::Cpu},
};

const FAMILIES: [Family; 4] =
    [Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::UnattendedXml];

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/answers")
}

fn key() -> SealKey {
    SealKey::new([5; KEY_BYTES])
}

fn settings(case: &str) -> Settings<Password> {
    let text = fs::read_to_string(folder().join(format!("{case}.toml"))).unwrap();
    let draft: Settings<PasswordInput> = toml::from_str(&text).unwrap();
    let key = key();
    let settled = draft.settle(|place, input| {
        let keeping = Keeping { key: &key, salt: [7; SALT_BYTES], nonce: [1; NONCE_BYTES] };
        let kept = match place {
            "storage.encrypt" => input.keep_passphrase(&keeping, None),
            _ => input.keep(&keeping, None),
        };
        kept.map_err(|error| Fault { place: place.into(), what: error.to_string(), mend: String::new() })
    });
    settled.unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))
}

fn subject() -> Subject {
    Subject {
        values: Values::example(),
        boot_mode: None,
        service: Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None },
    }
}

fn resolved(case: &str) -> Resolution {
    let settings = settings(case);
    let layers = [(Layer::Answers(case.into()), &settings)];
    resolve(layers, &subject(), &BTreeMap::new()).unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))
}

fn written(case: &str, family: Family) -> Result<Vec<AnswerFile>, Vec<Fault>> {
    let (subject, key) = (subject(), key());
    write(family, &resolved(case), &target(&subject, Some(&key), case))
}

/// What a file is written for; without a key, as in a preview.
fn target<'a>(subject: &'a Subject, key: Option<&'a SealKey>, title: &'a str) -> Target<'a> {
    Target {
        install: None,
        service: subject.service,
        values: &subject.values,
        key,
        cpu: Some(Cpu::X64),
        title,
    }
}

fn main_text(case: &str, family: Family) -> String {
    written(case, family).unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))[0].text.clone()
}

/// Which families a case can be written for.
const MATRIX: [(&str, &[Family]); 8] = [
    ("plain", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
    ("kiosk", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
    ("quay", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
    ("mirror", &[Family::Preseed, Family::Kickstart]),
    ("chart", &[Family::UnattendedXml]),
    ("bollard", &[Family::Kickstart]),
    ("halyard", &[Family::Autoinstall]),
    ("hostile", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
];

#[test]
fn files_are_as_they_were_read() {
    let accept = std::env::var_os("LASTMILE_ACCEPT").is_some();
    for (case, families) in MATRIX {
        for family in FAMILIES {
            let files = written(case, family);
            assert_eq!(
                files.is_ok(),
                families.contains(&family),
                "{case} as {}: {files:#?}",
                family.as_str()
            );
            for file in files.into_iter().flatten().filter(|file| !file.text.is_empty()) {
                let path = folder().join(format!("{case}.{}", file.name));
                if accept {
                    fs::write(&path, &file.text).unwrap();
                }
                let golden = fs::read_to_string(&path).unwrap_or_default();
                assert!(file.text == golden, "{} is not as it was read:\n{}", path.display(), file.text);
            }
        }
    }
}

fn run(program: &str, arguments: &[&str], input: &str) -> (bool, String) {
    use std::{io::Write, process::Stdio};
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap_or_else(|error| panic!("{program}: {error}; `make test` installs it"));
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned())
}

#[test]
fn debconf_reads_every_preseed_file() {
    for (case, _) in MATRIX.iter().filter(|(_, families)| families.contains(&Family::Preseed)) {
        let text = main_text(case, Family::Preseed);
        let (ok, said) = run("debconf-set-selections", &["--checkonly"], &text);
        assert!(ok && said.is_empty(), "{case}: {said}");
        let (ok, _) = run("debconf-set-selections", &["--checkonly"], &format!("{text}\nonly two\n"));
        assert!(!ok, "it would find a broken line");
    }
}

/// What a preseed file sets, as Debian's installer reads it: comments and empty lines are dropped first, what a line begins
/// with is stripped, and one that ends in a backslash is joined to the next with a blank.
fn preseeded(text: &str, question: &str) -> String {
    let lines = text.lines().filter(|line| !line.starts_with('#') && !line.trim().is_empty());
    let joined: String = lines
        .map(|line| match line.trim_start().strip_suffix('\\') {
            Some(begun) => format!("{} ", begun.trim_end()),
            None => format!("{}\n", line.trim_start()),
        })
        .collect();
    let line = joined.lines().find(|line| line.split(' ').nth(1) == Some(question)).unwrap_or_default();
    line.splitn(4, ' ').nth(3).unwrap_or_default().into()
}

#[test]
fn the_scripts_in_the_files_are_what_a_shell_reads() {
    for (case, families) in MATRIX {
        if families.contains(&Family::Preseed) {
            let text = main_text(case, Family::Preseed);
            let late = preseeded(&text, "preseed/late_command");
            let (ok, said) = run("sh", &["-n"], &late);
            assert!(ok, "{case}: {said}\n{late}");
            // The command writes a script: that one too is one.
            let inner = late.split(" >/target/root/lastmile-setup").next().unwrap();
            let (ok, script) = run("busybox", &["sh", "-c", inner], "");
            assert!(ok && script.starts_with("set -e\n"), "{case}: {script}");
            let (ok, said) = run("sh", &["-n"], &script);
            assert!(ok, "{case}: {said}\n{script}");
            let early = preseeded(&text, "partman/early_command");
            let (ok, said) = run("busybox", &["sh", "-n"], &early);
            assert!(ok, "{case}: {said}\n{early}");
        }
        if families.contains(&Family::Kickstart) {
            for (name, body) in sections(&main_text(case, Family::Kickstart)) {
                if name.starts_with("%p") && !name.starts_with("%packages") || name.starts_with("%onerror") {
                    let (ok, said) = run("bash", &["-n"], &body);
                    assert!(ok, "{case} {name}: {said}\n{body}");
                }
            }
        }
    }
}

/// The sections of a kickstart file, as its reference divides it: from a line that begins with `%` to `%end`.
fn sections(text: &str) -> Vec<(String, String)> {
    let mut sections: Vec<(String, String)> = vec![(String::new(), String::new())];
    let mut inside = false;
    for line in text.lines() {
        if inside && line.trim() == "%end" {
            inside = false;
        } else if !inside && line.starts_with('%') && !line.starts_with("%include") {
            inside = true;
            sections.push((line.into(), String::new()));
        } else {
            let at = if inside { sections.len() - 1 } else { 0 };
            sections[at].1.push_str(line);
            sections[at].1.push('\n');
        }
    }
    assert!(!inside, "a section is not closed: {text}");
    sections
}

/// The script that finds disks, on a list that stands in for real ones.
#[test]
fn disks_are_found_by_what_they_are_like_and_others_never_taken() {
    let script = preseeded(&main_text("mirror", Family::Preseed), "partman/early_command");
    let (_, script) = run("busybox", &["sh", "-c", script.split(" >/tmp").next().unwrap()], "");
    let found = |disks: &str| {
        let dir = tempfile::tempdir().unwrap();
        // Written by another process: what this one has open for writing cannot be run while another test starts something
        // (`ETXTBSY`, execve(2)).
        let tool = |name: &str, body: &str| {
            let path = dir.path().join(name);
            let (ok, said) = run(
                "install",
                &["-m", "755", "/dev/stdin", path.to_str().unwrap()],
                &format!("#!/bin/sh\n{body}\n"),
            );
            assert!(ok, "{said}");
        };
        tool("debconf-set", "echo \"$1=$2\"");
        tool("wget", "echo \"$@\"");
        tool("sleep", "true");
        // The first two lines ask the hardware; here a list answers.
        let rest = script.splitn(3, '\n').nth(2).unwrap();
        let whole = format!("PATH={}:$PATH\nall() {{ cat <<'E'\n{disks}E\n}}\n{rest}", dir.path().display());
        run("sh", &["-c", &whole], "").1
    };
    let disks = "953869|/dev/sda|Puffin 960|P-1\n457862|/dev/sdb|Puffin 480 T1|P-2\n457862|/dev/sdc|Puffin 480 T1|ARCHIVE-3\n\
        457863|/dev/nvme0n1|Puffin 480 T2|P-4\n9999999|/dev/sdd|Puffin 480 T9|P-5\n";
    let both = "/dev/sdb /dev/nvme0n1";
    assert_eq!(found(disks), format!("partman-auto/disk={both}\ngrub-installer/bootdev={both}\n"));
    let one = "457862|/dev/sdb|Puffin 480 T1|P-2\n457862|/dev/sdc|Puffin 480 T1|ARCHIVE-3\n";
    assert!(found(one).contains("/failed?text=no+disk+fits"), "{}", found(one));
}

/// The same in kickstart's own words: what is found is put into the commands that divide the disks.
#[test]
fn kickstart_divides_the_disks_that_were_found() {
    let text = main_text("mirror", Family::Kickstart);
    let pre = sections(&text).into_iter().find(|(name, _)| name == "%pre").unwrap().1;
    let dir = tempfile::tempdir().unwrap();
    let here = dir.path().display();
    let included = |disks: &str| {
        let tools = format!("lsblk() {{ cat <<'E'\n{disks}E\n}}\ncurl() {{ echo \"$@\"; }}\n");
        let _ = fs::remove_file(dir.path().join("lastmile-disks"));
        let (ok, said) = run("bash", &["-c", &(tools + &pre.replace("/tmp/", &format!("{here}/")))], "");
        (ok, said, fs::read_to_string(dir.path().join("lastmile-disks")).unwrap_or_default())
    };
    let disk = |name: &str, size: u64, model: &str, serial: &str| {
        format!("NAME=\"{name}\" SIZE=\"{size}\" MODEL=\"{model}\" SERIAL=\"{serial}\" TYPE=\"disk\"\n")
    };
    let disks = disk("sda", 480_103_981_056, "Puffin 480 T1", "ARCHIVE-1")
        + &disk("sdb", 480_103_981_056, "Puffin 480 T1", "P-2")
        + &disk("sdc", 480_104_000_000, "Puffin 480 T2", "P-3")
        + "NAME=\"sr0\" SIZE=\"1\" MODEL=\"Puffin 480\" SERIAL=\"\" TYPE=\"rom\"\n";
    let (ok, said, text) = included(&disks);
    assert!(ok, "{said}");
    assert!(text.contains("ignoredisk --only-use=sdb,sdc\n"), "{text}");
    assert!(text.contains("raid / --level=RAID1 --device=root --fstype=xfs raid.21 raid.22\n"), "{text}");
    assert!(text.contains("part raid.22 --size=1024 --grow --ondisk=sdc\n") && !text.contains('@'), "{text}");
    let (ok, said, text) = included(&disk("sda", 480_103_981_056, "Puffin 480 T1", "P-1"));
    assert!(!ok && said.contains("/failed?text=no+disk+fits") && text.is_empty(), "{said}{text}");
}

#[test]
fn kickstart_files_hold_documented_commands_and_sections_only() {
    // From the Kickstart syntax reference; kept apart from the list in the writer.
    let commands: Vec<&str> = include_str!("answers/kickstart-commands.txt").split_whitespace().collect();
    let known =
        ["%packages", "%pre", "%post", "%onerror", "%addon", "%anaconda", "%pre-install", "%traceback"];
    for (case, _) in MATRIX.iter().filter(|(_, families)| families.contains(&Family::Kickstart)) {
        let text = main_text(case, Family::Kickstart);
        let sections = sections(&text);
        for (name, _) in &sections[1..] {
            assert!(known.contains(&name.split(' ').next().unwrap()), "{case}: {name}");
        }
        let body = &sections[0].1;
        for line in body.lines().filter(|line| !line.trim().is_empty() && !line.starts_with('#')) {
            let command = line.split(' ').next().unwrap();
            assert!(commands.contains(&command) || command == "%include", "{case}: {line}");
        }
        // shlex, as the installer divides its commands.
        let (ok, said) =
            run("python3", &["-c", "import shlex,sys; [shlex.split(line) for line in sys.stdin]"], body);
        assert!(ok, "{case}: {said}");
        for must in ["lang ", "keyboard ", "timezone ", "rootpw "] {
            assert!(body.lines().any(|line| line.starts_with(must)), "{case} lacks {must}");
        }
    }
}

/// YAML as another implementation reads it, as JSON.
fn yaml(text: &str) -> serde_json::Value {
    let program = "import sys,yaml,json; print(json.dumps(yaml.safe_load(sys.stdin.read())))";
    let (ok, said) = run("python3", &["-c", program], text);
    assert!(ok, "{said}\n{text}");
    serde_json::from_str(&said).unwrap()
}

#[test]
fn yaml_is_read_by_another_parser_and_has_the_published_shape() {
    // Keys of the installer's published schema that are written here, with their types.
    let shape: BTreeMap<&str, &str> = [
        ("version", "number"),
        ("early-commands", "array"),
        ("reporting", "object"),
        ("late-commands", "array"),
        ("error-commands", "array"),
        ("locale", "string"),
        ("keyboard", "object"),
        ("timezone", "string"),
        ("source", "object"),
        ("network", "object"),
        ("proxy", "string"),
        ("apt", "object"),
        ("ssh", "object"),
        ("packages", "array"),
        ("storage", "object"),
        ("shutdown", "string"),
        ("user-data", "object"),
        ("updates", "string"),
    ]
    .into();
    let actions =
        ["disk", "partition", "format", "mount", "lvm_volgroup", "lvm_partition", "raid", "dm_crypt"];
    for (case, _) in MATRIX.iter().filter(|(_, families)| families.contains(&Family::Autoinstall)) {
        let text = main_text(case, Family::Autoinstall);
        assert!(text.starts_with("#cloud-config\n"));
        let read = yaml(&text);
        assert_eq!(read.as_object().unwrap().len(), 1);
        let keys = read["autoinstall"].as_object().unwrap();
        for (key, value) in keys {
            let kind = match value {
                serde_json::Value::Object(_) => "object",
                serde_json::Value::Array(_) => "array",
                serde_json::Value::String(_) => "string",
                serde_json::Value::Number(_) => "number",
                _ => "other",
            };
            assert_eq!(shape.get(key.as_str()), Some(&kind), "{case}: {key}");
        }
        let Some(config) = keys["storage"].get("config") else { continue };
        let mut ids: Vec<&str> = Vec::new();
        for action in config.as_array().unwrap() {
            let kind = action["type"].as_str().unwrap();
            assert!(actions.contains(&kind), "{case}: {action}");
            // What an action refers to came before it.
            for key in ["device", "volume", "volgroup"] {
                if let Some(of) = action.get(key).and_then(|of| of.as_str()) {
                    assert!(ids.contains(&of), "{case}: {action} refers to what is not there");
                }
            }
            for of in action.get("devices").and_then(|of| of.as_array()).into_iter().flatten() {
                assert!(ids.contains(&of.as_str().unwrap()), "{case}: {action}");
            }
            ids.push(action["id"].as_str().unwrap());
        }
        let unique: std::collections::BTreeSet<_> = ids.iter().collect();
        assert_eq!(unique.len(), ids.len(), "{case}: ids are unique");
    }
}

#[test]
fn xml_is_well_formed_and_its_elements_stand_in_their_order() {
    let text = main_text("chart", Family::UnattendedXml);
    let (ok, said) = run("xmllint", &["--noout", "-"], &text);
    assert!(ok, "{said}");
    let xpath = |path: &str| {
        let path = path.replace("//", "//*[local-name()='").replace('>', "']/*[local-name()='");
        let (ok, said) = run("xmllint", &["--xpath", &format!("string({path}'])"), "-"], &text);
        assert!(ok, "{path}: {said}");
        said.trim_end_matches('\n').to_owned()
    };
    assert_eq!(xpath("//ComputerName"), "CHART-7");
    assert_eq!(xpath("//OSImage>InstallFrom>MetaData>Value"), "Plimsoll Server Standard");
    assert_eq!(xpath("//LocalAccount>Name"), "navigator");
    assert_eq!(xpath("//TimeZone"), "W. Europe Standard Time");
    let secret = |path: &str, element: &str| {
        let program =
            "import sys,base64; sys.stdout.write(base64.b64decode(sys.stdin.read()).decode('utf-16-le'))";
        let (ok, said) = run("python3", &["-c", program], &xpath(path));
        assert!(ok, "{said}");
        said.strip_suffix(element).unwrap().to_owned()
    };
    assert_eq!(secret("//LocalAccount>Password>Value", "Password"), "nine \"fathoms\" ö");
    assert_eq!(secret("//AdministratorPassword>Value", "AdministratorPassword"), "kittiwake <&> petrel");
    // The order of the passes, and of the elements within the lists, as the reference gives them.
    let at = |needle: &str| text.find(needle).unwrap_or_else(|| panic!("no {needle}"));
    for order in [
        &["pass=\"windowsPE\"", "pass=\"offlineServicing\"", "pass=\"specialize\"", "pass=\"oobeSystem\""][..],
        &["<DiskConfiguration>", "<ImageInstall>", "<UserData>"],
        &["<CreatePartitions>", "<ModifyPartitions>", "<DiskID>0", "<WillWipeDisk>"],
        &["<Type>EFI", "<Type>MSR", "<Type>Primary"],
        &["<InstallFrom>", "<InstallTo>"],
        &["<OOBE>", "<UserAccounts>"],
    ] {
        assert!(order.windows(2).all(|pair| at(pair[0]) < at(pair[1])), "{order:?}");
    }
    assert_eq!(xpath("//ImageInstall>OSImage>InstallTo>PartitionID"), "3");
    let path = xpath("//RunSynchronousCommand>Path");
    assert!(path.len() < 259, "the reference allows a path of 259 characters: {path}");
}

#[test]
fn hostile_values_come_back_unharmed() {
    let full_name = "it's \"Ö\" <b>&amp;</b> $HOME `id` %end #- yes {{ name }}";
    let step = settings("hostile").last_steps["odd"].clone();
    let preseed = main_text("hostile", Family::Preseed);
    assert_eq!(preseeded(&preseed, "passwd/user-fullname"), full_name);
    // The step is unpacked as the machine would unpack it, with its folder elsewhere.
    let unpacked = |script: &str| {
        let dir = tempfile::tempdir().unwrap();
        let here = dir.path().to_str().unwrap();
        let wanted = script.find("sed 's/^|//' >/root/lastmile-odd").expect("the step is in there");
        let end = script[wanted..].find("\nEND\n").unwrap();
        let document = script[wanted..wanted + end + 5].replacen(
            "/root/lastmile-odd",
            &format!("{here}/lastmile-odd"),
            1,
        );
        let (ok, said) = run("busybox", &["sh", "-c", &document], "");
        assert!(ok, "{said}");
        fs::read_to_string(dir.path().join("lastmile-odd")).unwrap()
    };
    let wanted = format!("#!/bin/sh\nset -e\n{step}");
    let late = preseeded(&preseed, "preseed/late_command");
    let inner = late.split(" >/target/root/lastmile-setup").next().unwrap();
    let (_, script) = run("busybox", &["sh", "-c", inner], "");
    assert_eq!(unpacked(&script), wanted);
    let kickstart = main_text("hostile", Family::Kickstart);
    let post =
        sections(&kickstart).into_iter().find(|(name, _)| name.starts_with("%post --erroronfail")).unwrap().1;
    assert_eq!(unpacked(&post), wanted);
    let user = kickstart.lines().find(|line| line.starts_with("user ")).unwrap();
    let (_, words) =
        run("python3", &["-c", "import shlex,sys; print('\\n'.join(shlex.split(sys.stdin.read())))"], user);
    assert!(words.lines().any(|word| word == format!("--gecos={full_name}")), "{words}");
    let autoinstall = yaml(&main_text("hostile", Family::Autoinstall));
    let user_data = &autoinstall["autoinstall"]["user-data"];
    assert_eq!(user_data["users"][0]["gecos"], full_name);
    let late = autoinstall["autoinstall"]["late-commands"].as_array().unwrap();
    let script =
        late.iter().find_map(|command| command.get(5)?.as_str().filter(|text| text.contains("lastmile-odd")));
    assert_eq!(unpacked(script.unwrap()), wanted);
}

#[test]
fn what_a_format_cannot_say_is_named_with_its_place() {
    let faults = written("quay", Family::UnattendedXml).unwrap_err();
    let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
    for place in [
        "proxy",
        "network.interfaces.bond0.bond",
        "users.harbour.password",
        "storage.encrypt",
        "software.edition",
    ] {
        assert!(places.contains(&place), "{place} of {places:?}");
    }
    let faults = written("halyard", Family::Preseed).unwrap_err();
    assert!(faults.iter().any(|fault| fault.place == "storage.disks"), "{faults:#?}");
    // The limit of names is held before anything is written.
    let long = settings("chart");
    let long = Settings { host_name: Some("chart-workstation-7".into()), ..long };
    let resolution = resolve([(Layer::Site, &long)], &subject(), &BTreeMap::new()).unwrap();
    let subject = subject();
    let target = target(&subject, None, "");
    let faults = write(Family::UnattendedXml, &resolution, &target).unwrap_err();
    assert_eq!(faults.len(), 1);
    assert!(faults[0].place == "host_name" && faults[0].what.contains("15 characters"), "{faults:?}");
}

#[test]
fn a_preview_holds_no_secret() {
    let subject = subject();
    let target = target(&subject, None, "");
    for (case, families) in MATRIX {
        for family in families {
            for file in write(*family, &resolved(case), &target).unwrap() {
                assert!(!file.text.contains("$6$"), "{case}: {}", file.text);
                for secret in ["kittiwake & petrel", "petrel $HOME", "tern bay at dusk"] {
                    assert!(!file.text.contains(secret), "{case}: {}", file.text);
                }
            }
        }
    }
}

#[test]
fn mistakes_in_fragments_and_templates_carry_line_and_column() {
    let with = |format: &str, part: &str, text: &str| {
        let toml = format!(
            "[users.a]\npassword = {{ sealed = \"tern bay at dusk\" }}\n[formats.{format}]\n{part} = '''\n{text}'''\n"
        );
        let draft: Settings<PasswordInput> = toml::from_str(&toml).unwrap();
        let kept =
            |_: &str, _: &PasswordInput| Ok(settings("plain").users["purser"].password.clone().unwrap());
        let settings = draft.settle(kept).map_err(|faults| faults[0].to_string())?;
        let resolution = resolve([(Layer::Site, &settings)], &subject(), &BTreeMap::new()).unwrap();
        let subject = subject();
        let target = target(&subject, None, "");
        let family = FAMILIES.into_iter().find(|family| family.as_str() == format).unwrap();
        write(family, &resolution, &target)
            .map(|files| files[0].text.clone())
            .map_err(|faults| faults[0].to_string())
    };
    let said = with("kickstart", "fragments.commands", "services --enabled=x\nserivces --x\n").unwrap_err();
    assert!(
        said.starts_with(
            "formats.kickstart.fragments.commands: line 2, column 1: there is no command 'serivces'"
        ),
        "{said}"
    );
    let said = with("kickstart", "template", "# {{ name }}\nlang {{ settings.lcoale }}\n").unwrap_err();
    assert!(said.starts_with("formats.kickstart.template: line 2, column"), "{said}");
    let said = with("autoinstall", "fragments.autoinstall", "a: 1\nb: [1\n").unwrap_err();
    assert!(said.contains("fragments.autoinstall: line "), "{said}");
    let said = with("preseed", "fragments.end", "d-i a string b\nd-i broken\n").unwrap_err();
    assert!(said.contains("line 2, column 1: 'd-i broken' sets nothing"), "{said}");
    let said = with("kickstart", "fragments.nowhere", "x").unwrap_err();
    assert!(said.contains("Places are: commands, packages, pre, post, end."), "{said}");
    let said = with("kickstart", "template", "{{ nmae }\n").unwrap_err();
    assert!(said.contains("line 1"), "{said}");
    let text =
        with("preseed", "template", "{{ generated }}# {{ name|shell }} {{ settings.locale }}\n").unwrap();
    assert!(text.ends_with("# 'auklet-chart' C.UTF-8\n") && text.contains("netcfg/get_hostname"), "{text}");
}
