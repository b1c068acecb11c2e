//! What a network boot program is: recognised from what is in it.

use lastmile_formats::{architecture::Architecture, cpu::Cpu, pe::Program};

use crate::{
    decide::image::FileSet,
    model::{
        image::Found,
        loader::{HttpReach, Language, LoaderFacts},
    },
};

/// Largest boot program that is looked at.
const MOST: usize = 64 * 1024 * 1024;

/// What one file is.
struct Part {
    text: String,
    language: Option<Language>,
    http: Option<Found<HttpReach>>,
}

/// Says what the loader is whose firmware is told to fetch `boot_file`.
#[must_use]
pub fn identify(files: &impl FileSet, boot_file: &str) -> LoaderFacts {
    let mut facts = LoaderFacts::default();
    let Some(bytes) = read(files, boot_file) else { return facts };
    let program = Program::read(&bytes);
    facts.architecture = Some(match &program {
        Some(program) => Found::new(uefi(program.cpu), format!("{boot_file}, its header")),
        None => Found::new(Architecture::Bios, format!("{boot_file} is no UEFI application")),
    });
    facts.signers = program.as_ref().map(|program| program.signers.clone()).unwrap_or_default();
    let Some(first) = part(files, boot_file, &bytes, program.as_ref()) else { return facts };
    // shim is no loader: it starts the one beside it.
    let second = first.language.is_none().then(|| second_stage(files)).flatten();
    let from = boot_file.to_owned();
    facts.program = Some(match &second {
        Some((path, part)) => {
            Found::new(format!("{}, then {}", first.text, part.text), format!("{from} and {path}"))
        }
        None => Found::new(first.text.clone(), from.clone()),
    });
    let (from, reads) = second.map_or((from, first), |(path, part)| (path, part));
    facts.language = reads.language.map(|language| Found::new(language, from));
    facts.http = reads.http;
    facts
}

fn read(files: &impl FileSet, path: &str) -> Option<Vec<u8>> {
    let source = files.open(path).ok()?;
    let size = usize::try_from(source.size()).ok().filter(|size| *size <= MOST)?;
    source.read_up_to(0, size).ok()
}

/// The program that shim starts: it asks for a fixed name beside itself.
fn second_stage(files: &impl FileSet) -> Option<(String, Part)> {
    let is_grub = |path: &str| {
        let name = path.rsplit('/').next().unwrap_or(path);
        name.starts_with("grub") && name.ends_with(".efi")
    };
    let path = files.files().iter().map(|(path, _)| path).find(|path| is_grub(path))?.clone();
    let bytes = read(files, &path)?;
    let program = Program::read(&bytes);
    let part = part(files, &path, &bytes, program.as_ref())?;
    Some((path, part))
}

fn part(files: &impl FileSet, path: &str, bytes: &[u8], program: Option<&Program>) -> Option<Part> {
    let has = |mark: &[u8]| bytes.windows(mark.len()).any(|window| window == mark);
    let component = |name: &str| {
        let components = program.map(|program| program.components.as_slice()).unwrap_or_default();
        // A vendor's line (`grub.debian`) tells more of the version than the maker's.
        let own = components.iter().find(|component| component.name == name)?;
        let vendors = components.iter().find(|component| component.name.starts_with(&format!("{name}.")));
        Some(vendors.map_or(own.version.clone(), |vendor| vendor.version.clone()))
    };
    if let Some(version) = component("grub") {
        let built_in = program.is_some_and(|program| program.has_module("http"));
        let beside = files.files().iter().find(|(path, _)| path.ends_with("/http.mod"));
        let http = match (built_in, beside) {
            (true, _) => Found::new(HttpReach::Port80, format!("{path} has the module http")),
            (false, Some((module, _))) => {
                Found::new(HttpReach::Port80, format!("{module} is there; not under Secure Boot"))
            }
            (false, None) => {
                Found::new(HttpReach::None, format!("{path} has no module http, and none is beside it"))
            }
        };
        return Some(Part {
            text: format!("grub {version}"),
            language: Some(Language::Grub),
            http: Some(http),
        });
    }
    if let Some(version) = component("shim") {
        return Some(Part { text: format!("shim {version}"), language: None, http: None });
    }
    if let Some(version) = after(bytes, b"PXELINUX ") {
        let http = if has(b"lwIP") { HttpReach::AnyPort } else { HttpReach::None };
        let http = Found::new(http, format!("{path}, its banner"));
        return Some(Part {
            text: format!("PXELINUX {version}"),
            language: Some(Language::Pxelinux),
            http: Some(http),
        });
    }
    // For BIOS all but its first messages is compressed.
    if has(b"#!ipxe") || has(b"iPXE") || has(b"PXE->EB:") {
        let http = Found::new(HttpReach::AnyPort, "its scripts name any port".into());
        let text = "network boot firmware with scripts".into();
        return Some(Part { text, language: Some(Language::Script), http: Some(http) });
    }
    if has(b"GRUB") || has(b"grub") {
        let beside = files.files().iter().find(|(path, _)| path.ends_with("/http.mod"));
        let http = beside.map(|(module, _)| Found::new(HttpReach::Port80, format!("{module} is there")));
        return Some(Part { text: "grub".into(), language: Some(Language::Grub), http });
    }
    None
}

/// The word that follows a mark, where it begins with a digit.
fn after(bytes: &[u8], mark: &[u8]) -> Option<String> {
    let at = bytes.windows(mark.len()).position(|window| window == mark)? + mark.len();
    let word: String = bytes[at..]
        .iter()
        .take(16)
        .map(|byte| char::from(*byte))
        .take_while(|c| c.is_ascii_graphic())
        .collect();
    word.starts_with(|c: char| c.is_ascii_digit()).then_some(word)
}

const fn uefi(cpu: Cpu) -> Architecture {
    match cpu {
        Cpu::X86 => Architecture::UefiX86,
        Cpu::X64 => Architecture::UefiX64,
        Cpu::Arm32 => Architecture::UefiArm32,
        Cpu::Arm64 => Architecture::UefiArm64,
        Cpu::RiscV64 => Architecture::Other(27),
    }
}
