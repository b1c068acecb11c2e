//! Which kernel modules a computer's devices want, and in which order they are loaded: the tables that come with a kernel's
//! modules (Linux kmod, modules.dep(5), `modules.alias`, `modules.softdep`), as text.

mod info;
mod pattern;

use std::collections::{BTreeMap, BTreeSet};

pub use info::ModuleInfo;
pub use pattern::Pattern;

/// The modules of one kernel.
#[derive(Debug, Clone, Default)]
pub struct Modules {
    files: BTreeMap<String, ModuleFile>,
    /// Patterns of devices with the module for them, by what stands before their first colon: the bus.
    aliases: BTreeMap<String, Vec<Alias>>,
}

/// Which module is for devices of a pattern.
#[derive(Debug, Clone)]
struct Alias {
    text: String,
    pattern: Pattern,
    module: String,
}

/// One module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ModuleFile {
    /// Its name, with `_` for `-` as the kernel names it.
    pub name: String,
    /// Its file below the folder of the modules.
    pub path: String,
    /// Names of the modules whose symbols it uses.
    needs: Vec<String>,
    /// Names of modules to be loaded before it where they are there.
    wishes: Vec<String>,
}

impl Modules {
    /// Reads the tables: `modules.dep`, `modules.alias`, `modules.softdep`. Lines that are not understood are passed over.
    #[must_use]
    pub fn read(dependencies: &str, aliases: &str, soft: &str) -> Self {
        let mut modules = Self::default();
        for line in dependencies.lines() {
            let Some((path, needs)) = line.split_once(':') else { continue };
            // modprobe loads them from the last to the first.
            let needs = needs.split_whitespace().rev().map(name_of).collect();
            let name = name_of(path);
            let file = ModuleFile { name: name.clone(), path: path.trim().into(), needs, wishes: Vec::new() };
            modules.files.insert(name, file);
        }
        for line in soft.lines() {
            let mut words = line.split_whitespace();
            let (Some("softdep"), Some(name)) = (words.next(), words.next()) else { continue };
            let Some(file) = modules.files.get_mut(&plain(name)) else { continue };
            let before = words.skip_while(|word| *word != "pre:").skip(1).take_while(|word| *word != "post:");
            file.wishes.extend(before.map(plain));
        }
        for line in aliases.lines() {
            let mut words = line.split_whitespace();
            let (Some("alias"), Some(pattern), Some(name)) = (words.next(), words.next(), words.next())
            else {
                continue;
            };
            modules.add_alias(pattern, plain(name));
        }
        modules
    }

    fn add_alias(&mut self, text: &str, module: String) {
        let bus = text.split([':', '*', '?', '[']).next().unwrap_or_default();
        let alias = Alias { text: text.into(), pattern: Pattern::new(text), module };
        self.aliases.entry(bus.into()).or_default().push(alias);
    }

    /// A module by its name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&ModuleFile> {
        self.files.get(&plain(name))
    }

    /// Every module.
    pub fn iter(&self) -> impl Iterator<Item = &ModuleFile> {
        self.files.values()
    }

    /// Names of the modules that want a device, by what it says of itself (its `modalias` in `/sys`), in the table's order, each
    /// once.
    #[must_use]
    pub fn for_device(&self, modalias: &str) -> Vec<&str> {
        let bus = modalias.split(':').next().unwrap_or_default();
        let mut named = BTreeSet::new();
        let of_bus = self.aliases.get(bus).into_iter().chain(self.aliases.get(""));
        of_bus
            .flatten()
            .filter(|alias| alias.pattern.is_match(modalias))
            .map(|alias| alias.module.as_str())
            .filter(|name| named.insert(*name))
            .collect()
    }

    /// These modules and all that they need, each once, in an order in which they can be loaded. Names of none are left out:
    /// what is built into the kernel has no module.
    #[must_use]
    pub fn in_order<'a>(&'a self, names: impl IntoIterator<Item = &'a str>) -> Vec<&'a ModuleFile> {
        let (mut order, mut begun) = (Vec::new(), BTreeSet::new());
        for name in names {
            self.put(name, true, &mut order, &mut begun);
        }
        order
    }

    fn put<'a>(
        &'a self,
        name: &str,
        with_wishes: bool,
        order: &mut Vec<&'a ModuleFile>,
        begun: &mut BTreeSet<&'a str>,
    ) {
        let Some(file) = self.files.get(&plain(name)) else { return };
        // Soft dependencies may go in a circle: what has begun is not begun again.
        if !begun.insert(&file.name) {
            return;
        }
        let wishes: &[String] = if with_wishes { &file.wishes } else { &[] };
        for other in wishes.iter().chain(&file.needs) {
            self.put(other, with_wishes, order, begun);
        }
        order.push(file);
    }
}

/// The name of the module in a file: `kernel/drivers/md/dm-mod.ko.xz` is `dm_mod`.
#[must_use]
pub fn name_of(path: &str) -> String {
    let file = path.trim().rsplit('/').next().unwrap_or_default();
    plain(file.split(".ko").next().unwrap_or(file))
}

fn plain(name: &str) -> String {
    name.replace('-', "_")
}

#[cfg(test)]
mod tests;
