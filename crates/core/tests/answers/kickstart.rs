//! Kickstart files: read by the library that their installer reads them with.

use serde_json::json;

use super::*;

/// The sections of a kickstart file, as its reference divides it: from a line that begins with `%` to `%end`.
pub(crate) fn sections(text: &str) -> Vec<(String, String)> {
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

/// The same in kickstart's own words: what is found is put into the commands that divide the disks.
#[test]
fn kickstart_divides_the_disks_that_were_found() {
    let text = main_text("mirror", Family::Kickstart);
    let pre = sections(&text).into_iter().find(|(name, _)| name == "%pre --erroronfail").unwrap().1;
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
    let whole = main_text("mirror", Family::Kickstart).replace("%include /tmp/lastmile-disks\n", &text);
    let read = installer_reads("RHEL9", &whole).unwrap();
    assert_eq!(read["mirrors"][1]["members"], json!(["raid.21", "raid.22"]));
    assert_eq!(read["only"], json!(["sdb", "sdc"]));
    assert_eq!(read["keyboard"], json!(["us (dvorak)"]));
    let (ok, said, text) = included(&disk("sda", 480_103_981_056, "Puffin 480 T1", "P-1"));
    assert!(!ok && said.contains("/failed?text=no+disk+fits") && text.is_empty(), "{said}{text}");
}

/// What the installer's own library reads in a kickstart file, in the language of one of its versions. Fails with what
/// it says, its warnings among it.
fn installer_reads(version: &str, text: &str) -> Result<serde_json::Value, String> {
    let program = r#"
import json, sys, warnings
sys.path.insert(0, sys.argv[1])
from pykickstart.parser import KickstartParser
from pykickstart.version import makeVersion
warnings.simplefilter("always")
handler = makeVersion(sys.argv[2])
parser = KickstartParser(handler, missingIncludeIsFatal=False)
with warnings.catch_warnings(record=True) as warned:
    parser.readKickstartFromString(sys.stdin.read())
# A second device that boots, and a VLAN on a bond that has a command of its own, are meant.
meant = ["mountpoint biosboot has already been defined", "network device with the name bond0 has already been defined"]
for warning in warned:
    if not any(part in str(warning.message) for part in meant):
        raise SystemExit(str(warning.message))
known = lambda of, *names: {name: getattr(of, name) for name in names if hasattr(of, name)}
time = known(handler.timezone, "timezone", "isUtc", "ntpservers")
print(json.dumps({
    "locale": handler.lang.lang, "keyboard": handler.keyboard.x_layouts, "time": {k: sorted(v) if isinstance(v, (set, list)) else v for k, v in time.items()},
    "time_servers": [source.ntp_server for source in getattr(getattr(handler, "timesource", None), "timesource_list", [])],
    "users": [known(user, "name", "gecos", "groups", "password", "isCrypted", "lock") for user in handler.user.userList],
    "root": known(handler.rootpw, "password", "isCrypted", "lock"),
    "keys": [[key.username, key.key] for key in handler.sshkey.sshUserList],
    "network": [known(one, "device", "ip", "netmask", "gateway", "nameserver", "bondslaves", "bondopts", "vlanid", "hostname", "mtu") for one in handler.network.network],
    "packages": handler.packages.packageList, "environment": handler.packages.environment,
    "groups": [group.name for group in handler.packages.groupList],
    "partitions": [known(part, "mountpoint", "size", "grow", "disk", "fstype", "encrypted", "passphrase", "luks_version") for part in handler.partition.partitions],
    "volumes": [known(volume, "mountpoint", "size", "grow", "vgname", "name", "fstype") for volume in handler.logvol.lvList],
    "mirrors": [known(raid, "mountpoint", "level", "members", "device", "encrypted", "passphrase") for raid in handler.raid.raidList],
    "url": getattr(handler.url, "url", None), "proxy": getattr(handler.url, "proxy", None),
    "repositories": [known(repo, "name", "baseurl") for repo in handler.repo.repoList],
    "only": handler.ignoredisk.onlyuse, "boot": handler.bootloader.bootDrive, "append": handler.bootloader.appendLine,
    "selinux": handler.selinux.selinux, "firewall": handler.firewall.enabled,
    "scripts": [[script.type, script.script] for script in handler.scripts],
}, default=str))
"#;
    let (ok, said) = run("/usr/bin/python3", &["-c", program, &witness("python"), version], text);
    if !ok {
        return Err(said);
    }
    serde_json::from_str(&said).map_err(|error| format!("{error}: {said}"))
}

/// Versions of the installer, with the version that an image of theirs says.
const VERSIONS: [(&str, &str); 4] = [("RHEL8", "8.10"), ("RHEL9", "9.4"), ("RHEL10", "10.0"), ("F46", "46")];

#[test]
fn the_installers_own_library_reads_every_file() {
    for (case, _) in MATRIX.iter().filter(|(_, families)| families.contains(&Family::Kickstart)) {
        for (language, version) in VERSIONS {
            let (subject, key) = (subject(), key());
            let target = Target { version: Some(version), ..target(&subject, Some(&key), case) };
            let text = &write(Family::Kickstart, &resolved(case), &target).unwrap()[0].text;
            let read =
                installer_reads(language, text).unwrap_or_else(|said| panic!("{case}, {language}: {said}"));
            // Time servers have a command of their own since version 9.
            let servers =
                if language == "RHEL8" { &read["time"]["ntpservers"] } else { &read["time_servers"] };
            let mut wanted = resolved(case).settings.ntp;
            wanted.sort();
            let mut servers: Vec<String> = serde_json::from_value(servers.clone()).unwrap();
            servers.sort();
            assert_eq!(servers, wanted, "{case}, {language}");
        }
    }
    assert!(
        installer_reads("RHEL9", "timezone UTC\nserivces --enabled=x\n").unwrap_err().contains("serivces")
    );
}

/// What it reads is what the answers say.
#[test]
fn what_the_library_reads_is_what_was_said() {
    let read = |case: &str| installer_reads("RHEL9", &main_text(case, Family::Kickstart)).unwrap();
    let quay = read("quay");
    assert_eq!((&quay["locale"], &quay["keyboard"][0]), (&"nb_NO.UTF-8".into(), &"no".into()));
    assert_eq!(quay["time"]["timezone"], "Europe/Oslo");
    assert_eq!(quay["network"][0]["bondslaves"], "00:00:5e:00:53:01,00:00:5e:00:53:02");
    let vlan = &quay["network"][1];
    assert_eq!(
        (&vlan["vlanid"], &vlan["ip"], &vlan["gateway"]),
        (&"30".into(), &"192.0.2.10".into(), &"192.0.2.1".into())
    );
    assert_eq!(quay["network"][2]["hostname"], "auklet-chart.gannet.example");
    assert_eq!(quay["keys"][0][0], "root");
    assert_eq!(quay["root"]["lock"], true);
    assert_eq!((&quay["packages"][0], &quay["append"]), (&"tmux".into(), &"intel_iommu=on".into()));
    assert_eq!(quay["only"][0], "disk/by-id/nvme-Puffin_480_T1");
    let volume =
        quay["partitions"].as_array().unwrap().iter().find(|part| part["mountpoint"] == "pv.01").unwrap();
    assert_eq!((&volume["encrypted"], &volume["passphrase"]), (&true.into(), &"kittiwake & petrel".into()));
    assert_eq!(quay["volumes"][0]["size"], 30720);
    let bollard = read("bollard");
    assert_eq!(bollard["mirrors"][1]["passphrase"], "petrel $HOME `id`");
    assert_eq!((&bollard["selinux"], &bollard["firewall"]), (&2.into(), &true.into()));
    assert_eq!(bollard["environment"], "minimal-environment");
    assert_eq!(bollard["groups"], json!(["guest-agents", "Development Tools"]));
    assert_eq!(bollard["url"], "http://192.0.2.2/boot/00-00-5e-00-53-01/tidewrack-12/r1");
    let hostile = read("hostile");
    assert_eq!(hostile["users"][0]["gecos"], "it's \"Ö\" <b>&amp;</b> $HOME `id` %end #- yes {{ name }}");
}

/// Every arrangement of disks that can be said is one that the installer's library reads, in the language of each version.
#[test]
fn every_arrangement_of_disks_is_read_by_the_library() {
    let dir = tempfile::tempdir().unwrap();
    let (subject, key) = (subject(), key());
    let mut written = 0;
    for bits in 0..64_u32 {
        let is = |bit: u32| bits & (1 << bit) != 0;
        let mut toml = format!(
            "users.purser.password = {{ plain = 'tern bay at dusk' }}\nstorage.boot_mode = '{}'\nstorage.logical_volumes = {}\n",
            if is(0) { "bios" } else { "uefi" },
            is(1),
        );
        if is(2) {
            toml.push_str("storage.encrypt = { plain = \"petrel & 'guillemot' $HOME\" }\n");
        }
        // One disk, two, or a mirror of two.
        let two = "storage.disks = { a = { device = '/dev/sda' }, b = { device = '/dev/sdb' } }\n";
        let one = "storage.disks = { a = { device = '/dev/sda' } }\n";
        toml.push_str(if is(3) { two } else { one });
        if is(4) {
            toml.push_str("storage.mirror = true\n");
        }
        let on = if is(3) && !is(4) { ", disk = 'b'" } else { "" };
        let root = if on.is_empty() { "" } else { ", disk = 'a'" };
        if is(5) || is(3) {
            toml.push_str(&format!(
                "storage.volumes = [{{ mount = '/', size = '20G'{root} }}, {{ mount = 'swap', size = '2G'{root} }}, \
                 {{ mount = '/srv', size = 'rest', file_system = 'ext4'{on} }}]\n"
            ));
        }
        let settings = finish("arranged", &toml);
        let Ok(resolution) = resolve([(Layer::Site, &settings)], &subject, &BTreeMap::new()) else {
            continue;
        };
        let Ok(files) = write(Family::Kickstart, &resolution, &target(&subject, Some(&key), "")) else {
            continue;
        };
        fs::write(dir.path().join(format!("{bits}.cfg")), &files[0].text).unwrap();
        written += 1;
    }
    assert!(written >= 32, "{written} arrangements can be said");
    let program = r#"
import glob, sys, warnings
sys.path.insert(0, sys.argv[1])
from pykickstart.parser import KickstartParser
from pykickstart.version import makeVersion
warnings.simplefilter("ignore")
for version in sys.argv[3:]:
    for path in sorted(glob.glob(sys.argv[2] + "/*.cfg")):
        handler = makeVersion(version)
        try:
            KickstartParser(handler).readKickstart(path)
            mounts = [part.mountpoint for part in handler.partition.partitions]
            mounts += [volume.mountpoint for volume in handler.logvol.lvList] + [raid.mountpoint for raid in handler.raid.raidList]
            if not handler.autopart.autopart and "/" not in mounts:
                raise ValueError("there is no place for the system: %s" % mounts)
        except Exception as error:
            print(version, path, error, open(path).read().split("%pre")[0])
"#;
    let mut words =
        vec!["-c".to_owned(), program.into(), witness("python"), dir.path().to_str().unwrap().into()];
    words.extend(VERSIONS.map(|(language, _)| language.to_owned()));
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let (ok, said) = run("/usr/bin/python3", &words, "");
    assert!(ok && said.is_empty(), "{said}");
}
