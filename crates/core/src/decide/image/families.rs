//! Which installer or live system a set of files is, by the files that each of them needs.

use std::{collections::BTreeMap, io::Read};

use lastmile_formats::{cpu::Cpu, read_at::ReadAt, wim};
use quick_xml::{Reader, events::Event};

use super::FileSet;
use crate::model::image::{Edition, Family, Found, ImageKind, Recognition};

/// Longest text file that is read.
const MOST_TEXT: usize = 4 * 1024 * 1024;

/// Recognises `files` as one of the families; what is found goes into `found`.
pub(super) fn recognise(files: &impl FileSet, found: &mut Recognition) {
    let recognisers = [kickstart, casper, windows, debian_disc, live];
    for recogniser in recognisers {
        if recogniser(&Look(files), found).is_some() {
            return;
        }
    }
}

/// Looks into a set of files.
struct Look<'a>(&'a dyn FileSet);

impl Look<'_> {
    /// The path that is `path` in any case.
    fn path(&self, path: &str) -> Option<String> {
        self.0.files().iter().find(|(name, _)| name.eq_ignore_ascii_case(path)).map(|(name, _)| name.clone())
    }

    fn text(&self, path: &str) -> Option<(String, String)> {
        let path = self.path(path)?;
        let bytes = self.0.open(&path).ok()?.read_up_to(0, MOST_TEXT).ok()?;
        Some((String::from_utf8_lossy(&bytes).into_owned(), path))
    }

    fn any(&self, is_it: impl Fn(&str) -> bool) -> Option<String> {
        self.0.files().iter().find(|(name, _)| is_it(name)).map(|(name, _)| name.clone())
    }
}

/// `.treeinfo` (productmd, "treeinfo file format 1"): the tree of an installer that reads kickstart.
fn kickstart(look: &Look<'_>, found: &mut Recognition) -> Option<()> {
    let (text, path) = look.text(".treeinfo")?;
    let ini = ini(&text);
    let get = |section: &str, key: &str| {
        let value = ini.get(section)?.get(key)?;
        Some(Found::new(value.clone(), format!("{path}, [{section}] {key}")))
    };
    found.family = Some(Found::new(Family::Kickstart, format!("{path} is there")));
    found.kind = Some(Found::new(ImageKind::Installer, format!("{path} is there")));
    found.system = get("release", "name").or_else(|| get("general", "family"));
    found.version = get("release", "version").or_else(|| get("general", "version"));
    let arch = get("tree", "arch").or_else(|| get("general", "arch"));
    if let Some(arch) = arch {
        found.cpu = Cpu::by_name(&arch.value).map(|cpu| Found::new(cpu, arch.from.clone()));
        let section = format!("images-{}", arch.value);
        found.kernel = get(&section, "kernel");
        found.initrds = get(&section, "initrd").into_iter().collect();
    }
    for (section, values) in &ini {
        if let (Some(id), Some(name)) = (section.strip_prefix("variant-"), values.get("name")) {
            found.editions.push(Edition {
                id: id.into(),
                title: name.clone(),
                from: format!("{path}, [{section}]"),
            });
        }
    }
    if let Some(path) =
        look.any(|name| name.starts_with("repodata/") && name.contains("comps") && name.contains(".xml"))
    {
        found.editions.extend(environments(look, &path));
    }
    found.parameters.push(Found::new("inst.repo={{ image.url }}".into(), "what this family needs".into()));
    found.needs(
        look.0,
        "images/install.img",
        "the installer's second stage",
        &["images/install.img", "LiveOS/squashfs.img"],
    );
    Some(())
}

/// The environments that a package repository offers (`comps.xml`).
fn environments(look: &Look<'_>, path: &str) -> Vec<Edition> {
    let text = || {
        let source = look.0.open(path).ok()?;
        let (_, plain) = lastmile_formats::compressed::unpacked(&*source).ok()?;
        let mut text = String::new();
        plain.take(MOST_TEXT as u64 * 4).read_to_string(&mut text).ok()?;
        Some(text)
    };
    let Some(text) = text() else { return Vec::new() };
    let mut reader = Reader::from_str(&text);
    let mut tags: Vec<Vec<u8>> = Vec::new();
    let mut all: Vec<Edition> = Vec::new();
    while let Ok(event) = reader.read_event() {
        match event {
            Event::Start(tag) => {
                if tag.name().as_ref() == b"environment" {
                    all.push(Edition { from: path.into(), ..Edition::default() });
                }
                // A name in another language has an attribute; the plain one has none.
                let plain = tag.attributes().next().is_none();
                tags.push(if plain { tag.name().as_ref().to_vec() } else { Vec::new() });
            }
            Event::End(_) => drop(tags.pop()),
            Event::Text(text) => {
                let Some(edition) = all.last_mut() else { continue };
                let value = text.decode().map(|text| text.trim().to_owned()).unwrap_or_default();
                match tags.as_slice() {
                    [.., outer, tag] if outer == b"environment" && tag == b"id" => edition.id = value,
                    [.., outer, tag] if outer == b"environment" && tag == b"name" => edition.title = value,
                    _ => {}
                }
            }
            Event::Eof => break,
            _ => {}
        }
    }
    all.retain(|edition| !edition.id.is_empty());
    all
}

/// A disc of the `casper` live system: with install sources it is the installer that reads autoinstall.
fn casper(look: &Look<'_>, found: &mut Recognition) -> Option<()> {
    let root = look.any(|name| name.starts_with("casper/") && name.ends_with(".squashfs"))?;
    disk_info(look, found);
    let sources = look.text("casper/install-sources.yaml");
    let (family, kind, from) = match &sources {
        Some((_, path)) => (Family::Autoinstall, ImageKind::Installer, format!("{path} is there")),
        None => (Family::None, ImageKind::Live, format!("{root} is there, and no install sources")),
    };
    found.family = Some(Found::new(family, from.clone()));
    found.kind = Some(Found::new(kind, from));
    if let Some((text, path)) = sources {
        // A list of maps whose keys stand on lines of their own.
        let value = |line: &str, key: &str| {
            let line = line.trim_start_matches([' ', '-']);
            Some(line.strip_prefix(key)?.strip_prefix(": ")?.trim().trim_matches(['\'', '"']).to_owned())
        };
        for line in text.lines() {
            if let Some(id) = value(line, "id") {
                found.editions.push(Edition { id, title: String::new(), from: path.clone() });
            } else if let (Some(title), Some(edition)) = (value(line, "en"), found.editions.last_mut())
                && edition.title.is_empty()
            {
                edition.title = title;
            }
        }
    }
    let parameters = ["ip=dhcp", "url={{ image.iso }}"];
    found.parameters = parameters.map(|word| Found::new(word.into(), "what this family needs".into())).into();
    if found.family.as_ref().is_some_and(|found| found.value == Family::None) {
        found.parameters.insert(0, Found::new("boot=casper".into(), "what this family needs".into()));
    }
    Some(())
}

/// Windows setup: its images are in `sources`.
fn windows(look: &Look<'_>, found: &mut Recognition) -> Option<()> {
    let names = ["sources/install.wim", "sources/install.esd", "sources/install.swm"];
    let path = names.iter().find_map(|name| look.path(name))?;
    found.family = Some(Found::new(Family::UnattendedXml, format!("{path} is there")));
    found.kind = Some(Found::new(ImageKind::Installer, format!("{path} is there")));
    let images = look.0.open(&path).ok().and_then(|source| wim::read(&&*source)).unwrap_or_default();
    let from = |index: &str| format!("{path}, XML, image {index}");
    if let Some(first) = images.first() {
        found.version = first.version().map(|version| Found::new(version, from(&first.index)));
        found.cpu = first.cpu().map(|cpu| Found::new(cpu, from(&first.index)));
        found.system = Some(Found::new(first.name.clone(), from(&first.index)));
    }
    found.editions.extend(images.into_iter().map(|image| Edition {
        from: from(&image.index),
        id: image.edition.unwrap_or(image.index),
        title: image.name,
    }));
    let managers = ["efi/boot/bootx64.efi", "efi/boot/bootaa64.efi", "bootmgr.efi"];
    if let Some(manager) = managers.iter().find_map(|name| look.path(name)) {
        found.program = Some(Found::new(manager.clone(), format!("{manager} is there")));
    }
    found.needs(look.0, "sources/boot.wim", "the setup that is started", &["sources/boot.wim"]);
    found.needs(look.0, "boot/boot.sdi", "the memory disk that setup runs from", &["boot/boot.sdi"]);
    found.needs(look.0, "efi/boot/bootx64.efi", "the boot manager", &managers);
    Some(())
}

/// A disc of the installer that reads preseed: `.disk/info` and a folder `install.…`. A network boot archive of it has no
/// such file; there the initrd tells.
fn debian_disc(look: &Look<'_>, found: &mut Recognition) -> Option<()> {
    let kernel = look.any(|name| {
        let mut parts = name.split('/');
        parts.next().is_some_and(|folder| folder.starts_with("install.")) && parts.next() == Some("vmlinuz")
    })?;
    disk_info(look, found);
    found.family = Some(Found::new(Family::Preseed, format!("{kernel} is there")));
    found.kind = Some(Found::new(ImageKind::Installer, format!("{kernel} is there")));
    if let Some(release) = look.any(|name| {
        name.starts_with("dists/") && name.matches('/').count() == 2 && name.ends_with("/Release")
    }) && let Some((text, path)) = look.text(&release)
    {
        let field = |key: &str| {
            text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(": ")).map(str::trim)
        };
        if let Some(version) = field("Version") {
            found.version = Some(Found::new(version.into(), format!("{path}, Version")));
        }
        for component in field("Components").unwrap_or_default().split_whitespace() {
            found.editions.push(Edition {
                id: component.into(),
                title: "packages".into(),
                from: format!("{path}, Components"),
            });
        }
    }
    Some(())
}

/// The live system whose parts are in `live/`.
fn live(look: &Look<'_>, found: &mut Recognition) -> Option<()> {
    let root = look.any(|name| name.starts_with("live/") && name.ends_with(".squashfs"))?;
    disk_info(look, found);
    found.kind = Some(Found::new(ImageKind::Live, format!("{root} is there")));
    found.family = Some(Found::new(Family::None, "a live system reads no answer file".into()));
    let parameters =
        ["boot=live".to_owned(), format!("fetch={{{{ image.url }}}}/{root}"), "components".into()];
    found.parameters = parameters.map(|word| Found::new(word, "what this family needs".into())).into();
    Some(())
}

/// `.disk/info`: `Tidewrack 12.5 "Skerry" - Official amd64 NETINST …`.
fn disk_info(look: &Look<'_>, found: &mut Recognition) {
    let Some((text, path)) = look.text(".disk/info") else { return };
    let line = text.lines().next().unwrap_or_default().trim();
    let mut words = line.split_whitespace();
    let is_version = |word: &&str| word.starts_with(|c: char| c.is_ascii_digit());
    let name: Vec<&str> = words.clone().take_while(|word| !is_version(word)).collect();
    if !name.is_empty() {
        found.system = Some(Found::new(name.join(" "), path.clone()));
    }
    if let Some(version) = words.find(is_version) {
        found.version = Some(Found::new(version.into(), path.clone()));
    }
    if let Some(cpu) = line.split_whitespace().find_map(Cpu::by_name) {
        found.cpu = Some(Found::new(cpu, path));
    }
}

/// Sections of `key = value` lines.
fn ini(text: &str) -> BTreeMap<String, BTreeMap<String, String>> {
    let mut all: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let mut section = String::new();
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            section = name.into();
        } else if let Some((key, value)) = line.split_once('=').filter(|_| !line.starts_with([';', '#'])) {
            all.entry(section.clone()).or_default().insert(key.trim().into(), value.trim().into());
        }
    }
    all
}
