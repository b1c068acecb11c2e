//! The processors.

use std::collections::BTreeSet;

use lastmile_survey::facts::{Cpu, FLAGS};

use super::Tree;

pub(super) fn add(tree: &Tree, cpu: &mut Cpu) {
    let text = tree.text("proc/cpuinfo").unwrap_or_default();
    let field = |names: &[&str]| {
        text.lines().find_map(|line| {
            let (name, value) = line.split_once(':')?;
            names.contains(&name.trim()).then(|| value.trim().to_owned()).filter(|value| !value.is_empty())
        })
    };
    // arm64's kernel says only who designed them; the firmware may say what they are sold as.
    let of_arm = || arm_core(&field(&["CPU implementer"])?, &field(&["CPU part"])?);
    cpu.model = field(&["model name"]).or_else(|| cpu.model.take()).or_else(of_arm);
    // "Features" on arm64.
    let flags = field(&["flags", "Features"]).unwrap_or_default();
    let flags: BTreeSet<&str> = flags.split_whitespace().filter(|flag| FLAGS.contains(flag)).collect();
    cpu.flags = flags.into_iter().map(str::to_owned).collect();
    let (mut sockets, mut cores, mut threads) = (BTreeSet::new(), BTreeSet::new(), 0);
    for name in tree.folder("sys/devices/system/cpu") {
        let is_one = name.strip_prefix("cpu").is_some_and(|number| number.parse::<u32>().is_ok());
        let of = |what: &str| tree.number::<i64>(&format!("sys/devices/system/cpu/{name}/topology/{what}"));
        // One that is switched off has no place.
        if let Some(core) = of("core_id").filter(|_| is_one) {
            let socket = of("physical_package_id").unwrap_or_default();
            sockets.insert(socket);
            cores.insert((socket, of("die_id").unwrap_or_default(), core));
            threads += 1;
        }
    }
    if threads > 0 {
        cpu.sockets = u32::try_from(sockets.len()).unwrap_or_default();
        cpu.cores = u32::try_from(cores.len()).unwrap_or_default();
        cpu.threads = threads;
    }
}

/// What an arm64 core is called, by its identification register (Arm Architecture Reference Manual, MIDR_EL1, and the reference manuals of
/// Arm's cores).
fn arm_core(implementer: &str, part: &str) -> Option<String> {
    let number = |text: &str| u32::from_str_radix(text.trim_start_matches("0x"), 16).ok();
    let (implementer, part) = (number(implementer)?, number(part)?);
    let name = ARM_CORES.iter().find(|(number, _)| *number == part).filter(|_| implementer == ARM);
    Some(match name {
        Some((_, name)) => format!("Arm {name}"),
        None => format!("core {part:#x} of implementer {implementer:#x}"),
    })
}

/// Arm itself, among those who design cores.
const ARM: u32 = 0x41;
/// Arm's cores that are found in servers and boards.
const ARM_CORES: [(u32, &str); 14] = [
    (0xd03, "Cortex-A53"),
    (0xd04, "Cortex-A35"),
    (0xd05, "Cortex-A55"),
    (0xd07, "Cortex-A57"),
    (0xd08, "Cortex-A72"),
    (0xd09, "Cortex-A73"),
    (0xd0a, "Cortex-A75"),
    (0xd0b, "Cortex-A76"),
    (0xd0c, "Neoverse N1"),
    (0xd40, "Neoverse V1"),
    (0xd41, "Cortex-A78"),
    (0xd49, "Neoverse N2"),
    (0xd4f, "Neoverse V2"),
    (0xd8e, "Neoverse N3"),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cores_of_arm_are_named_and_others_numbered() {
        assert_eq!(arm_core("0x41", "0xd0c").unwrap(), "Arm Neoverse N1");
        assert_eq!(arm_core("0x48", "0xd01").unwrap(), "core 0xd01 of implementer 0x48");
        assert_eq!(arm_core("0x41", "0xfff").unwrap(), "core 0xfff of implementer 0x41");
        assert_eq!(arm_core("", "x"), None);
    }
}
