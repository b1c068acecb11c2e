//! The agent's programs, built into the service.

use std::{borrow::Cow, fs};

use lastmile_formats::cpu::Cpu;
use object::{
    Architecture, Object, elf,
    read::elf::{FileHeader, ProgramHeader},
};
use rust_embed::RustEmbed;

/// Where a host keeps the program that is a shell and all the small tools beside.
const TOOLS: [&str; 2] = ["/usr/bin/busybox", "/bin/busybox"];

#[derive(RustEmbed)]
#[folder = "../../agents"]
struct Programs;

/// The agent for a processor; nothing if it was not built for it.
pub(super) fn agent(cpu: Cpu) -> Option<Cow<'static, [u8]>> {
    Programs::get(&format!("{cpu}/agent")).map(|file| file.data)
}

/// The host's shell and small tools in one program, if it has them for that processor in a form that needs no libraries.
pub(super) fn tools(cpu: Cpu) -> Option<Vec<u8>> {
    let content = TOOLS.iter().find_map(|path| fs::read(path).ok())?;
    is_for(&content, cpu).then_some(content)
}

/// Whether a program runs on a processor without anything else: no interpreter loads libraries for it (gABI, "Program
/// Interpreter").
pub(super) fn is_for(content: &[u8], cpu: Cpu) -> bool {
    let architecture = match cpu {
        Cpu::X64 => Architecture::X86_64,
        Cpu::Arm64 => Architecture::Aarch64,
        _ => return false,
    };
    let Ok(file) = object::File::parse(content) else { return false };
    let Ok(header) = elf::FileHeader64::<object::Endianness>::parse(content) else { return false };
    let segments = header.endian().and_then(|endian| Ok((endian, header.program_headers(endian, content)?)));
    file.architecture() == architecture
        && segments.is_ok_and(|(endian, all)| all.iter().all(|one| one.p_type(endian) != elf::PT_INTERP))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_that_wants_libraries_is_not_taken() {
        let own = fs::read(std::env::current_exe().unwrap()).unwrap();
        assert!(!is_for(&own, Cpu::X64) && !is_for(&own, Cpu::Arm64), "a test program has an interpreter");
        assert!(!is_for(b"#!/bin/sh\n", Cpu::X64));
        // The agents are made to need nothing.
        let agent = agent(Cpu::X64).unwrap();
        assert!(is_for(&agent, Cpu::X64) && !is_for(&agent, Cpu::Arm64));
    }
}
