//! Every call that changes something, and how it is sent.

use std::{
    io::{Read, Write},
    net::TcpStream,
    process::Command,
    sync::LazyLock,
    time::Duration,
};

use lastmile_core::model::image::Sha256;
use object::{
    Architecture, BinaryFormat, Endianness, SectionKind,
    write::{Object, StandardSegment},
};
use serde_json::{Value, json};

use crate::support::need;

/// One call that changes something.
pub(crate) struct Call {
    pub(crate) method: &'static str,
    /// As the document has it.
    pub(crate) template: &'static str,
    pub(crate) path: String,
    pub(crate) content_type: &'static str,
    pub(crate) body: Vec<u8>,
    pub(crate) further: String,
}

pub(crate) fn call(
    method: &'static str,
    template: &'static str,
    keys: &[(&str, String)],
    body: &Value,
) -> Call {
    let mut path = template.to_owned();
    for (key, value) in keys {
        path = path.replace(&format!("{{{key}}}"), value);
    }
    let body = if body.is_null() { Vec::new() } else { body.to_string().into_bytes() };
    Call { method, template, path, content_type: "application/json", body, further: String::new() }
}

pub(crate) fn file(path: &str, content: &[u8]) -> Value {
    json!({ "path": path, "size": content.len(), "sha256": Sha256::of(content).to_string() })
}

/// Content that an image or a loader of that number is made of.
fn content(number: usize) -> Vec<u8> {
    format!("content {number}").into_bytes()
}

/// The loader that Debian's package `ipxe` brings, and a package file with it.
pub(crate) const PACKAGED: &str = "script-bios";
pub(crate) static PACKAGE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    let loaders = folder.path().join("usr/lib/ipxe");
    std::fs::create_dir_all(&loaders).unwrap();
    std::fs::create_dir(folder.path().join("DEBIAN")).unwrap();
    std::fs::copy(need("/usr/lib/ipxe/undionly.kpxe", "ipxe"), loaders.join("undionly.kpxe")).unwrap();
    let control = "Package: quay-loader\nVersion: 1\nArchitecture: all\nMaintainer: Quay <quay@gannet.example>\n\
                   Description: a loader\n";
    std::fs::write(folder.path().join("DEBIAN/control"), control).unwrap();
    let file = folder.path().join("quay.deb");
    let build = Command::new(need("/usr/bin/dpkg-deb", "dpkg"))
        .args(["--build", "-Znone"])
        .args([folder.path(), &file])
        .output()
        .unwrap();
    assert!(build.status.success(), "{build:?}");
    std::fs::read(file).unwrap()
});

/// A kernel's head as the x86 boot protocol has it, with its version.
pub(crate) static KERNEL: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut bytes = vec![0; 0x2000];
    bytes[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    bytes[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    bytes[0x236] = 1;
    let text = b"6.1.0-57-quay (builder@gannet.example) #1 SMP";
    bytes[0x1200..0x1200 + text.len()].copy_from_slice(text);
    bytes
});

/// A tar archive of its modules: one, for a network card that nobody built.
pub(crate) static MODULES: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut module = Object::new(BinaryFormat::Elf, Architecture::X86_64, Endianness::Little);
    let segment = module.segment_name(StandardSegment::Data).to_vec();
    let section = module.add_section(segment, b".modinfo".to_vec(), SectionKind::ReadOnlyData);
    let texts = b"name=dune\0alias=pci:v00001A99d00002400sv*sd*bc*sc*i*\0depends=\0";
    module.append_section_data(section, texts, 1);
    let module = module.write().unwrap();
    let mut archive = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_ustar();
    header.set_size(module.len() as u64);
    header.set_mode(0o644);
    archive.append_data(&mut header, "kernel/drivers/net/ethernet/dune.ko", module.as_slice()).unwrap();
    archive.into_inner().unwrap()
});

/// Every call that changes something, the `turn`th time, about a few things that all of them fight for.
pub(crate) fn calls(turn: usize) -> Vec<Call> {
    let (few, one) = (turn % 7, turn % 3);
    let name = |what: &str| [("name", format!("{what}-{few}"))];
    let mac = |number: usize| format!("02:00:00:00:{:02x}:{:02x}", number / 256 % 256, number % 256);
    let machine = |label: &str| json!({ "name": format!("m-{few}"), "macs": [mac(few)], "labels": [label], "details": { "turn": turn.to_string() } });
    let subnet = |number: usize| {
        json!({ "name": format!("s-{number}"), "network": format!("10.1.{number}.0/24"), "relays": ["127.0.0.2"],
            "pools": [format!("10.1.{number}.50-10.1.{number}.99")], "lease_secs": 600 + turn })
    };
    let reserved = format!("10.1.{one}.{}", 10 + few);
    let image = |number: usize| {
        json!({ "name": format!("image-{number}"), "kind": "installer", "family": "preseed", "kernel": "linux",
            "files": [file("linux", &content(turn % 5))] })
    };
    let arm = json!({ "machine": format!("m-{few}"), "image": "tidewrack-12", "answers": "quay-server" });
    let number = |number: usize| [("number", number.to_string())];
    let numbers = json!({ "numbers": [1 + turn % 40, 2 + turn % 40] });
    let bytes = content(turn % 5);
    let packaged = [("name", PACKAGED.to_owned())];
    let upload = json!({ "name": format!("u-{few}"), "size": 4, "modified": "now" });
    let to = |what: &str| json!({ "to": format!("{what}-{}", (few + one) % 7) });
    let csv = format!(
        "name,mac,labels,detail.turn\nm-{few},{},kiosk,{turn}\nm-{},{},,\n",
        mac(few),
        (few + 1) % 7,
        mac((few + 1) % 7)
    );
    vec![
        call("post", "/machines", &[], &machine("kiosk")),
        call("put", "/machines/{name}", &name("m"), &machine("gate")),
        call("post", "/installs", &[], &arm),
        call(
            "post",
            "/installs/several",
            &[],
            &json!({ "machines": [format!("m-{few}"), format!("m-{}", (few + 1) % 7)], "image": "tidewrack-12",
                "answers": "quay-server" }),
        ),
        call("post", "/installs/{number}/cancel", &number(1 + turn % 60), &Value::Null),
        call("post", "/installs/{number}/retry", &number(1 + turn % 60), &Value::Null),
        call("post", "/installs/{number}/answer", &number(1 + turn % 60), &json!({ "asked": {} })),
        call("post", "/installs/retry", &[], &numbers),
        call("post", "/installs/cancel", &[], &numbers),
        call(
            "post",
            "/jobs",
            &[],
            &json!({ "machines": [format!("m-{few}")], "task": { "kind": "survey" } }),
        ),
        call("post", "/jobs/cancel", &[], &numbers),
        call("delete", "/machines/{name}", &name("m"), &Value::Null),
        call("post", "/machines/import", &[], &json!({ "csv": csv })),
        call("post", "/machines/adopt", &[], &json!({ "macs": [mac(few)], "name": format!("m-{few}") })),
        call(
            "post",
            "/machines/change",
            &[],
            &json!({ "machines": [format!("m-{few}")],
                "edits": [{ "kind": "set", "key": "details.change", "value": turn.to_string() }] }),
        ),
        call("post", "/machines/remove", &[], &json!({ "machines": [format!("m-{}", (few + 2) % 7)] })),
        call("post", "/subnets", &[], &subnet(one)),
        call("put", "/subnets/{name}", &[("name", format!("s-{one}"))], &subnet(one)),
        call(
            "post",
            "/subnets/{name}/reservations",
            &[("name", format!("s-{one}"))],
            &json!({ "address": reserved, "client": mac(few) }),
        ),
        call(
            "delete",
            "/subnets/{name}/reservations/{address}",
            &[("name", format!("s-{one}")), ("address", reserved)],
            &Value::Null,
        ),
        call(
            "delete",
            "/subnets/{name}/leases/{address}",
            &[("name", format!("s-{one}")), ("address", format!("10.1.{one}.50"))],
            &Value::Null,
        ),
        call("delete", "/subnets/{name}", &[("name", format!("s-{one}"))], &Value::Null),
        Call {
            content_type: "application/octet-stream",
            body: bytes.clone(),
            ..call("put", "/content/{sha256}", &[("sha256", Sha256::of(&bytes).to_string())], &Value::Null)
        },
        call("post", "/uploads", &[], &upload),
        Call {
            content_type: "application/octet-stream",
            body: b"abcd".to_vec(),
            further: "Upload-Offset: 0\r\n".into(),
            ..call("patch", "/uploads/{id}", &[("id", turn.to_string())], &Value::Null)
        },
        call("delete", "/uploads/{id}", &[("id", turn.to_string())], &Value::Null),
        call(
            "post",
            "/loaders",
            &[],
            &json!({ "name": format!("loader-{few}"), "architecture": "uefi-x64", "class": format!("class-{few}"),
                "boot_file": "boot.efi", "files": [file("boot.efi", &bytes)] }),
        ),
        call(
            "put",
            "/loaders/{name}",
            &name("loader"),
            &json!({ "name": format!("loader-{few}"), "architecture": "uefi-x64", "class": format!("class-{few}-{turn}"),
                "boot_file": "boot.efi", "files": [file("boot.efi", &bytes)] }),
        ),
        call("post", "/loaders/packaged/{name}", &packaged, &Value::Null),
        call("delete", "/loaders/{name}", &packaged, &Value::Null),
        call(
            "post",
            "/packages/loaders/{name}",
            &packaged,
            &json!({ "packages": [file("quay.deb", &PACKAGE)] }),
        ),
        call("delete", "/loaders/{name}", &packaged, &Value::Null),
        call("delete", "/loaders/{name}", &name("loader"), &Value::Null),
        call(
            "post",
            "/survey/system",
            &[],
            &json!({ "name": format!("survey-{few}"),
                "kernel": { "from": "files", "kernel": file("vmlinuz", &KERNEL), "modules": file("modules.tar", &MODULES) } }),
        ),
        call("post", "/images", &[], &image(one)),
        call(
            "put",
            "/images/{name}/title",
            &[("name", format!("image-{one}"))],
            &json!({ "title": format!("Title {turn}") }),
        ),
        call(
            "put",
            "/images/{name}/current",
            &[("name", format!("image-{one}"))],
            &json!({ "number": 1 + few }),
        ),
        call(
            "post",
            "/images/{name}/revisions/{number}/retire",
            &[("name", format!("image-{one}")), ("number", (1 + few).to_string())],
            &Value::Null,
        ),
        call(
            "post",
            "/images/{name}/revisions/{number}/restore",
            &[("name", format!("image-{one}")), ("number", (1 + few).to_string())],
            &Value::Null,
        ),
        call(
            "post",
            "/images/{name}/revisions/{number}/verify",
            &[("name", format!("image-{one}")), ("number", (1 + few).to_string())],
            &Value::Null,
        ),
        call(
            "delete",
            "/images/{name}/revisions/{number}",
            &[("name", format!("image-{one}")), ("number", (1 + few).to_string())],
            &Value::Null,
        ),
        call(
            "post",
            "/images/{name}/rename",
            &[("name", format!("image-{one}"))],
            &json!({ "to": format!("image-{}", (one + 1) % 3) }),
        ),
        call("delete", "/images/{name}", &[("name", format!("image-{one}"))], &Value::Null),
        call(
            "put",
            "/menus/{name}",
            &name("menu"),
            &json!({ "title": format!("Turn {turn}"), "entries": [
                { "key": "disk", "title": "Local disk", "action": "local-disk" }] }),
        ),
        call("post", "/menus/{name}/copy", &name("menu"), &to("menu")),
        call("post", "/menus/{name}/rename", &name("menu"), &to("menu")),
        call("delete", "/menus/{name}", &name("menu"), &Value::Null),
        call("put", "/labels/{name}", &name("label"), &json!({ "parameters": [format!("turn={turn}")] })),
        call("post", "/labels/{name}/rename", &name("label"), &to("label")),
        call("delete", "/labels/{name}", &name("label"), &Value::Null),
        call(
            "put",
            "/rules/{name}",
            &name("rule"),
            &json!({ "condition": "surveyed", "labels": [format!("turn-{turn}")] }),
        ),
        call("post", "/rules/{name}/rename", &name("rule"), &to("rule")),
        call("post", "/rules/run", &[], &json!({ "all": true })),
        call("post", "/proposals/accept", &[], &json!({ "proposals": [{ "who": mac(few) }] })),
        call("post", "/proposals/decline", &[], &json!({ "proposals": [{ "who": mac(few) }] })),
        call("delete", "/rules/{name}", &name("rule"), &Value::Null),
        call(
            "post",
            "/locations/import",
            &[],
            &json!({ "csv": format!("switch,port,rack\nsw-{few},1,r{turn}\n") }),
        ),
        call("post", "/locations/remove", &[], &json!({ "switch": format!("sw-{few}") })),
        call("put", "/settings", &[], &json!({ "verify_hours": turn % 100 })),
        call(
            "put",
            "/answers/{name}",
            &name("answers"),
            &json!({ "locale": "en_GB.UTF-8", "keyboard": "gb" }),
        ),
        call("post", "/answers/{name}/copy", &name("answers"), &to("answers")),
        call("post", "/answers/{name}/rename", &name("answers"), &to("answers")),
        call("delete", "/answers/{name}", &name("answers"), &Value::Null),
        call(
            "post",
            "/naming",
            &[],
            &json!({ "machines": [format!("m-{few}")], "name": format!("m-{}", (few + one) % 7) }),
        ),
        call(
            "put",
            "/webhooks/{name}",
            &name("webhook"),
            &json!({ "url": format!("http://127.0.0.1:9/{turn}") }),
        ),
        call("post", "/webhooks/{name}/trial", &name("webhook"), &Value::Null),
        call("post", "/deliveries/{number}/send", &number(1 + few), &Value::Null),
        call("post", "/deliveries/{number}/abandon", &number(1 + few), &Value::Null),
        call("post", "/webhooks/{name}/rename", &name("webhook"), &to("webhook")),
        call("delete", "/webhooks/{name}", &name("webhook"), &Value::Null),
    ]
}

impl Call {
    /// Sends it; the connection is the caller's to read or to close.
    pub(crate) fn send(&self, port: u16) -> std::io::Result<TcpStream> {
        let mut stream = TcpStream::connect(("127.0.0.1", port))?;
        let head = format!(
            "{} /api/v1{} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: {}\r\nContent-Length: {}\r\n{}Connection: \
             close\r\n\r\n",
            self.method.to_uppercase(),
            self.path,
            self.content_type,
            self.body.len(),
            self.further
        );
        stream.write_all(&[head.as_bytes(), &self.body].concat())?;
        Ok(stream)
    }

    /// Sends it and waits for the answer's status.
    pub(crate) fn status(&self, port: u16) -> Option<u16> {
        let mut stream = self.send(port).ok()?;
        stream.set_read_timeout(Some(Duration::from_secs(20))).ok()?;
        let mut answer = String::new();
        stream.read_to_string(&mut answer).ok()?;
        answer.split(' ').nth(1)?.parse().ok()
    }
}
