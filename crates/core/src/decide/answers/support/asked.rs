//! What the settings of one machine ask of a format.

use super::Feature;
use crate::{
    decide::answers::{Account, Addressing, LinkKind, Mount, Resolved, Source},
    model::answers::{AtEnd, FileSystem, Firewall, Layout, Sudo},
};

/// What the settings of one machine ask for, each with the place of the setting.
#[must_use]
pub(super) fn asked(settings: &Resolved) -> Vec<(Feature, String)> {
    let mut asked: Vec<(Feature, String)> = Vec::new();
    let mut add = |is_asked: bool, feature: Feature, place: &str| {
        if is_asked {
            asked.push((feature, place.into()));
        }
    };
    add(settings.host_name.len() > 15, Feature::LongHostName, "host_name");
    add(!settings.ntp.is_empty(), Feature::TimeServers, "ntp");
    add(settings.proxy.is_some(), Feature::Proxy, "proxy");
    add(!settings.dns.is_empty(), Feature::NameServers, "network.dns");
    for link in &settings.links {
        let place = format!("network.interfaces.{}", link.name);
        add(
            matches!(link.addressing, Addressing::Fixed(_)),
            Feature::FixedAddress,
            &format!("{place}.addresses"),
        );
        add(
            matches!(&link.addressing, Addressing::Fixed(nets) if nets.len() > 1),
            Feature::SeveralAddresses,
            &format!("{place}.addresses"),
        );
        add(matches!(link.kind, LinkKind::Mac(_)) && !link.boots, Feature::NicByMac, &format!("{place}.mac"));
        add(matches!(link.kind, LinkKind::Device(_)), Feature::NicByName, &format!("{place}.device"));
        add(matches!(link.kind, LinkKind::Bond(..)), Feature::Bond, &format!("{place}.bond"));
        add(matches!(link.kind, LinkKind::Bridge(_)), Feature::Bridge, &format!("{place}.bridge"));
        add(matches!(link.kind, LinkKind::Vlan(..)), Feature::Vlan, &format!("{place}.vlan"));
        add(link.mtu.is_some(), Feature::Mtu, &format!("{place}.mtu"));
    }
    let is_hashed = settings.root_password.as_ref().is_some_and(|password| password.sealed.is_none());
    add(is_hashed, Feature::HashedPassword, "root.password");
    add(!settings.root_keys.is_empty(), Feature::SshKeys, "root.ssh_keys");
    for user in &settings.users {
        let at = |key: &str| format!("users.{}.{key}", user.login);
        let Account { password, keys, sudo, groups, .. } = user;
        let is_hashed = password.as_ref().is_none_or(|password| password.sealed.is_none());
        add(is_hashed, Feature::HashedPassword, &at("password"));
        add(!keys.is_empty(), Feature::SshKeys, &at("ssh_keys"));
        add(*sudo == Sudo::NoPassword, Feature::SudoWithoutPassword, &at("sudo"));
        add(!groups.is_empty(), Feature::Groups, &at("groups"));
    }
    storage(settings, &mut add);
    add(!settings.packages.is_empty(), Feature::Packages, "software.packages");
    add(!settings.sets.is_empty(), Feature::Sets, "software.sets");
    add(settings.edition.is_some(), Feature::Edition, "software.edition");
    add(settings.product_key.is_some(), Feature::ProductKey, "software.product_key");
    match &settings.source {
        Source::Default => {}
        Source::Image(_) => add(true, Feature::ImageSource, "software.source"),
        Source::Mirror(url) => {
            add(true, Feature::MirrorSource, "software.source");
            add(url.starts_with("https:"), Feature::HttpsSource, "software.source");
        }
    }
    for (name, repository) in &settings.repositories {
        let place = format!("software.repositories.{name}");
        let is_debian = repository.suite.is_some() || repository.components.is_some();
        add(is_debian, Feature::DebianRepositories, &place);
        add(repository.suite.is_none(), Feature::RpmRepositories, &place);
    }
    add(!settings.kernel_parameters.is_empty(), Feature::KernelParameters, "kernel_parameters");
    add(settings.security.mandatory_access.is_some(), Feature::MandatoryAccess, "security.mandatory_access");
    add(settings.security.firewall == Some(Firewall::On), Feature::FirewallOn, "security.firewall");
    add(settings.security.firewall == Some(Firewall::Off), Feature::FirewallOff, "security.firewall");
    add(settings.at_end == AtEnd::PowerOff, Feature::PowerOff, "at_end");
    add(!settings.last_steps.is_empty(), Feature::LastSteps, "last_steps");
    add(!settings.first_boot.is_empty(), Feature::FirstBoot, "first_boot");
    asked
}

fn storage(settings: &Resolved, add: &mut impl FnMut(bool, Feature, &str)) {
    let disks = &settings.disks;
    for (name, disk) in &disks.taken {
        let place = format!("storage.disks.{name}");
        let is_number = disk.device.as_ref().is_some_and(|device| !device.starts_with('/'));
        add(disk.device.is_some() && !is_number, Feature::DiskByPath, &place);
        add(is_number, Feature::DiskByNumber, &place);
        add(disk.device.is_none() && !disk.is_any(), Feature::DiskByLikeness, &place);
        add(disk.at_least.is_some() || disk.at_most.is_some(), Feature::DiskBySize, &place);
    }
    add(!disks.never.is_empty(), Feature::NeverTouch, "storage.never");
    add(disks.taken.len() > 1 && !disks.mirror, Feature::SeveralDisks, "storage.disks");
    add(disks.layout == Layout::Lvm, Feature::Lvm, "storage.layout");
    add(disks.mirror, Feature::Mirror, "storage.mirror");
    let (encrypted, plain) = (disks.passphrase.is_some(), disks.layout == Layout::Plain);
    add(encrypted, Feature::Encryption, "storage.encrypt");
    add(encrypted && disks.mirror, Feature::MirrorEncrypted, "storage.encrypt");
    add(encrypted && plain, Feature::EncryptionPlain, "storage.encrypt");
    add(encrypted && plain && disks.volumes.is_none(), Feature::GuidedEncryption, "storage.encrypt");
    add(disks.volumes.is_some(), Feature::Volumes, "storage.volumes");
    for (index, place) in disks.volumes.iter().flatten().enumerate() {
        let at = format!("storage.volumes[{index}]");
        add(place.mount == Mount::Swap, Feature::Swap, &at);
        add(matches!(&place.mount, Mount::Path(path) if path != "/"), Feature::Paths, &at);
        add(matches!(place.mount, Mount::Letter(_)), Feature::Letters, &at);
        match place.file_system {
            None => {}
            Some(FileSystem::Ext4 | FileSystem::Xfs | FileSystem::Vfat) => {
                add(true, Feature::LinuxFileSystems, &format!("{at}.file_system"));
            }
            Some(FileSystem::Btrfs) => add(true, Feature::Btrfs, &format!("{at}.file_system")),
            Some(FileSystem::Ntfs) => add(true, Feature::Ntfs, &format!("{at}.file_system")),
        }
    }
}
