//! One saved version of the settings of a scope.

use jiff::Timestamp;

use super::{Password, Scope, Settings};
use crate::base::Id;

/// One version of the settings of a scope. Nothing in it ever changes.
#[derive(Debug, Clone, PartialEq)]
pub struct AnswersVersion {
    /// Identity.
    pub id: Id<AnswersVersion>,
    /// What it is said of.
    pub scope: Scope,
    /// 1, 2, 3 …
    pub number: u32,
    /// When it was saved.
    pub created: Timestamp,
    /// The settings.
    pub settings: Settings<Password>,
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// Answers as the demo's quay servers have them.
    pub(crate) fn quay_server() -> AnswersVersion {
        AnswersVersion {
            id: Id::generate(),
            scope: Scope::Answers("quay-server".into()),
            number: 1,
            created: Timestamp::UNIX_EPOCH,
            settings: super::super::settings::tests::finished(&super::super::settings::tests::draft())
                .unwrap(),
        }
    }
}
