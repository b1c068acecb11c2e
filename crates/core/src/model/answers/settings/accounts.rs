//! Who may log in.

use serde::{Deserialize, Serialize};

use super::{Texts, Verdict, none, wrong};

/// Root, or the built-in administrator.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Root<P> {
    /// The password. Without one, root cannot log in by password.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub password: Option<P>,
    /// Public keys by which root may log in over SSH.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["ssh-ed25519 AAAA… harbour@gannet.example"])))]
    pub ssh_keys: Option<Vec<String>>,
}

/// A person who may log in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct User<P> {
    /// The person's or role's full name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "Ship's Purser"))]
    pub full_name: Option<String>,
    /// The password. Without one, only SSH keys let this user in.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub password: Option<P>,
    /// Public keys by which this user may log in over SSH.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["ssh-ed25519 AAAA… harbour@gannet.example"])))]
    pub ssh_keys: Option<Vec<String>>,
    /// Whether this user may become root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sudo: Option<Sudo>,
    /// Further groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["adm"])))]
    pub groups: Option<Vec<String>>,
}

/// Whether a user may become root.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(example = "password"))]
#[serde(rename_all = "kebab-case")]
pub enum Sudo {
    /// Not at all.
    #[default]
    No,
    /// After giving the own password.
    Password,
    /// Without being asked.
    NoPassword,
}

impl<P> Default for User<P> {
    fn default() -> Self {
        Self { full_name: None, password: None, ssh_keys: None, sudo: None, groups: None }
    }
}

impl<P> User<P> {
    pub(crate) fn with_password<Q>(&self, password: Option<Q>) -> User<Q> {
        User {
            full_name: self.full_name.clone(),
            password,
            ssh_keys: self.ssh_keys.clone(),
            sudo: self.sudo,
            groups: self.groups.clone(),
        }
    }

    pub(super) fn check(&self, login: &str, texts: &mut Texts<'_>) {
        let place = format!("users.{login}");
        if let Err((what, fix)) = check_login(login) {
            texts.faults.add(&place, what, fix);
        }
        texts.each(&format!("{place}.full_name"), self.full_name.iter(), |text| {
            // `:` and `,` divide the fields of passwd(5).
            if text.contains([':', ',']) {
                return wrong(
                    format!("'{text}' cannot stand in the list of users"),
                    "Leave out ':' and ','.",
                );
            }
            // Readers strip the one, and join lines at the other.
            if text.trim() != text || text.ends_with('\\') {
                return wrong(
                    format!("'{text}' begins or ends with a blank, or ends in a backslash"),
                    "Leave that out.",
                );
            }
            Ok(())
        });
        check_keys(texts, &place, self.ssh_keys.as_deref());
        texts.list(&format!("{place}.groups"), self.groups.as_deref(), check_login);
    }
}

impl<P> Root<P> {
    pub(super) fn check(&self, texts: &mut Texts<'_>) {
        check_keys(texts, "root", self.ssh_keys.as_deref());
    }
}

fn check_login(login: &str) -> Verdict {
    let body = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
    if login == "root" {
        return wrong("root is there already", "Say what is root's under `root`.");
    }
    if login.len() > 32 || !login.chars().all(body) || !login.starts_with(|c: char| c.is_ascii_lowercase()) {
        return wrong(
            format!("'{login}' is no log-in or group name"),
            "Begin with a lower-case letter, then lower-case letters, digits, '-' and '_', at most 32.",
        );
    }
    Ok(())
}

/// A public key in the form of an authorized_keys line without options (sshd(8)): type, base64, perhaps a comment.
fn check_keys(texts: &mut Texts<'_>, place: &str, keys: Option<&[String]>) {
    for (index, key) in keys.into_iter().flatten().enumerate() {
        let mut words = key.split_whitespace();
        let kind = words.next().unwrap_or_default();
        let is_kind =
            ["ssh-", "ecdsa-sha2-", "sk-ssh-", "sk-ecdsa-"].iter().any(|start| kind.starts_with(start));
        let base64 = |c: char| c.is_ascii_alphanumeric() || matches!(c, '+' | '/' | '=');
        let is_body = words.next().is_some_and(|body| body.len() > 20 && body.chars().all(base64));
        if !is_kind || !is_body || key.chars().any(|c| c.is_control() || c == '\'') {
            texts.faults.add(
                format!("{place}.ssh_keys[{index}]"),
                "it is no public key of SSH",
                "Paste the line of a .pub file: type, key, comment, without options and without quotes.",
            );
        }
    }
}
