//! Answers and other layers of settings, version by version.

use lastmile_core::{
    base::Id,
    model::answers::{AnswersVersion, Scope},
    site::Entity,
};

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Adds a version of answers, or of another layer, with the next number of its scope.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_answers(&mut self, version: AnswersVersion) -> Result<AnswersVersion, StoreError> {
        let number = self.tx.last_answers_number(&version.scope)? + 1;
        let version = AnswersVersion { number, ..version };
        self.tx.add_answers(&version)?;
        self.stamp(Entity::Layer(version.scope.clone()))?;
        self.record(Recorded::Answers { scope: version.scope.clone() });
        let shown = version.clone();
        self.with(|site| site.with_answers(shown));
        Ok(version)
    }

    /// Takes what is said of a scope out of use; its versions are kept for the installs that name them.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_answers(&mut self, scope: &Scope) -> Result<(), StoreError> {
        self.tx.remove_answers(scope)?;
        let recorded = Recorded::Answers { scope: scope.clone() };
        self.removed(&Entity::Layer(scope.clone()), recorded, |site| site.without_answers(scope))
    }

    /// Has everything that was ever said of a scope said of another, of which nothing was said before. The former one goes on
    /// counting its versions where it was: installs on record name them.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_answers(&mut self, former: &AnswersVersion, scope: &Scope) -> Result<(), StoreError> {
        let last = AnswersVersion { id: Id::generate(), ..former.clone() };
        self.tx.rename_answers(&former.scope, scope)?;
        self.tx.add_answers(&last)?;
        self.tx.remove_answers(&former.scope)?;
        self.unstamp(&Entity::Layer(former.scope.clone()))?;
        self.record(Recorded::Answers { scope: former.scope.clone() });
        let recorded = Recorded::Answers { scope: scope.clone() };
        self.saved(Entity::Layer(scope.clone()), recorded, |site| {
            site.with_scope_renamed(&former.scope, scope).with_former_answers(last)
        })
    }
}
