//! What each format cannot say, and what to do instead.

use super::Feature;
use crate::model::image::Family;

/// Why a format cannot say something and what to do instead; `None` if it can.
#[must_use]
pub const fn lacks(family: Family, feature: Feature) -> Option<&'static str> {
    match family {
        Family::Preseed => preseed(feature),
        Family::Kickstart => kickstart(feature),
        Family::Autoinstall => autoinstall(feature),
        Family::CloudConfig => cloud_config(feature),
        Family::UnattendedXml => unattended_xml(feature),
        Family::None => None,
    }
}

/// What a preseed file cannot say.
const fn preseed(feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match feature {
        F::SeveralDisks => {
            Some("The installer divides one disk, or two as a mirror; add the others in a last step.")
        }
        F::EncryptionPlain | F::GuidedEncryption => {
            Some("The installer encrypts logical volumes: say layout = \"lvm\".")
        }
        F::MirrorEncrypted => Some("The installer's recipes do not encrypt a mirror: leave one of them out."),
        F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
        F::Letters | F::Ntfs => Some("This system mounts file systems at paths and has no NTFS of its own."),
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
    }
}

/// What a kickstart file cannot say.
const fn kickstart(feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match feature {
        F::SeveralAddresses => {
            Some("A network command has one address: add the others in a last step, with nmcli.")
        }
        F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
        F::Letters | F::Ntfs => Some("This system mounts file systems at paths and has no NTFS of its own."),
        F::Btrfs => {
            Some("Btrfs needs its own volumes, which are not written here: use ext4 or XFS, or a fragment.")
        }
        F::ProductKey => Some("There is no key to give."),
        F::DebianRepositories => {
            Some("A repository of RPM packages has neither suite nor components: leave them out.")
        }
        _ => None,
    }
}

/// What an autoinstall file cannot say.
const fn autoinstall(feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match feature {
        F::DiskByNumber => Some("Name the disk by its path, or say what it is like."),
        F::DiskBySize => Some(
            "The installer's matches know smallest and largest only: say those, a model or a serial number.",
        ),
        F::GuidedEncryption => Some(
            "The installer's own arrangement encrypts logical volumes only: say layout = \"lvm\", or the volumes.",
        ),
        F::NeverTouch => Some("The installer's matches cannot exclude: describe exactly the disks to take."),
        F::Letters | F::Ntfs => Some("This system mounts file systems at paths and has no NTFS of its own."),
        F::ProductKey => Some("There is no key to give."),
        F::ImageSource => {
            Some("The installer takes its system from the image it runs from by itself: leave source out.")
        }
        F::RpmRepositories => Some("Give the repository a suite, as those of Debian packages have."),
        F::MandatoryAccess => Some("SELinux is not set up by this installer; do it in a last step."),
        _ => None,
    }
}

/// What cloud-config for a live image cannot say.
const fn cloud_config(feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match feature {
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
    }
}

/// What an unattended-set-up file cannot say.
const fn unattended_xml(feature: Feature) -> Option<&'static str> {
    use Feature as F;
    match feature {
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
    }
}
