//! Loaders where the operating system's packages put them.

/// A loader that packages may bring. Its files lie in several of them.
#[derive(Debug, Clone, Copy)]
pub struct Candidate {
    /// The name it gets.
    pub name: &'static str,
    /// The packages that bring it.
    pub package: &'static str,
    /// Only for clients that name this user class.
    pub user_class: Option<&'static str>,
    /// Its files: the name each gets, and where packages put it; the boot file first.
    files: &'static [(&'static str, &'static str)],
    /// Files that it does without.
    further: &'static [(&'static str, &'static str)],
}

/// Every loader that packages are known to bring.
pub const CANDIDATES: [Candidate; 10] = [
    Candidate {
        name: "signed-x64",
        package: "shim-signed, grub-efi-amd64-signed, grub-efi-amd64-bin",
        user_class: None,
        files: &[
            ("shimx64.efi", "/usr/lib/shim/shimx64.efi.signed"),
            ("grubx64.efi", "/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed"),
        ],
        further: &[("x86_64-efi/http.mod", "/usr/lib/grub/x86_64-efi/http.mod")],
    },
    Candidate {
        name: "signed-arm64",
        package: "shim-signed, grub-efi-arm64-signed, grub-efi-arm64-bin",
        user_class: None,
        files: &[
            ("shimaa64.efi", "/usr/lib/shim/shimaa64.efi.signed"),
            ("grubaa64.efi", "/usr/lib/grub/arm64-efi-signed/grubnetaa64.efi.signed"),
        ],
        further: &[("arm64-efi/http.mod", "/usr/lib/grub/arm64-efi/http.mod")],
    },
    Candidate {
        name: "installer-x64",
        package: "debian-installer-12-netboot-amd64",
        user_class: None,
        files: &[
            (
                "bootnetx64.efi",
                "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/bootnetx64.efi",
            ),
            (
                "grubx64.efi",
                "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/grubx64.efi",
            ),
        ],
        further: &[("x86_64-efi/http.mod", "/usr/lib/grub/x86_64-efi/http.mod")],
    },
    Candidate {
        name: "installer-arm64",
        package: "debian-installer-12-netboot-arm64",
        user_class: None,
        files: &[
            (
                "bootnetaa64.efi",
                "/usr/lib/debian-installer/images/12/arm64/text/debian-installer/arm64/bootnetaa64.efi",
            ),
            (
                "grubaa64.efi",
                "/usr/lib/debian-installer/images/12/arm64/text/debian-installer/arm64/grubaa64.efi",
            ),
        ],
        further: &[("arm64-efi/http.mod", "/usr/lib/grub/arm64-efi/http.mod")],
    },
    Candidate {
        name: "bios-http",
        package: "pxelinux, syslinux-common",
        user_class: None,
        files: &[("lpxelinux.0", "/usr/lib/PXELINUX/lpxelinux.0"), ("ldlinux.c32", MODULES[0].1)],
        further: &MODULES,
    },
    Candidate {
        name: "bios",
        package: "pxelinux, syslinux-common",
        user_class: None,
        files: &[("pxelinux.0", "/usr/lib/PXELINUX/pxelinux.0"), ("ldlinux.c32", MODULES[0].1)],
        further: &MODULES,
    },
    Candidate {
        name: "script-bios",
        package: "ipxe",
        user_class: None,
        files: &[("undionly.kpxe", "/usr/lib/ipxe/undionly.kpxe")],
        further: &[],
    },
    Candidate {
        name: "script-x64",
        package: "ipxe",
        user_class: None,
        files: &[("snponly.efi", "/usr/lib/ipxe/snponly.efi")],
        further: &[],
    },
    Candidate {
        name: "script-x64-drivers",
        package: "ipxe",
        user_class: None,
        files: &[("ipxe.efi", "/usr/lib/ipxe/ipxe.efi")],
        further: &[],
    },
    Candidate {
        name: "script-arm64",
        package: "ipxe",
        user_class: None,
        files: &[("ipxe-arm64.efi", "/usr/lib/ipxe/ipxe-arm64.efi")],
        further: &[],
    },
];

/// What PXELINUX loads beside itself: its core, the menu, and what that needs.
const MODULES: [(&str, &str); 6] = [
    ("ldlinux.c32", "/usr/lib/syslinux/modules/bios/ldlinux.c32"),
    ("menu.c32", "/usr/lib/syslinux/modules/bios/menu.c32"),
    ("libutil.c32", "/usr/lib/syslinux/modules/bios/libutil.c32"),
    ("libcom32.c32", "/usr/lib/syslinux/modules/bios/libcom32.c32"),
    ("reboot.c32", "/usr/lib/syslinux/modules/bios/reboot.c32"),
    ("poweroff.c32", "/usr/lib/syslinux/modules/bios/poweroff.c32"),
];

/// One file of a loader that was found: the name it gets, and where it is.
pub type PackagedFile = (&'static str, &'static str);

impl Candidate {
    /// Its files as far as they are `there`, the boot file first; `None` if one that it needs is not.
    pub fn files(&self, there: impl Fn(&str) -> bool) -> Option<Vec<PackagedFile>> {
        if !self.files.iter().all(|(_, path)| there(path)) {
            return None;
        }
        let mut files = self.files.to_vec();
        for further in self.further.iter().filter(|(_, path)| there(path)) {
            if !files.iter().any(|(name, _)| *name == further.0) {
                files.push(*further);
            }
        }
        Some(files)
    }
}

/// Whether any loader has a file at an absolute path.
#[must_use]
pub fn is_packaged(path: &str) -> bool {
    CANDIDATES.iter().any(|one| one.files.iter().chain(one.further).any(|(_, at)| *at == path))
}
