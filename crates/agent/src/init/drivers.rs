//! Loads what the machine's devices want, by what they say of themselves.

use std::{
    collections::BTreeSet,
    fs::{self, File},
    path::{Path, PathBuf},
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};

use lastmile_formats::modules::{ModuleFile, Modules};
use nix::kmod::{ModuleInitFlags, finit_module};
use tokio::time::{Instant, sleep};

use super::mounts;
use crate::status::Status;

/// What no device asks for, and is wanted all the same: VLANs, the firmware's variables, the management controller's device
/// file.
const ALWAYS: [&str; 6] = ["8021q", "efivarfs", "ipmi_devintf", "ipmi_si", "sd_mod", "af_packet"];
/// Below this every device has a file with what it says of itself.
const DEVICES: &str = "/sys/devices";
const MODALIAS: &str = "modalias";
/// Of a network card on the PCI bus (PCI Code and ID Assignment 1.16: base class 02).
const NETWORK_CLASS: &str = "bc02";
/// No deeper is looked: devices that hang on devices.
const MOST_DEPTH: usize = 32;
/// Hardware has settled when nothing new appeared for so long. It is not waited for any longer than the second.
const QUIET: Duration = Duration::from_millis(400);
const AT_MOST: Duration = Duration::from_secs(8);
const LOOK: Duration = Duration::from_millis(50);

/// The modules of the running kernel.
#[derive(Debug)]
pub(super) struct Drivers {
    folder: PathBuf,
    modules: Modules,
    status: Status,
    seen: Mutex<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    devices: BTreeSet<String>,
    loaded: BTreeSet<String>,
    /// Which could not be loaded, and why.
    faults: Vec<String>,
}

impl Drivers {
    pub(super) fn new(status: &Status) -> Self {
        let release = nix::sys::utsname::uname();
        let folder = release.map(|name| Path::new("/lib/modules").join(name.release())).unwrap_or_default();
        let table = |name: &str| fs::read_to_string(folder.join(name)).unwrap_or_default();
        let modules =
            Modules::read(&table("modules.dep"), &table("modules.alias"), &table("modules.softdep"));
        let drivers = Self { folder, modules, status: status.clone(), seen: Mutex::default() };
        if drivers.modules.iter().next().is_none() {
            let folder = drivers.folder.display();
            drivers
                .fault(format!("there are no modules in {folder}: this system was made for another kernel"));
        }
        drivers.load(ALWAYS);
        mounts::firmware_variables();
        drivers
    }

    /// Loads what devices want that were not seen before. Says whether there were any.
    pub(super) fn load_wanted(&self) -> bool {
        let mut found = BTreeSet::new();
        collect(Path::new(DEVICES), MOST_DEPTH, &mut found);
        let new: Vec<String> = {
            let mut seen = self.seen();
            found.into_iter().filter(|device| seen.devices.insert(device.clone())).collect()
        };
        // Network cards first: while the others are loaded, their links come up.
        let (cards, others): (Vec<_>, Vec<_>) = new.iter().partition(|device| device.contains(NETWORK_CLASS));
        let devices = cards.into_iter().chain(others);
        self.load(devices.flat_map(|device| self.modules.for_device(device)));
        !new.is_empty()
    }

    /// Waits until no more devices appear.
    pub(super) async fn settle(&self) {
        let begun = Instant::now();
        let mut quiet_since = begun;
        while quiet_since.elapsed() < QUIET && begun.elapsed() < AT_MOST {
            if self.load_wanted() {
                quiet_since = Instant::now();
            }
            sleep(LOOK).await;
        }
    }

    /// What could not be loaded, and why.
    pub(super) fn faults(&self) -> Vec<String> {
        self.seen().faults.clone()
    }

    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn fault(&self, what: String) {
        self.status.fault(what.clone());
        self.seen().faults.push(what);
    }

    fn load<'a>(&'a self, names: impl IntoIterator<Item = &'a str>) {
        for module in self.modules.in_order(names) {
            let is_new = self.seen().loaded.insert(module.name.clone());
            if is_new && let Err(error) = self.load_one(module) {
                self.fault(format!("driver {}: {error}", module.name));
            }
        }
    }

    fn load_one(&self, module: &ModuleFile) -> std::io::Result<()> {
        let file = File::open(self.folder.join(&module.path))?;
        match finit_module(&file, c"", ModuleInitFlags::empty()) {
            // There already, or for hardware that this machine has not.
            Ok(()) | Err(nix::errno::Errno::EEXIST | nix::errno::Errno::ENODEV) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}

/// What every device below a folder says of itself.
fn collect(folder: &Path, depth: usize, found: &mut BTreeSet<String>) {
    let Some(depth) = depth.checked_sub(1) else { return };
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        // Links lead to other places of the same tree.
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => collect(&entry.path(), depth, found),
            Ok(kind) if kind.is_file() && entry.file_name() == MODALIAS => {
                let text = fs::read_to_string(entry.path()).unwrap_or_default();
                found.extend(Some(text.trim().to_owned()).filter(|text| !text.is_empty()));
            }
            _ => {}
        }
    }
}
