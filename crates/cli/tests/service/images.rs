//! Images through the real service: ISOs in place and uploaded, archives, revisions, and what happens when files change.

use std::{fs, io::Read, path::Path, process::Command, time::Duration};

use serde_json::{Value, json};

use crate::support::{
    need,
    service::Service,
    site::{MAC, loopback},
    wait_for,
};

/// Made-up content of a size, the same at every run.
fn content(seed: u32, size: usize) -> Vec<u8> {
    (0..size as u32).map(|n| (n.wrapping_mul(2_654_435_761).wrapping_add(seed) >> 13) as u8).collect()
}

/// A tree as an installer's disc has it, with an initrd that says what it is.
fn tree(service: &Service<'_>) -> String {
    service.write("tree/install.amd/vmlinuz", kernel("6.1.0-18-amd64"));
    service.write("tree/pool/main/a long name with spaces_1.2-3.udeb", content(3, 70_001));
    service.write("tree/.disk/info", "Tidewrack 12.5.0 \"Skerry\" - Official amd64 NETINST\n");
    service.write("tree/dists/skerry/Release", "Suite: stable\nVersion: 12.5\nComponents: main contrib\n");
    service.write("tree/empty", "");
    service.write("root/usr/bin/debconf", "#!/bin/sh\n");
    service.write("root/lib/modules/6.1.0-18-amd64/modules.dep", "");
    let folder = service.folder.path();
    let pack = "cd root && find . | cpio -o -H newc --quiet | gzip > ../tree/install.amd/initrd.gz";
    assert!(
        Command::new("sh").args(["-ec", pack]).current_dir(folder).status().unwrap().success(),
        "cpio is needed"
    );
    std::os::unix::fs::symlink(".", folder.join("tree/debian")).unwrap();
    folder.join("tree").to_str().unwrap().into()
}

/// A kernel's head as the x86 boot protocol has it.
fn kernel(version: &str) -> Vec<u8> {
    let mut bytes = content(1, 300_000);
    bytes[..0x400].fill(0);
    bytes[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    bytes[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    bytes[0x236] = 1;
    let text = format!("{version} (builder@quay.example) #1\0");
    bytes[0x1200..0x1200 + text.len()].copy_from_slice(text.as_bytes());
    bytes
}

fn iso(service: &Service<'_>, name: &str) -> String {
    tree(service);
    iso_of_tree(service, name, &["-R", "-J", "-V", "TIDEWRACK_12"])
}

/// An ISO of the tree that is there.
fn iso_of_tree(service: &Service<'_>, name: &str, flavour: &[&str]) -> String {
    let folder = service.folder.path();
    let made = Command::new("xorriso")
        .args(["-as", "mkisofs", "-quiet"])
        .args(flavour)
        .args(["-o", name, "tree"])
        .current_dir(folder)
        .output()
        .expect("xorriso is needed: install the package xorriso");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    folder.join(name).to_str().unwrap().into()
}

fn curl(words: &[&str]) -> Vec<u8> {
    let output = Command::new("curl").args(["-s", "-m", "20"]).args(words).output().unwrap();
    assert!(output.status.success(), "curl {words:?}: {:?}", output.status);
    output.stdout
}

fn status(url: &str) -> String {
    String::from_utf8(curl(&["-o", "/dev/null", "-w", "%{http_code}", url])).unwrap()
}

/// Waits until every file of the current revision was read.
fn verified(service: &Service<'_>, image: &str) -> Value {
    wait_for("every file to be read", Duration::from_secs(20), || {
        let image = service.json(&["image", "show", image]);
        image["current"]["verified"].is_string().then_some(image)
    })
}

#[test]
fn an_iso_is_recognised_and_served_from_where_it_lies() {
    let service = loopback(25_000);
    let iso = iso(&service, "tidewrack.iso");
    let found = service.run(&["image", "inspect", &iso, "--in-place"]);
    for part in [
        "would be  tidewrack-12.5 r1",
        "install.amd/vmlinuz, kernel_version of the boot header",
        "6.1.0-18-amd64",
        "preseed",
        "TIDEWRACK_12",
        "dists/skerry/Release, Version",
        "offers",
    ] {
        assert!(found.contains(part), "{part}: {found}");
    }
    assert_eq!(service.json(&["image", "list"]).as_array().unwrap().len(), 0, "looking saves nothing");
    service.run(&["image", "add", &iso, "--in-place", "--yes"]);
    let image = verified(&service, "tidewrack-12.5");
    assert_eq!(image["revision"]["volume"]["in-place"]["path"], iso.as_str());
    assert!(image["revision"]["manifest_hash"].is_string());
    assert_eq!(
        fs::read_dir(service.folder.path().join("data/content")).unwrap().count(),
        0,
        "nothing is copied"
    );

    let base = format!("http://127.0.0.1:25002/boot/{}/tidewrack-12.5/r1", MAC.replace(':', "-"));
    let on_disk = |path: &str| fs::read(service.folder.path().join("tree").join(path)).unwrap();
    for (path, url) in [
        ("install.amd/vmlinuz", "install.amd/vmlinuz"),
        ("install.amd/initrd.gz", "debian/debian/install.amd/initrd.gz"),
        ("install.amd/initrd.gz", "INSTALL.AMD/INITRD.GZ"),
        (
            "pool/main/a long name with spaces_1.2-3.udeb",
            "pool/main/a%20long%20name%20with%20spaces_1.2-3.udeb",
        ),
        ("empty", "empty"),
    ] {
        assert!(curl(&[&format!("{base}/{url}")]) == on_disk(path), "{url}");
        if path == "empty" {
            // curl takes a transfer of size 0 for an error.
            continue;
        }
        let tftp = format!("tftp://127.0.0.1:25001/boot/{}/tidewrack-12.5/r1/{url}", MAC.replace(':', "-"));
        // curl decodes what stands encoded in a TFTP URL: the service sees the path itself.
        assert!(curl(&[&tftp]) == on_disk(path), "{tftp}");
    }
    let kernel = on_disk("install.amd/vmlinuz");
    let url = format!("{base}/install.amd/vmlinuz");
    assert!(curl(&["-r", "2000-5999", &url]) == kernel[2000..6000]);
    assert!(curl(&["-r", "-9", &url]) == kernel[kernel.len() - 9..]);
    let head = String::from_utf8(curl(&["-I", &url])).unwrap().to_lowercase();
    let digest = image["revision"]["files"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["path"] == "install.amd/vmlinuz")
        .unwrap();
    let tag = format!("etag: \"{}\"", digest["sha256"].as_str().unwrap());
    assert!(
        head.contains("200 ok") && head.contains(&tag) && head.contains("content-length: 300000"),
        "{head}"
    );
    // The manifest's digests are right: as sha256sum says.
    let witness = Command::new("sha256sum")
        .arg(service.folder.path().join("tree/install.amd/vmlinuz"))
        .output()
        .unwrap();
    assert!(witness.stdout.starts_with(digest["sha256"].as_str().unwrap().as_bytes()));
    let folder = String::from_utf8(curl(&[&format!("{base}/pool/main/")])).unwrap();
    assert!(
        folder.contains("<a href=\"./a%20long%20name%20with%20spaces_1%2E2-3%2Eudeb\">")
            || folder.contains("_1.2-3.udeb\">"),
        "{folder}"
    );
    assert!(curl(&[&format!("{base}/tidewrack-12.5.iso")]) == fs::read(&iso).unwrap(), "the ISO as a whole");
    assert_eq!(status(&format!("{base}/nothing/here")), "404");
    assert_eq!(status(&format!("{base}/../../../../etc/passwd")), "404");
}

#[test]
fn an_iso_that_changes_stops_being_served_and_says_so() {
    let mut service = loopback(25_010);
    let iso = iso(&service, "tidewrack.iso");
    service.run(&["image", "add", &iso, "--in-place", "--name", "tidewrack-12", "--yes"]);
    verified(&service, "tidewrack-12");
    let url = format!("http://127.0.0.1:25012/boot/{MAC}/tidewrack-12/r1/install.amd/vmlinuz");
    assert_eq!(status(&url), "200");
    // One byte within the kernel, the size as it was.
    let mut bytes = fs::read(&iso).unwrap();
    let at = bytes.windows(4).position(|window| window == b"HdrS").unwrap() + 50_000;
    bytes[at] ^= 1;
    let whole = fs::read(&iso).unwrap();
    let times = fs::metadata(&iso).unwrap().modified().unwrap();
    fs::write(&iso, &bytes).unwrap();
    assert_eq!(status(&url), "503");
    assert_eq!(status(&url), "503");
    let list = service.run(&["image", "list"]);
    assert!(list.contains("was modified since it was looked into"), "{list}");
    let check = service.try_run(&["check"]);
    let said = String::from_utf8_lossy(&check.stdout).into_owned();
    assert!(
        !check.status.success()
            && said.contains("image tidewrack-12 r1")
            && said.contains("image verify tidewrack-12"),
        "{said}"
    );
    // Also where the time was set back: reading it tells.
    fs::File::options().write(true).open(&iso).unwrap().set_modified(times).unwrap();
    let (code, said) = service.fail(&["image", "verify", "tidewrack-12"]);
    assert_eq!(code, 1);
    assert!(said.contains("install.amd/vmlinuz missing or changed"), "{said}");
    assert_eq!(status(&url), "503");
    // It is on record, and stays so over a restart.
    assert!(service.signal("TERM"));
    service.spawn();
    assert_eq!(status(&url), "503");
    fs::write(&iso, &whole).unwrap();
    fs::File::options().write(true).open(&iso).unwrap().set_modified(times).unwrap();
    service.run(&["image", "verify", "tidewrack-12"]);
    assert_eq!(status(&url), "200");
}

#[test]
fn revisions_go_forward_and_back_and_what_is_in_use_stays() {
    let service = loopback(25_020);
    let iso = iso(&service, "tidewrack.iso");
    let add = |more: &[&str]| {
        service.run(&[&["image", "add", &iso, "--name", "tidewrack-12", "--yes"], more].concat())
    };
    add(&["--wait"]);
    let again = service.try_run(&["image", "add", &iso, "--name", "tidewrack-12", "--yes"]);
    assert!(String::from_utf8_lossy(&again.stderr).contains("exactly revision 1"), "{again:?}");
    add(&["--parameter", "quiet"]);
    assert_eq!(service.json(&["image", "show", "tidewrack-12"])["current"]["number"], 2);
    assert_eq!(
        fs::read_dir(service.folder.path().join("data/content")).unwrap().count(),
        1,
        "the same ISO is kept once"
    );
    let fails = |words: &[&str], what: &str| {
        let (_, said) = service.fail(words);
        assert!(said.contains(what), "{words:?}: {said}");
    };
    service.run(&["image", "change", "tidewrack-12", "--set", "title=Tidewrack 12 for kiosks"]);
    assert_eq!(service.json(&["image", "show", "tidewrack-12"])["title"], "Tidewrack 12 for kiosks");
    fails(&["image", "change", "tidewrack-12", "--set", "title= "], "title: empty");
    fails(&["image", "retire", "tidewrack-12", "2"], "is the current one");
    fails(&["image", "remove", "tidewrack-12", "--revision", "2", "--yes"], "is the current one");
    service.run(&["image", "set-current", "tidewrack-12", "1"]);
    service.add_answers();
    service.add_machine();
    service.arm();
    fails(&["image", "remove", "tidewrack-12", "--yes"], "install 1 of tidewrack-12 goes on");
    let install = service.json(&["install", "show", "1"]);
    let revision = service.json(&["image", "show", "tidewrack-12", "--revision", "1"]);
    assert_eq!(install["manifest_hash"], revision["manifest_hash"]);
    service.run(&["image", "set-current", "tidewrack-12", "2"]);
    fails(&["image", "remove", "tidewrack-12", "--revision", "1", "--yes"], "install 1 of it goes on");
    service.run(&["install", "cancel", "1", "--yes"]);
    service.run(&["image", "retire", "tidewrack-12", "1"]);
    fails(&["image", "set-current", "tidewrack-12", "1"], "is retired");
    service.run(&["image", "restore", "tidewrack-12", "1"]);
    service.run(&["image", "remove", "tidewrack-12", "--revision", "1", "--yes"]);
    add(&["--parameter", "splash"]);
    let numbers: Vec<i64> = service.json(&["image", "show", "tidewrack-12"])["all"]
        .as_array()
        .unwrap()
        .iter()
        .map(|revision| revision["number"].as_i64().unwrap())
        .collect();
    assert_eq!(numbers, [3, 2], "a number is never used again");
    let odd = service.run(&["image", "add", &iso, "--name", "tidewrack-13", "--yes"]);
    assert!(
        odd.contains("the name 'tidewrack-13' says 13, but dists/skerry/Release, Version says 12.5"),
        "{odd}"
    );
}

#[test]
fn archives_and_cut_off_isos_are_what_they_are() {
    let service = loopback(25_030);
    tree(&service);
    let folder = service.folder.path();
    for (name, packer) in
        [("tree.tar", "cat"), ("tree.tar.gz", "gzip"), ("tree.tar.xz", "xz"), ("tree.tar.zst", "zstd -q")]
    {
        let pack = format!("tar -C tree --exclude=debian -c . | {packer} > {name}");
        assert!(Command::new("sh").args(["-ec", &pack]).current_dir(folder).status().unwrap().success());
        let image = name.replace('.', "-");
        service.run(&["image", "add", folder.join(name).to_str().unwrap(), "--name", &image, "--yes"]);
        let image = service.json(&["image", "show", &image]);
        assert_eq!(image["current"]["file_count"], 6, "{name}: {image}");
        assert_eq!(image["current"]["kernel_version"], "6.1.0-18-amd64");
    }
    let iso = iso_of_tree(&service, "again.iso", &["-R"]);
    let bytes = fs::read(&iso).unwrap();
    let cut = service.write("cut.iso", &bytes[..bytes.len() / 2]);
    let (code, text) = service.fail(&["image", "add", &cut, "--name", "half", "--yes"]);
    assert!(code == 1 && text.contains("it is not served: iso: it is cut off: it has "), "{text}");
    service.add_answers();
    service.add_machine();
    let (_, said) =
        service.fail(&["install", "arm", "auklet-chart", "--image", "half", "--answers", "quay-server"]);
    assert!(said.contains("'half' r1 cannot be served: iso: it is cut off"), "{said}");
    let (_, said) = service.fail(&["image", "add", "/etc/hostname", "--in-place", "--yes"]);
    assert!(said.contains("in_place: /etc/hostname: this is no ISO 9660 volume"), "{said}");
    let (_, said) = service.fail(&["image", "add", &service.write("notes.txt", "nothing to start"), "--yes"]);
    assert!(
        said.contains("kernel: what is to be started was not recognised") && said.contains("kind: "),
        "{said}"
    );
}

#[test]
fn a_large_file_goes_on_where_it_broke_off() {
    let mut service = loopback(25_040);
    let large = service.write("large.img", content(9, 70 * 1024 * 1024));
    let adding =
        ["image", "add", &large, "--name", "large", "--kind", "tool", "--kernel", "large.img", "--yes"];
    let mut sender = Command::new(crate::support::service::LASTMILE)
        .args(["--server", service.server()])
        .args(adding)
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let part = wait_for("the first piece", Duration::from_secs(20), || {
        let uploads = fs::read_dir(service.folder.path().join("data/uploads")).ok()?;
        let part = uploads
            .filter_map(Result::ok)
            .find(|entry| entry.path().extension().is_some_and(|kind| kind == "part"))?;
        (part.metadata().ok()?.len() >= 32 * 1024 * 1024).then(|| part.path())
    });
    // The service dies in the middle of it, and comes back.
    service.signal("KILL");
    assert!(fs::metadata(&part).unwrap().len() >= 32 * 1024 * 1024);
    service.spawn();
    let ended = sender.wait().unwrap();
    if !ended.success() {
        // The client gave up before the service was back: another try goes on with what is there.
        service.run(&adding);
    }
    let image = service.json(&["image", "show", "large"]);
    let witness = Command::new("sha256sum").arg(&large).output().unwrap();
    assert!(witness.stdout.starts_with(image["revision"]["files"][0]["sha256"].as_str().unwrap().as_bytes()));
    assert_eq!(fs::read_dir(service.folder.path().join("data/uploads")).unwrap().count(), 0);
}

/// Something that `make test` unpacked below `target/`.
fn unpacked(path: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses").join(path);
    assert!(path.exists(), "{} is missing: `make packages-test` unpacks it", path.display());
    path.canonicalize().unwrap().to_str().unwrap().into()
}

#[test]
fn discs_whose_program_lies_in_a_boot_image_are_what_they_are() {
    let service = loopback(23_840);
    let inspect = |path: &str| service.json(&["image", "inspect", path]);
    let test = inspect(&unpacked("root/usr/lib/memtest86+/memtest86+x64.iso"));
    assert_eq!(test["draft"]["kind"], "tool", "{test}");
    assert_eq!(test["draft"]["kernel"], "EFI/BOOT/bootx64.efi", "{test}");
    let scripts = inspect(&need("/usr/lib/ipxe/ipxe.iso", "ipxe"));
    assert_eq!(scripts["draft"]["program"], "el-torito/efi/boot/bootx64.efi", "{scripts}");
    assert_eq!(scripts["draft"]["cpu"], "x64", "{scripts}");
    // What BIOS starts from a disc is no program that a loader could start.
    let rescue = inspect(&unpacked("root/usr/lib/grub-rescue/grub-rescue-cdrom.iso"));
    let said = rescue.to_string();
    assert!(
        said.contains("nothing that could be started") && said.contains("BIOS starts from a disc"),
        "{said}"
    );
}

#[test]
fn loaders_are_found_in_package_files() {
    let service = loopback(23_850);
    let folder = unpacked("arm64");
    let package = |name: &str| {
        let all = std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
        let found =
            all.into_iter().find(|path| path.file_name().unwrap().to_str().unwrap().starts_with(name));
        found.unwrap().to_str().unwrap().to_owned()
    };
    let (shim, grub, modules) =
        (package("shim-signed_"), package("grub-efi-arm64-signed_"), package("grub-efi-arm64-bin_"));
    // Half of a loader is none.
    assert_eq!(service.json(&["loader", "find", "--package", &shim]), json!([]));
    let all = ["loader", "find", "--package", &shim, "--package", &grub, "--package", &modules];
    let found = service.json(&all);
    assert_eq!(found[0]["name"], "signed-arm64", "{found}");
    assert_eq!(found[0]["facts"]["architecture"]["value"], "uefi-arm64", "{found}");
    assert_eq!(found[0]["files"].as_array().unwrap().len(), 3, "{found}");
    service.run(&[&all[..], &["--add", "signed-arm64"]].concat());
    let loader = service.json(&["loader", "show", "signed-arm64"]);
    assert_eq!(
        (&loader["architecture"], &loader["language"]),
        (&json!("uefi-arm64"), &json!("grub")),
        "{loader}"
    );
    let again = service.json(&all);
    assert!(again[0]["in_the_way"].as_str().unwrap().contains("exists already"), "{again}");
    // Its files are those of the packages, as dpkg reads them.
    let boot = curl(&["http://127.0.0.1:23852/loader/signed-arm64/grubaa64.efi"]);
    let unpacked =
        Command::new(need("/usr/bin/dpkg-deb", "dpkg")).args(["--fsys-tarfile", &grub]).output().unwrap();
    let mut archive = tar::Archive::new(unpacked.stdout.as_slice());
    let mut entries = archive.entries().unwrap().map(|entry| entry.unwrap());
    let mut entry = entries.find(|entry| entry.path().unwrap().ends_with("grubnetaa64.efi.signed")).unwrap();
    let mut expected = Vec::new();
    entry.read_to_end(&mut expected).unwrap();
    assert!(boot == expected, "the loader is not what its package has");
    let wrong = service.try_run(&["loader", "find", "--package", &service.write("quay.deb", "no package")]);
    let said = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(said.contains("packages[0]") && said.contains("no Debian package"), "{said}");
    assert_eq!(wrong.status.code(), Some(1));
    let many: Vec<&str> = (0..17).flat_map(|_| ["--package", shim.as_str()]).collect();
    let (code, said) = service.fail(&[&["loader", "find"], many.as_slice()].concat());
    assert!(said.contains("17 packages, and at most 16"), "{said}");
    assert_eq!(code, 1);
}
