//! What one kernel module says of itself: the texts of its ELF section `.modinfo` (Linux `include/linux/moduleparam.h`).

use std::collections::{BTreeMap, BTreeSet};

use object::{Object, ObjectSection};

use super::{Alias, ModuleFile, Modules, name_of, plain};

/// Where the texts are.
const SECTION: &str = ".modinfo";

/// What a module says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ModuleInfo {
    /// Names of the modules whose symbols it uses.
    pub depends: Vec<String>,
    /// Patterns of the devices that it is for.
    pub aliases: Vec<String>,
    /// Names of modules to be loaded before it where they are there.
    pub wishes: Vec<String>,
    /// Files of firmware that it may ask for, below the folder of firmware.
    pub firmware: Vec<String>,
    /// The kernel that it is for, as `uname -r` prints it.
    pub kernel: Option<String>,
}

impl ModuleInfo {
    /// Reads a module's file; `None` if it is none.
    #[must_use]
    pub fn read(file: &[u8]) -> Option<Self> {
        let file = object::File::parse(file).ok()?;
        let texts = file.section_by_name(SECTION)?.uncompressed_data().ok()?.into_owned();
        let mut info = Self::default();
        for text in texts.split(|byte| *byte == 0) {
            let text = String::from_utf8_lossy(text);
            let Some((key, value)) = text.split_once('=') else { continue };
            match key {
                "depends" => {
                    info.depends.extend(value.split(',').filter(|name| !name.is_empty()).map(plain));
                }
                "alias" => info.aliases.push(value.into()),
                "softdep" => {
                    let before = value.split_whitespace().skip_while(|word| *word != "pre:").skip(1);
                    info.wishes.extend(before.take_while(|word| *word != "post:").map(plain));
                }
                "firmware" => info.firmware.push(value.into()),
                "vermagic" => info.kernel = value.split_whitespace().next().map(str::to_owned),
                _ => {}
            }
        }
        Some(info)
    }
}

impl Modules {
    /// Makes the tables of modules by what each says of itself, each with its file below the folder of the modules.
    #[must_use]
    pub fn of<'a>(infos: impl IntoIterator<Item = (&'a str, &'a ModuleInfo)>) -> Self {
        let mut modules = Self::default();
        for (path, info) in infos {
            let name = name_of(path);
            for alias in &info.aliases {
                modules.add_alias(alias, name.clone());
            }
            let (needs, wishes) = (info.depends.clone(), info.wishes.clone());
            modules.files.insert(name.clone(), ModuleFile { name, path: path.into(), needs, wishes });
        }
        modules
    }

    /// The tables as text, each with the name of its file, for [`Modules::read`] and other readers.
    #[must_use]
    pub fn tables(&self) -> BTreeMap<&'static str, String> {
        let (mut dependencies, mut soft, mut aliases) = (String::new(), String::new(), String::new());
        for file in self.iter() {
            // Everything that it needs, so that whoever reads the line needs no other; what is loaded first stands last.
            let (mut needs, mut begun) = (Vec::new(), BTreeSet::new());
            self.put(&file.name, false, &mut needs, &mut begun);
            let needs = needs.iter().rev().filter(|other| other.name != file.name);
            let needs: String = needs.map(|other| format!(" {}", other.path)).collect();
            dependencies.push_str(&format!("{}:{needs}\n", file.path));
            if !file.wishes.is_empty() {
                soft.push_str(&format!("softdep {} pre: {}\n", file.name, file.wishes.join(" ")));
            }
        }
        for Alias { text, module, .. } in self.aliases.values().flatten() {
            aliases.push_str(&format!("alias {text} {module}\n"));
        }
        BTreeMap::from([("modules.dep", dependencies), ("modules.softdep", soft), ("modules.alias", aliases)])
    }
}
