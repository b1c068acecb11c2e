//! Answers and the other layers of settings, as the snapshot holds them.

use std::sync::Arc;

use crate::{
    base::Id,
    model::{
        answers::{AnswersVersion, Layer, Password, Scope, Settings},
        install::Install,
        machine::Machine,
    },
    site::Site,
};

impl Site {
    /// The current version of all answers, ordered by name.
    pub fn all_answers(&self) -> impl Iterator<Item = &Arc<AnswersVersion>> {
        self.answers.values()
    }

    /// The current version of the answers of that name.
    #[must_use]
    pub fn answers(&self, name: &str) -> Option<&Arc<AnswersVersion>> {
        self.answers.get(name)
    }

    /// The current version of what is said of a scope.
    #[must_use]
    pub fn settings_of(&self, scope: &Scope) -> Option<&Arc<AnswersVersion>> {
        match scope {
            Scope::Answers(name) => self.answers.get(name),
            other => self.layers.get(other),
        }
    }

    /// The current versions of all layers that are no answers: the site's, then labels' and machines'.
    #[must_use]
    pub fn all_layers(&self) -> Vec<Arc<AnswersVersion>> {
        let mut layers: Vec<_> = self.layers.values().cloned().collect();
        layers.sort_by_cached_key(|layer| self.layer_name(&layer.scope));
        layers
    }

    /// Who uses the answers of that name: installs that go on, machines that run a live image with them, labels, menus.
    #[must_use]
    pub fn users_of_answers(&self, name: &str) -> Vec<String> {
        let installs = self.open_installs().filter(|open| open.answers_name == name);
        let installs = installs.map(|open| format!("install {}", open.number));
        let machines = self.machines().filter(|machine| machine.live_answers.as_deref() == Some(name));
        let machines = machines.map(|machine| format!("machine {}", machine.name));
        let labels = self.labels().filter(|label| label.answers.as_deref() == Some(name));
        let labels = labels.map(|label| format!("label {}", label.name));
        let menus = self.menus().filter(|menu| menu.answers().any(|used| used == name));
        installs
            .chain(machines)
            .chain(labels)
            .chain(menus.map(|menu| format!("menu {}", menu.name)))
            .collect()
    }

    /// The version of settings of that identity, current or not.
    #[must_use]
    pub fn answers_version(&self, id: Id<AnswersVersion>) -> Option<&Arc<AnswersVersion>> {
        self.answers_versions.get(&id)
    }

    /// The layers that a machine gets with these answers now, earlier ones first: the site's, the answers, those of its
    /// labels in the order of their ranks, its own.
    #[must_use]
    pub fn layers_for(&self, machine: &Machine, answers: &Arc<AnswersVersion>) -> Vec<Arc<AnswersVersion>> {
        let site = self.settings_of(&Scope::Site);
        let ranked = self.ranked(machine).into_iter();
        let labels = ranked.filter_map(|label| self.settings_of(&Scope::Label(label.to_owned())));
        let own = self.settings_of(&Scope::Machine(machine.id));
        site.into_iter().chain([answers]).chain(labels).chain(own).cloned().collect()
    }

    /// The layers that an install was armed with.
    #[must_use]
    pub fn layers_of(&self, install: &Install) -> Vec<Arc<AnswersVersion>> {
        let layers: Vec<_> =
            install.layers.iter().filter_map(|id| self.answers_version(*id)).cloned().collect();
        if layers.is_empty() {
            self.answers_version(install.answers).cloned().into_iter().collect()
        } else {
            layers
        }
    }

    /// What people call the layer that a scope is.
    #[must_use]
    pub fn layer_name(&self, scope: &Scope) -> Layer {
        match scope {
            Scope::Site => Layer::Site,
            Scope::Answers(name) => Layer::Answers(name.clone()),
            Scope::Label(name) => Layer::Label(name.clone()),
            Scope::Machine(id) => Layer::Machine(
                self.machine_by_id(*id).map_or_else(|| id.to_string(), |machine| machine.name.clone()),
            ),
        }
    }

    /// Layers with their names, as they are put on each other.
    pub fn named<'a>(
        &self,
        layers: &'a [Arc<AnswersVersion>],
    ) -> impl Iterator<Item = (Layer, &'a Settings<Password>)> {
        layers.iter().map(|version| (self.layer_name(&version.scope), &version.settings))
    }

    /// With a version of settings as the current one of its scope.
    #[must_use]
    pub fn with_answers(&self, answers: AnswersVersion) -> Self {
        let mut next = self.clone();
        let answers = Arc::new(answers);
        next.answers_versions.insert(answers.id, answers.clone());
        match &answers.scope {
            Scope::Answers(name) => next.answers.insert(name.clone(), answers),
            scope => next.layers.insert(scope.clone(), answers.clone()),
        };
        next
    }

    /// With a version of settings that is not current.
    #[must_use]
    pub fn with_former_answers(&self, answers: AnswersVersion) -> Self {
        let mut next = self.clone();
        next.answers_versions.insert(answers.id, Arc::new(answers));
        next
    }

    /// With everything that was ever said of a scope said of another.
    #[must_use]
    pub fn with_scope_renamed(&self, former: &Scope, scope: &Scope) -> Self {
        let mut next = self.without_answers(former);
        for version in self.answers_versions.values().filter(|version| version.scope == *former) {
            let renamed = AnswersVersion { scope: scope.clone(), ..(**version).clone() };
            next.answers_versions.insert(version.id, Arc::new(renamed));
        }
        match self.settings_of(former) {
            Some(current) => {
                next.with_answers(AnswersVersion { scope: scope.clone(), ..(**current).clone() })
            }
            None => next,
        }
    }

    /// Without what is said of a scope. Its versions stay for the installs that name them.
    #[must_use]
    pub fn without_answers(&self, scope: &Scope) -> Self {
        let mut next = self.clone();
        match scope {
            Scope::Answers(name) => next.answers.remove(name),
            other => next.layers.remove(other),
        };
        next
    }
}
