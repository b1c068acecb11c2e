//! What a format cannot say, and mistakes in parts of its own: named with their places.

use super::*;

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
fn mistakes_in_fragments_and_templates_carry_line_and_column() {
    let with = |format: &str, part: &str, text: &str| {
        let toml = format!(
            "[users.a]\npassword = {{ sealed = \"tern bay at dusk\" }}\n[formats.{format}]\n{part} = '''\n{text}'''\n"
        );
        let draft: Settings<PasswordInput> = toml::from_str(&toml).unwrap();
        let kept =
            |_: &str, _: &PasswordInput| Ok(settings("plain").users["purser"].password.clone().unwrap());
        let settings = draft.finish(kept).map_err(|faults| faults[0].to_string())?;
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
