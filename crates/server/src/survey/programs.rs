//! The agent's programs, built into the service.

use std::borrow::Cow;

use lastmile_formats::cpu::Cpu;
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../agents"]
struct Programs;

/// The agent for a processor; nothing if it was not built for it.
pub(super) fn agent(cpu: Cpu) -> Option<Cow<'static, [u8]>> {
    Programs::get(&format!("{cpu}/agent")).map(|file| file.data)
}
