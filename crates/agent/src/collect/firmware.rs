//! How the machine was started.

use lastmile_survey::facts::{BootMode, Start};

use super::Tree;

/// The variable that says whether only signed programs are started (UEFI 2.10, section 3.3), as the kernel's efivarfs names it.
const SECURE_BOOT: &str = "sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c";

pub(super) fn start(tree: &Tree) -> Start {
    let is_uefi = tree.has("sys/firmware/efi");
    // Four bytes of attributes, then the value.
    let value = tree.bytes(SECURE_BOOT).and_then(|bytes| bytes.get(4).copied());
    Start {
        mode: Some(if is_uefi { BootMode::Uefi } else { BootMode::Bios }),
        secure_boot: if is_uefi { value.map(|value| value == 1) } else { Some(false) },
    }
}
