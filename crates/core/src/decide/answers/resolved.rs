//! Settings of one machine, whole: what the layers come to once the machine's values were put in.
//!
//! Here nothing is left out and nothing is text that has to be read again: the writers of the formats start from this. What
//! needs neither, as [`Software`] and [`Security`], is here as it was said.

use std::{collections::BTreeMap, net::Ipv4Addr};

use ipnet::Ipv4Net;
use lastmile_formats::mac::Mac;

use crate::{
    base::Fault,
    model::{
        answers::{
            AtEnd, BondMode, BootMode, DiskMatch, FileSystem, Format, Keyboard, Password, Security, Size,
            Software, Sudo,
        },
        image::Family,
    },
};

/// The settings of one machine.
#[derive(Debug, Clone, PartialEq)]
pub struct Resolved {
    /// Host name, a single label.
    pub host_name: String,
    /// Domain.
    pub domain: Option<String>,
    /// `en_GB.UTF-8`.
    pub locale: String,
    /// XKB layout and variant.
    pub keyboard: Keyboard,
    /// IANA name.
    pub time_zone: String,
    /// Time servers.
    pub ntp: Vec<String>,
    /// HTTP proxy for packages.
    pub proxy: Option<String>,
    /// Name servers that were said.
    pub dns: Vec<Ipv4Addr>,
    /// Interfaces, each after those it is made of; none for DHCP on the NIC that boots.
    pub links: Vec<Link>,
    /// Root's password.
    pub root_password: Option<Password>,
    /// Root's SSH keys.
    pub root_keys: Vec<String>,
    /// Who may log in, by log-in name.
    pub users: Vec<Account>,
    /// What becomes of the disks.
    pub disks: Disks,
    /// What is installed, as it was said.
    pub software: Software,
    /// Where the base system comes from.
    pub source: Source,
    /// Mandatory access control and firewall.
    pub security: Security,
    /// Kernel parameters of the installed system.
    pub kernel_parameters: Vec<String>,
    /// Scripts at the installer's end, by name.
    pub last_steps: BTreeMap<String, String>,
    /// Scripts at the first start, by name.
    pub first_boot: BTreeMap<String, String>,
    /// What the installer does when it has finished.
    pub at_end: AtEnd,
    /// Parts in a format of its own.
    pub formats: BTreeMap<Family, Format>,
}

/// Where the base system comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// Where the installer looks by itself.
    Default,
    /// The image, served from here; its files are below this URL.
    Image(String),
    /// A mirror's URL.
    Mirror(String),
}

/// An interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// What it is called here; for all but NICs also what the system calls it.
    pub name: String,
    /// What it is.
    pub kind: LinkKind,
    /// Whether it is the NIC that boots, and not one that was named.
    pub boots: bool,
    /// Its addresses.
    pub addressing: Addressing,
    /// The default route.
    pub router: Option<Ipv4Addr>,
    /// Largest packet in bytes.
    pub mtu: Option<u16>,
}

/// What an interface is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkKind {
    /// The NIC of this MAC address.
    Mac(Mac),
    /// The NIC that boots, where its address is not known yet.
    Booting,
    /// The NIC of this name.
    Device(String),
    /// A bond of interfaces.
    Bond(Vec<String>, BondMode),
    /// A bridge between interfaces.
    Bridge(Vec<String>),
    /// A VLAN: its tag, and the interface it is on.
    Vlan(u16, String),
}

/// How an interface comes by its addresses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Addressing {
    /// It has none.
    None,
    /// By DHCP.
    Dhcp,
    /// These.
    Fixed(Vec<Ipv4Net>),
}

/// A person who may log in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Log-in name.
    pub login: String,
    /// Full name; may be empty.
    pub full_name: String,
    /// Password.
    pub password: Option<Password>,
    /// SSH keys.
    pub keys: Vec<String>,
    /// Whether to become root.
    pub sudo: Sudo,
    /// Further groups.
    pub groups: Vec<String>,
}

/// What becomes of the disks.
#[derive(Debug, Clone, PartialEq)]
pub struct Disks {
    /// Which firmware the system boots by.
    pub boot_mode: BootMode,
    /// The disks that are taken, with their names; at least one.
    pub taken: Vec<(String, DiskMatch)>,
    /// Disks that are never touched.
    pub never: Vec<DiskMatch>,
    /// Partitions or logical volumes.
    pub logical_volumes: bool,
    /// Whether all is kept twice.
    pub mirror: bool,
    /// The passphrase, if all but `/boot` is encrypted.
    pub passphrase: Option<Password>,
    /// Name of the volume group.
    pub group: String,
    /// The file systems; `None` for the installer's own arrangement.
    pub volumes: Option<Vec<Place>>,
}

/// One file system, or swap space.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Where it is mounted.
    pub mount: Mount,
    /// Its size.
    pub size: Size,
    /// Its file system.
    pub file_system: Option<FileSystem>,
    /// Which of the disks it lies on, as an index into [`Disks::taken`].
    pub disk: usize,
}

/// Where a file system is mounted.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Mount {
    /// At a path.
    Path(String),
    /// Not at all: swap space.
    Swap,
    /// As a drive.
    Letter(char),
}

impl Mount {
    /// Whether it is where the system itself lies.
    #[must_use]
    pub fn is_system(&self) -> bool {
        matches!(self, Self::Letter('C')) || matches!(self, Self::Path(path) if path == "/")
    }

    /// Its path, if it has one.
    #[must_use]
    pub fn path(&self) -> Option<&str> {
        match self {
            Self::Path(path) => Some(path),
            Self::Swap | Self::Letter(_) => None,
        }
    }
}

impl Resolved {
    /// The passwords that are still those of the example, which whoever reads the documents knows.
    #[must_use]
    pub fn example_passwords(&self) -> Vec<Fault> {
        let of_users =
            self.users.iter().map(|user| (format!("users.{}.password", user.login), &user.password));
        let others = [
            ("root.password".to_owned(), &self.root_password),
            ("storage.encrypt".to_owned(), &self.disks.passphrase),
        ];
        let examples = others.into_iter().chain(of_users);
        let examples = examples.filter(|(_, password)| password.as_ref().is_some_and(|one| one.is_example));
        examples
            .map(|(place, _)| Fault {
                place,
                what: "it is still that of the example, which is no secret".into(),
                fix: "Choose your own: `lastmile answers edit`, and give it as `plain`.".into(),
            })
            .collect()
    }
}

impl Disks {
    /// The volumes with what starting from them needs: a `/boot` outside of what boot loaders cannot read.
    #[must_use]
    pub fn places(&self) -> Vec<Place> {
        let volumes = self.volumes.clone().unwrap_or_default();
        let has_boot = volumes.iter().any(|place| place.mount.path() == Some("/boot"));
        if has_boot || !self.needs_boot() {
            return volumes;
        }
        let disk = volumes.iter().find(|place| place.mount.is_system()).map_or(0, |place| place.disk);
        let boot = Place {
            mount: Mount::Path("/boot".into()),
            size: Size::Mib(BOOT_MIB),
            file_system: Some(FileSystem::Ext4),
            disk,
        };
        [boot].into_iter().chain(volumes).collect()
    }

    /// The disks that a boot loader goes on, as indices into [`Disks::taken`]: that of `/boot`, and the other one of a
    /// mirror.
    #[must_use]
    pub fn boot_disks(&self) -> Vec<usize> {
        let places = self.places();
        let of =
            |path: &str| places.iter().find(|place| place.mount.path() == Some(path)).map(|place| place.disk);
        let system = || places.iter().find(|place| place.mount.is_system()).map(|place| place.disk);
        let first = of("/boot").or_else(system).unwrap_or(0);
        if self.mirror { vec![0, 1] } else { vec![first] }
    }

    /// Whether a boot loader could not read the root file system.
    #[must_use]
    pub const fn needs_boot(&self) -> bool {
        self.logical_volumes || self.mirror || self.passphrase.is_some()
    }

    /// Whether a volume lies within the volume group or the encrypted part.
    #[must_use]
    pub fn is_inside(&self, place: &Place) -> bool {
        (self.logical_volumes || self.passphrase.is_some()) && place.mount.path() != Some("/boot")
    }
}

/// Size of a `/boot` that nobody gave: room for some kernels with their initrds.
pub(super) const BOOT_MIB: u64 = 1024;
/// Size of an EFI system partition: some disks with large sectors need 260 MiB for FAT32, and updates of firmware more.
pub(super) const EFI_MIB: u64 = 512;
