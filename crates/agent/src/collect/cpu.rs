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
    cpu.model = field(&["model name"]);
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
