//! Values that mean something to a shell, a parser or markup come back as they were given.

use super::*;
use crate::{kickstart::sections, preseed::preseeded, yaml::yaml};

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
        let wanted = script.find("sed 's/^|//' >/root/lastmile-odd").unwrap();
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
