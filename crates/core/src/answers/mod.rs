//! OS-neutral install settings, and the file that each installer reads.

mod password;
mod preseed;
mod settings;

pub use password::{CryptHash, PasswordError, PasswordInput, PasswordShown, SALT_BYTES};
pub use settings::{AtEnd, Disk, FileSystem, Layout, Mirror, Settings, User};

use jiff::Timestamp;

use crate::{
    Id,
    boot::Service,
    image::Family,
    install::{Install, ReportStage},
};

/// One version of named answers. Nothing in it ever changes.
#[derive(Debug, Clone, PartialEq)]
pub struct AnswersVersion {
    /// Identity.
    pub id: Id<AnswersVersion>,
    /// What people call the answers.
    pub name: String,
    /// 1, 2, 3 …
    pub number: u32,
    /// When it was saved.
    pub created: Timestamp,
    /// The settings.
    pub settings: Settings<CryptHash>,
}

/// The one machine that an answer file is for.
#[derive(Debug, Clone, Copy)]
pub struct Target<'a> {
    /// Its host name.
    pub host_name: &'a str,
    /// The domain its subnet says, used where the answers name none.
    pub domain: Option<&'a str>,
    /// The install it is for; `None` in a preview, which then shows placeholders for what is secret.
    pub install: Option<&'a Install>,
    /// Where the machine reaches the service.
    pub service: Service,
}

impl Target<'_> {
    fn report_url(&self, stage: ReportStage) -> String {
        match self.install {
            Some(install) => self.service.report_url(&install.token, stage),
            None => format!("{}/report/(made when armed)/{stage}", self.service.http_base()),
        }
    }
}

/// Whether answer files of that family can be written here; there is nothing to write for [`Family::None`].
#[must_use]
pub const fn writes(family: Family) -> bool {
    matches!(family, Family::Preseed | Family::None)
}

/// The answer file of one machine, in the language of its installer; `None` for an image that reads none.
#[must_use]
pub fn render(family: Family, answers: &AnswersVersion, target: &Target<'_>) -> Option<String> {
    match family {
        Family::Preseed => Some(preseed::render(answers, target)),
        Family::Kickstart | Family::Autoinstall | Family::UnattendedXml | Family::None => None,
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// Answers as the demo's quay servers have them.
    pub(crate) fn quay_server() -> AnswersVersion {
        AnswersVersion {
            id: Id::generate(),
            name: "quay-server".into(),
            number: 1,
            created: Timestamp::UNIX_EPOCH,
            settings: settings::tests::draft().settle(|_| [7; SALT_BYTES]).unwrap(),
        }
    }
}
