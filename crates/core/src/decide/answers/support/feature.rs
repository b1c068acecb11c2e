//! What settings can ask for, as far as formats differ in it.

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
