//! The kernel's own file systems.

use std::fs;

use nix::mount::{MsFlags, mount};

/// Where, what kind.
const ALL: [(&str, &str); 6] = [
    ("/proc", "proc"),
    ("/sys", "sysfs"),
    ("/dev", "devtmpfs"),
    ("/dev/pts", "devpts"),
    ("/run", "tmpfs"),
    ("/tmp", "tmpfs"),
];

/// Mounts them. What fails is said; what needs it will be missing.
pub(super) fn all() -> Vec<String> {
    let mount = |(place, kind): &(&str, &str)| {
        // It is there already, or the next step says that it is not.
        let _ = fs::create_dir_all(place);
        let mounted = mount(Some(*kind), *place, Some(*kind), MsFlags::MS_NOSUID, None::<&str>);
        // The kernel may have mounted /dev by itself.
        mounted.or_else(|error| if error == nix::errno::Errno::EBUSY { Ok(()) } else { Err(error) })
    };
    ALL.iter()
        .filter_map(|one| mount(one).err().map(|error| format!("{} cannot be mounted: {error}", one.0)))
        .collect()
}

/// The firmware's variables, which a module of the kernel shows: it comes after the others.
pub(super) fn firmware_variables() {
    let place = "/sys/firmware/efi/efivars";
    // A machine without UEFI has none.
    if fs::exists(place).unwrap_or(false) {
        let flags = MsFlags::MS_NOSUID | MsFlags::MS_RDONLY;
        let _ = mount(Some("efivarfs"), place, Some("efivarfs"), flags, None::<&str>);
    }
}
