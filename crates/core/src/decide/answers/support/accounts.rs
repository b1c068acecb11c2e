//! What settings ask for in root and users.

use Family::UnattendedXml;

use super::feature::{Feature, at};
use crate::{
    decide::answers::{Account, Resolved},
    model::{answers::Sudo, image::Family},
};

/// The key of every user that asks for something.
fn users(settings: &Resolved, key: &str, asks: impl Fn(&Account) -> bool) -> Vec<String> {
    let asking = settings.users.iter().filter(|user| asks(user));
    asking.map(|user| format!("users.{}.{key}", user.login)).collect()
}

pub(super) const FEATURES: &[Feature] = &[
    Feature {
        name: "a password kept as a hash only",
        asked: |settings| {
            let root = settings.root_password.as_ref().is_some_and(|password| password.sealed.is_none());
            let is_hashed =
                |user: &Account| user.password.as_ref().is_none_or(|password| password.sealed.is_none());
            [at("root.password", root), users(settings, "password", is_hashed)].concat()
        },
        lacks: &[(UnattendedXml, "This format takes no hash: save the password as `sealed`.")],
    },
    Feature {
        name: "SSH keys",
        asked: |settings| {
            let root = at("root.ssh_keys", !settings.root_keys.is_empty());
            [root, users(settings, "ssh_keys", |user| !user.keys.is_empty())].concat()
        },
        lacks: &[(UnattendedXml, "Put the keys in place in a first-boot script.")],
    },
    Feature {
        name: "becoming root without a password",
        asked: |settings| users(settings, "sudo", |user| user.sudo == Sudo::NoPassword),
        lacks: &[(
            UnattendedXml,
            "There is no such thing: say sudo = \"password\", which makes an administrator.",
        )],
    },
    Feature {
        name: "further groups",
        asked: |settings| users(settings, "groups", |user| !user.groups.is_empty()),
        lacks: &[],
    },
];
