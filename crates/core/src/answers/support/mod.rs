//! What each installer's format can say. The writers' faults and the table in the documentation come from here.

mod asked;

use asked::asked;

use super::resolved::{LinkKind, Resolved};
use crate::{Fault, image::Family};

/// Something that settings may ask of a format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Feature {
    /// A host name of more than 15 characters.
    LongHostName,
    /// Time servers.
    TimeServers,
    /// A proxy for packages.
    Proxy,
    /// A fixed address.
    FixedAddress,
    /// Several fixed addresses on one interface.
    SeveralAddresses,
    /// Name servers that DHCP does not say.
    NameServers,
    /// A NIC by its MAC address.
    NicByMac,
    /// A NIC by its name.
    NicByName,
    /// Bonds.
    Bond,
    /// Bridges.
    Bridge,
    /// VLANs.
    Vlan,
    /// A packet size of an interface.
    Mtu,
    /// A password that is kept as a hash only.
    HashedPassword,
    /// SSH keys.
    SshKeys,
    /// Becoming root without a password.
    SudoWithoutPassword,
    /// Further groups of users.
    Groups,
    /// A disk by its device's path.
    DiskByPath,
    /// A disk by its number.
    DiskByNumber,
    /// A disk by what it is like.
    DiskByLikeness,
    /// A disk by bounds of its size.
    DiskBySize,
    /// Disks that are never touched.
    NeverTouch,
    /// Volumes on several disks.
    SeveralDisks,
    /// Logical volumes.
    Lvm,
    /// RAID 1.
    Mirror,
    /// RAID 1 under logical volumes that are encrypted.
    MirrorEncrypted,
    /// Encryption.
    Encryption,
    /// Encryption without logical volumes.
    EncryptionPlain,
    /// Encryption in partitions whose volumes are not said.
    GuidedEncryption,
    /// Volumes of one's own arrangement.
    Volumes,
    /// Swap space of a size.
    Swap,
    /// File systems at paths.
    Paths,
    /// Drives by letter.
    Letters,
    /// The file systems of Linux.
    LinuxFileSystems,
    /// Btrfs in the arrangement asked for.
    Btrfs,
    /// NTFS.
    Ntfs,
    /// Packages.
    Packages,
    /// Sets of packages.
    Sets,
    /// What of the image is installed.
    Edition,
    /// A product key.
    ProductKey,
    /// A mirror as source.
    MirrorSource,
    /// The image itself as source.
    ImageSource,
    /// A mirror or image that has to be reached by HTTPS.
    HttpsSource,
    /// Repositories of RPM packages.
    RpmRepositories,
    /// Repositories of Debian packages.
    DebianRepositories,
    /// Kernel parameters of the installed system.
    KernelParameters,
    /// SELinux.
    MandatoryAccess,
    /// A firewall, on.
    FirewallOn,
    /// A firewall, off.
    FirewallOff,
    /// Switching off at the end.
    PowerOff,
    /// Scripts at the end.
    LastSteps,
    /// Scripts at the first start.
    FirstBoot,
}

impl Feature {
    /// Every feature, in the order of the settings.
    pub const ALL: [Self; 51] = [
        Self::LongHostName,
        Self::TimeServers,
        Self::Proxy,
        Self::FixedAddress,
        Self::SeveralAddresses,
        Self::NameServers,
        Self::NicByMac,
        Self::NicByName,
        Self::Bond,
        Self::Bridge,
        Self::Vlan,
        Self::Mtu,
        Self::HashedPassword,
        Self::SshKeys,
        Self::SudoWithoutPassword,
        Self::Groups,
        Self::DiskByPath,
        Self::DiskByNumber,
        Self::DiskByLikeness,
        Self::DiskBySize,
        Self::NeverTouch,
        Self::SeveralDisks,
        Self::Lvm,
        Self::Mirror,
        Self::MirrorEncrypted,
        Self::Encryption,
        Self::EncryptionPlain,
        Self::GuidedEncryption,
        Self::Volumes,
        Self::Swap,
        Self::Paths,
        Self::Letters,
        Self::LinuxFileSystems,
        Self::Btrfs,
        Self::Ntfs,
        Self::Packages,
        Self::Sets,
        Self::Edition,
        Self::ProductKey,
        Self::MirrorSource,
        Self::ImageSource,
        Self::HttpsSource,
        Self::RpmRepositories,
        Self::DebianRepositories,
        Self::KernelParameters,
        Self::MandatoryAccess,
        Self::FirewallOn,
        Self::FirewallOff,
        Self::PowerOff,
        Self::LastSteps,
        Self::FirstBoot,
    ];

    /// What it is, as a person reads it.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::LongHostName => "a host name of more than 15 characters",
            Self::TimeServers => "time servers",
            Self::Proxy => "a proxy",
            Self::FixedAddress => "a fixed address",
            Self::SeveralAddresses => "several fixed addresses on one interface",
            Self::NameServers => "name servers",
            Self::NicByMac => "a NIC by its MAC address",
            Self::NicByName => "a NIC by its name",
            Self::Bond => "a bond",
            Self::Bridge => "a bridge",
            Self::Vlan => "a VLAN",
            Self::Mtu => "a packet size",
            Self::HashedPassword => "a password kept as a hash only",
            Self::SshKeys => "SSH keys",
            Self::SudoWithoutPassword => "becoming root without a password",
            Self::Groups => "further groups",
            Self::DiskByPath => "a disk by its path",
            Self::DiskByNumber => "a disk by its number",
            Self::DiskByLikeness => "a disk by model, serial number or size",
            Self::DiskBySize => "a disk of at least or at most a size",
            Self::NeverTouch => "disks that are never touched",
            Self::SeveralDisks => "volumes on several disks",
            Self::Lvm => "logical volumes",
            Self::Mirror => "RAID 1",
            Self::MirrorEncrypted => "encryption on RAID 1",
            Self::Encryption => "encryption",
            Self::EncryptionPlain => "encryption without logical volumes",
            Self::GuidedEncryption => "encryption in the installer's own arrangement of partitions",
            Self::Volumes => "volumes of one's own arrangement",
            Self::Swap => "swap space",
            Self::Paths => "file systems at paths other than /",
            Self::Letters => "drives by letter",
            Self::LinuxFileSystems => "ext4, XFS or FAT",
            Self::Btrfs => "Btrfs",
            Self::Ntfs => "NTFS",
            Self::Packages => "packages",
            Self::Sets => "sets of packages",
            Self::Edition => "an edition or environment",
            Self::ProductKey => "a product key",
            Self::MirrorSource => "a mirror as source",
            Self::ImageSource => "the image itself as source",
            Self::HttpsSource => "a source by HTTPS",
            Self::RpmRepositories => "repositories of RPM packages",
            Self::DebianRepositories => "repositories of Debian packages (with a suite)",
            Self::KernelParameters => "kernel parameters of the installed system",
            Self::MandatoryAccess => "SELinux's policy",
            Self::FirewallOn => "a firewall, on",
            Self::FirewallOff => "a firewall, off",
            Self::PowerOff => "switching off at the end",
            Self::LastSteps => "last steps",
            Self::FirstBoot => "first-boot scripts",
        }
    }
}

/// Why a format cannot say something and what to do instead; `None` if it can.
#[must_use]
pub const fn lacks(family: Family, feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match family {
        Family::Preseed => match feature {
            F::SeveralDisks => {
                Some("The installer divides one disk, or two as a mirror; add the others in a last step.")
            }
            F::EncryptionPlain | F::GuidedEncryption => {
                Some("The installer encrypts logical volumes: say layout = \"lvm\".")
            }
            F::MirrorEncrypted => {
                Some("The installer's recipes do not encrypt a mirror: leave one of them out.")
            }
            F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
            F::Letters | F::Ntfs => {
                Some("This system mounts file systems at paths and has no NTFS of its own.")
            }
            F::Btrfs => None,
            F::Edition | F::ProductKey => Some("There is one edition, without a key: use packages and sets."),
            F::ImageSource => Some("The netboot installer fetches packages from a mirror: give its URL."),
            F::HttpsSource => Some("The installer has no certificates of its own; give an http:// URL."),
            F::RpmRepositories => Some("Give the repository a suite, as Debian's have."),
            F::MandatoryAccess => Some("SELinux is not set up by this installer; do it in a last step."),
            F::FirewallOn | F::FirewallOff => {
                Some("No firewall is set up by this installer; do it in a last step.")
            }
            _ => None,
        },
        Family::Kickstart => match feature {
            F::SeveralAddresses => {
                Some("A network command has one address: add the others in a last step, with nmcli.")
            }
            F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
            F::Letters | F::Ntfs => {
                Some("This system mounts file systems at paths and has no NTFS of its own.")
            }
            F::Btrfs => Some(
                "Btrfs needs its own volumes, which are not written here: use ext4 or XFS, or a fragment.",
            ),
            F::ProductKey => Some("There is no key to give."),
            F::DebianRepositories => {
                Some("A repository of RPM packages has neither suite nor components: leave them out.")
            }
            _ => None,
        },
        Family::Autoinstall => match feature {
            F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
            F::DiskBySize => Some(
                "The installer's matches know smallest and largest only: say those, a model or a serial number.",
            ),
            F::GuidedEncryption => Some(
                "The installer's own arrangement encrypts logical volumes only: say layout = \"lvm\", or the volumes.",
            ),
            F::NeverTouch => {
                Some("The installer's matches cannot exclude: describe exactly the disks to take.")
            }
            F::Letters | F::Ntfs => {
                Some("This system mounts file systems at paths and has no NTFS of its own.")
            }
            F::ProductKey => Some("There is no key to give."),
            F::ImageSource => Some(
                "The installer takes its system from the image it runs from by itself: leave source out.",
            ),
            F::RpmRepositories => Some("Give the repository a suite, as those of Debian packages have."),
            F::MandatoryAccess => Some("SELinux is not set up by this installer; do it in a last step."),
            _ => None,
        },
        Family::CloudConfig => match feature {
            F::FixedAddress
            | F::NicByMac
            | F::SeveralAddresses
            | F::NameServers
            | F::NicByName
            | F::Bond
            | F::Bridge
            | F::Vlan
            | F::Mtu => Some(
                "A live host has its network before it reads its answers: reserve its address, or say ip= in the image's parameters.",
            ),
            F::DiskByPath
            | F::DiskByNumber
            | F::DiskByLikeness
            | F::DiskBySize
            | F::NeverTouch
            | F::SeveralDisks
            | F::Lvm
            | F::Mirror
            | F::MirrorEncrypted
            | F::Encryption
            | F::EncryptionPlain
            | F::GuidedEncryption
            | F::Volumes
            | F::Swap
            | F::Paths
            | F::Letters
            | F::LinuxFileSystems
            | F::Btrfs
            | F::Ntfs => Some("A live host puts nothing on a disk: leave storage out."),
            F::PowerOff => {
                Some("A live host works on: leave at_end out, or switch it off in a first-boot script.")
            }
            F::Sets | F::Edition | F::ProductKey => Some("A live host is the image as it is: add packages."),
            F::ImageSource => Some("A live host runs from its image by itself: leave source out."),
            F::RpmRepositories => Some("Give the repository a suite, as those of Debian packages have."),
            F::KernelParameters => {
                Some("A live host is started by the parameters of its image, its labels and its machine.")
            }
            F::MandatoryAccess | F::FirewallOn | F::FirewallOff => {
                Some("Set it up in the image, or in a last step.")
            }
            _ => None,
        },
        Family::UnattendedXml => match feature {
            F::LongHostName => Some("The name is cut off after 15 characters: give a shorter one."),
            F::Proxy => Some("Set the proxy in a first-boot script."),
            F::NicByName => Some("NICs have no such names there: give its MAC address as `mac`."),
            F::Bond | F::Bridge | F::Vlan | F::Mtu => Some("Set it up in a first-boot script."),
            F::HashedPassword => Some("This format takes no hash: save the password as `sealed`."),
            F::SshKeys => Some("Put the keys in place in a first-boot script."),
            F::SudoWithoutPassword => {
                Some("There is no such thing: say sudo = \"password\", which makes an administrator.")
            }
            F::DiskByPath | F::DiskByLikeness | F::DiskBySize | F::NeverTouch => {
                Some("Set-up knows disks by their number only: say device = \"0\".")
            }
            F::Lvm
            | F::Mirror
            | F::MirrorEncrypted
            | F::Encryption
            | F::EncryptionPlain
            | F::GuidedEncryption => Some("Set-up divides disks into partitions only."),
            F::Swap => Some("The system makes its own page file: leave swap out."),
            F::Paths => Some("Drives have letters there, as in D:."),
            F::LinuxFileSystems | F::Btrfs => Some("The system installs to NTFS only."),
            F::Packages | F::Sets => Some("Set-up installs no packages: fetch them in a first-boot script."),
            F::MirrorSource | F::ImageSource | F::HttpsSource => {
                Some("Set-up installs from where it was started: leave source out.")
            }
            F::RpmRepositories | F::DebianRepositories => Some("There are no repositories: leave them out."),
            F::KernelParameters => Some("Its kernel takes none."),
            F::MandatoryAccess => Some("There is no SELinux."),
            _ => None,
        },
        Family::None => None,
    }
}

/// What the settings ask for and the format of `family` cannot say.
#[must_use]
pub(super) fn faults(family: Family, settings: &Resolved) -> Vec<Fault> {
    let fault = |(feature, place): (Feature, String)| {
        let mend = lacks(family, feature)?;
        let what = format!("{} cannot say {}", name_of(family), feature.as_str());
        Some(Fault { place, what, mend: mend.into() })
    };
    asked(settings).into_iter().filter_map(fault).collect()
}

/// What lacks of settings that are to be installed by, whatever the format.
#[must_use]
pub(super) fn incomplete(settings: &Resolved) -> Vec<Fault> {
    let is_open = |password: bool, keys: &[String]| password || !keys.is_empty();
    let root = is_open(settings.root_password.is_some(), &settings.root_keys);
    if root || settings.users.iter().any(|user| is_open(user.password.is_some(), &user.keys)) {
        return Vec::new();
    }
    vec![Fault {
        place: "users".into(),
        what: "nobody could log in".into(),
        mend: "Give a user or root a password or an SSH key, in this layer or another.".into(),
    }]
}

/// What will hardly be what was meant, though the format can say it.
#[must_use]
pub fn warnings(family: Family, settings: &Resolved) -> Vec<Fault> {
    let plain_names = settings.kernel_parameters.iter().any(|word| word == "net.ifnames=0");
    let is_linux =
        matches!(family, Family::Preseed | Family::Kickstart | Family::Autoinstall | Family::CloudConfig);
    let mut warnings = Vec::new();
    for link in &settings.links {
        let LinkKind::Device(device) = &link.kind else { continue };
        let is_plain = device.strip_prefix("eth").is_some_and(|number| number.parse::<u32>().is_ok());
        let (what, mend) = if is_linux && is_plain && !plain_names {
            (
                format!(
                    "the installed system will not call a NIC {device}: it names them by their place, as in eno1 or enp3s0"
                ),
                "Name the NIC by its address (`mac`), or add net.ifnames=0 to kernel_parameters.",
            )
        } else if is_linux && !is_plain && plain_names {
            (
                format!(
                    "with net.ifnames=0 the installed system will not call a NIC {device}, but eth0 and so on"
                ),
                "Name the NIC by its address (`mac`), or leave net.ifnames=0 out.",
            )
        } else {
            continue;
        };
        warnings.push(Fault {
            place: format!("network.interfaces.{}.device", link.name),
            what,
            mend: mend.into(),
        });
    }
    warnings
}

/// What a family's files are called in a sentence.
#[must_use]
const fn name_of(family: Family) -> &'static str {
    match family {
        Family::Preseed => "a preseed file",
        Family::Kickstart => "a kickstart file",
        Family::Autoinstall => "an autoinstall file",
        Family::CloudConfig => "cloud-config for a live image",
        Family::UnattendedXml => "an unattended-set-up file",
        Family::None => "this image",
    }
}

/// The table of all features and formats, in Markdown.
#[must_use]
pub fn table() -> String {
    let families =
        [Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig, Family::UnattendedXml];
    let mut text = String::from(
        "| | preseed | kickstart | autoinstall | cloud-config (live) | unattended XML |\n|---|---|---|---|---|---|\n",
    );
    let mut notes: Vec<&str> = Vec::new();
    for feature in Feature::ALL {
        text.push_str(&format!("| {} |", feature.as_str()));
        for family in families {
            match lacks(family, feature) {
                None => text.push_str(" yes |"),
                Some(why) => {
                    let number = notes.iter().position(|note| *note == why).unwrap_or_else(|| {
                        notes.push(why);
                        notes.len() - 1
                    });
                    text.push_str(&format!(" no ({}) |", number + 1));
                }
            }
        }
        text.push('\n');
    }
    text.push('\n');
    for (index, note) in notes.iter().enumerate() {
        text.push_str(&format!("{}. {note}\n", index + 1));
    }
    text
}
