//! The paths that loaders ask for, and the paths that menus name.

use lastmile_formats::{mac::Mac, tftp::ServedPath};

use crate::model::{loader::Language, machine::Machine};

/// Path of a loader's file as one machine fetches it: DHCP's boot file, and, in the same folder, what the
/// loader fetches beside itself. The MAC address says who asks, also where an address on the way is translated.
#[must_use]
pub fn loader_path(mac: Mac, loader: &str, file: &str) -> String {
    let [a, b, c, d, e, f] = mac.octets();
    format!("loader/{a:02x}-{b:02x}-{c:02x}-{d:02x}-{e:02x}-{f:02x}/{loader}/{file}")
}

/// Path of an image's file as one machine fetches it.
#[must_use]
pub fn boot_path(mac: Mac, image: &str, revision: u32, file: &str) -> String {
    format!("boot/{}/{image}/r{revision}/{file}", mac.dashed())
}

/// Path of an image's whole ISO as one machine fetches it.
#[must_use]
pub fn iso_path(mac: Mac, image: &str, revision: u32) -> String {
    boot_path(mac, image, revision, &format!("{image}.iso"))
}

/// Path at which what an entry starts is read once it was picked; the language's name follows it.
#[must_use]
pub fn pick_path(mac: Mac, key: &str) -> String {
    format!("pick/{}/{key}", mac.dashed())
}

/// The name that the network boot firmware with scripts gives in its user class (option 77).
pub const SCRIPT_USER_CLASS: &str = "iPXE";

/// Path of the menu for firmware that reads scripts.
#[must_use]
pub fn script_path(mac: Mac) -> String {
    format!("script/{}/menu.script", mac.dashed())
}

/// What a loader means by a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request<'a> {
    /// A file of a loader, by the path we named.
    Loader {
        /// The machine, where the path says it; a DHCP server of somebody else names none.
        mac: Option<Mac>,
        /// The loader.
        name: &'a str,
        /// The file in it.
        file: &'a str,
    },
    /// A file of an image, by the path a menu named.
    Image {
        /// The machine that was given the menu.
        mac: Mac,
        /// The image.
        image: &'a str,
        /// The revision's number.
        revision: u32,
        /// The file in it.
        file: &'a str,
    },
    /// The menu in GRUB's language, under whatever prefix was built into the loader.
    GrubMenu {
        /// The machine, where the name says it (`grub.cfg-01-02-00-5e-00-53-01`).
        mac: Option<Mac>,
    },
    /// The menu in PXELINUX's language.
    PxelinuxMenu {
        /// The machine, where the name says it (`pxelinux.cfg/01-02-00-5e-00-53-01`).
        mac: Option<Mac>,
    },
    /// The menu as a script.
    ScriptMenu {
        /// The machine.
        mac: Mac,
    },
    /// What an entry starts, once it was picked.
    Picked {
        /// The machine.
        mac: Mac,
        /// The entry's key.
        key: &'a str,
        /// The language of the loader that asks.
        language: Language,
    },
    /// Something a loader keeps beside itself under a prefix of its own (modules, lists).
    BesideLoader,
}

impl<'a> Request<'a> {
    /// Recognises `path`.
    #[must_use]
    pub fn recognise(path: &'a ServedPath) -> Self {
        let text = path.as_str();
        let is_menu = path.file_name() == "grub.cfg" || path.file_name().starts_with("grub.cfg-");
        let is_menu = is_menu || text.contains("/pxelinux.cfg/");
        if let Some(rest) = text.strip_prefix("loader/").filter(|_| !is_menu) {
            let (mac, rest) = match rest.split_once('/').map(|(first, rest)| (first.parse().ok(), rest)) {
                Some((Some(mac), after)) => (Some(mac), after),
                _ => (None, rest),
            };
            if let Some((name, file)) = rest.split_once('/') {
                return Self::Loader { mac, name, file };
            }
        }
        if let Some(request) = Self::by_machine(text) {
            return request;
        }
        if let Some((_, name)) = text.rsplit_once("pxelinux.cfg/") {
            // `01-<mac>` (the hardware type first), `<uuid>`, `C0000232` and its beginnings, `default`. The sender of
            // the request says as much as the forms by UUID and by address.
            return Self::PxelinuxMenu { mac: name.strip_prefix("01-").and_then(|mac| mac.parse().ok()) };
        }
        if let Some(rest) = text.strip_prefix("boot/")
            && let Some(request) = Self::image(rest)
        {
            return request;
        }
        match path.file_name() {
            "grub.cfg" => Self::GrubMenu { mac: None },
            // `grub.cfg-01-<mac>`: 01 is the hardware type (GRUB manual, "Network"). The forms by
            // address ask for less than the sender of the request already says.
            name => match name.strip_prefix("grub.cfg-") {
                Some(form) => {
                    Self::GrubMenu { mac: form.strip_prefix("01-").and_then(|mac| mac.parse().ok()) }
                }
                None => Self::BesideLoader,
            },
        }
    }

    fn by_machine(text: &'a str) -> Option<Self> {
        if let Some(rest) = text.strip_prefix("script/") {
            let (mac, _) = rest.split_once('/')?;
            return Some(Self::ScriptMenu { mac: mac.parse().ok()? });
        }
        let (mac, rest) = text.strip_prefix("pick/")?.split_once('/')?;
        let (key, language) = rest.rsplit_once('.')?;
        Some(Self::Picked { mac: mac.parse().ok()?, key, language: language.parse().ok()? })
    }

    fn image(rest: &'a str) -> Option<Self> {
        let mut parts = rest.splitn(4, '/');
        let mac = parts.next()?.parse().ok()?;
        let image = parts.next()?;
        let revision = parts.next()?.strip_prefix('r')?.parse().ok()?;
        // Without a file, the folder that holds them all is meant.
        Some(Self::Image { mac, image, revision, file: parts.next().unwrap_or_default() })
    }
}

/// The MAC address that stands in a machine's paths.
pub(super) fn path_mac(machine: Option<&Machine>, asking: Mac) -> Mac {
    machine
        .filter(|machine| !machine.macs.contains(&asking))
        .map_or(asking, |machine| machine.macs.first().copied().unwrap_or(asking))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_loaders_ask_for_is_recognised() {
        let mac: Mac = "02:00:5e:00:53:01".parse().unwrap();
        let is = |path: &str, expected: Request<'_>| {
            let path = ServedPath::parse(path).unwrap();
            assert_eq!(Request::recognise(&path), expected, "{path}");
        };
        is("loader/x64/shimx64.efi", Request::Loader { mac: None, name: "x64", file: "shimx64.efi" });
        let own = loader_path(mac, "x64", "x86_64-efi/http.mod");
        is(&own, Request::Loader { mac: Some(mac), name: "x64", file: "x86_64-efi/http.mod" });
        is("/debian-installer/amd64/grub/grub.cfg", Request::GrubMenu { mac: None });
        is("grub/grub.cfg-01-02-00-5e-00-53-01", Request::GrubMenu { mac: Some(mac) });
        is("grub/grub.cfg-C0000232", Request::GrubMenu { mac: None });
        is("loader/x64/grub.cfg", Request::GrubMenu { mac: None });
        is("grub/x86_64-efi/http.mod", Request::BesideLoader);
        let path = boot_path(mac, "tidewrack-12", 3, "amd64/linux");
        is(&path, Request::Image { mac, image: "tidewrack-12", revision: 3, file: "amd64/linux" });
        is("boot/not-a-mac/x/r1/linux", Request::BesideLoader);
        is(
            "loader/02-00-5e-00-53-01/bios/pxelinux.cfg/01-02-00-5e-00-53-01",
            Request::PxelinuxMenu { mac: Some(mac) },
        );
        is("pxelinux.cfg/C0000232", Request::PxelinuxMenu { mac: None });
        is(&script_path(mac), Request::ScriptMenu { mac });
        let picked = format!("{}.grub", pick_path(mac, "tools.memtest"));
        is(&picked, Request::Picked { mac, key: "tools.memtest", language: Language::Grub });
    }
}
