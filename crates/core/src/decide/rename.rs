//! What names a thing that is renamed: it has the new name from then on.

use crate::{
    base::{Fault, name},
    model::{
        answers::{AnswersVersion, Scope},
        label::Label,
        machine::Machine,
        menu::{Menu, MenuAction, MenuEntry},
        rule::Rule,
        settings::SiteSettings,
        subnet::Subnet,
    },
    site::Site,
};

/// Everything that named a thing by its old name, as it is with the new one.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct References {
    /// Subnets.
    pub subnets: Vec<Subnet>,
    /// Labels.
    pub labels: Vec<Label>,
    /// Machines.
    pub machines: Vec<Machine>,
    /// Menus.
    pub menus: Vec<Menu>,
    /// Answers and other layers, to be saved as their next versions.
    pub answers: Vec<AnswersVersion>,
    /// The site's settings.
    pub settings: Option<SiteSettings>,
    /// Rules.
    pub rules: Vec<Rule>,
}

impl References {
    /// Who has the new name now, for people: `menu kiosk`, `12 machines`.
    #[must_use]
    pub fn named(&self, site: &Site) -> Vec<String> {
        let machines = match self.machines.as_slice() {
            [] => None,
            [one] => Some(format!("machine {}", one.name)),
            several => Some(format!("{} machines", several.len())),
        };
        let subnets = self.subnets.iter().map(|subnet| format!("subnet {}", subnet.name));
        let labels = self.labels.iter().map(|label| format!("label {}", label.name));
        let menus = self.menus.iter().map(|menu| format!("menu {}", menu.name));
        let answers = self.answers.iter().map(|answers| match &answers.scope {
            Scope::Answers(name) => format!("answers {name}"),
            scope => format!("the settings of {}", site.layer_name(scope)),
        });
        let rules = self.rules.iter().map(|rule| format!("rule {}", rule.name));
        let settings = self.settings.iter().map(|_| "the site's settings".to_owned()).chain(rules);
        subnets.chain(labels).chain(machines).chain(menus).chain(answers).chain(settings).collect()
    }
}

/// Checks a new name.
///
/// # Errors
/// That it is not a name, or the old one.
pub fn check_new_name(old: &str, new: &str) -> Result<(), Vec<Fault>> {
    let fault = |what: String, fix: &str| vec![Fault { place: "to".into(), what, fix: fix.into() }];
    if old == new {
        return Err(fault(format!("it is named '{old}' already"), "Give another name."));
    }
    name::check_thing_name(new).map_err(|error| fault(error.to_string(), name::THING_NAME_FIX))
}

/// What names the menu `old`.
#[must_use]
pub fn of_menu(site: &Site, old: &str, new: &str) -> References {
    let is_it = |menu: &Option<String>| menu.as_deref() == Some(old);
    let renamed = || Some(new.to_owned());
    let subnets = site.subnets().filter(|subnet| is_it(&subnet.menu));
    let labels = site.labels().filter(|label| is_it(&label.menu));
    let machines = site.machines().filter(|machine| is_it(&machine.menu));
    References {
        subnets: subnets.map(|subnet| Subnet { menu: renamed(), ..(**subnet).clone() }).collect(),
        labels: labels.map(|label| Label { menu: renamed(), ..(**label).clone() }).collect(),
        machines: machines.map(|machine| Machine { menu: renamed(), ..(**machine).clone() }).collect(),
        menus: in_menus(site, |action| match action {
            MenuAction::Menu(name) if name == old => Some(MenuAction::Menu(new.into())),
            _ => None,
        }),
        settings: is_it(&site.settings().menu)
            .then(|| SiteSettings { menu: renamed(), ..site.settings().clone() }),
        ..References::default()
    }
}

/// What names the image `old`. `answers` makes the next version of settings.
#[must_use]
pub fn of_image(
    site: &Site,
    old: &str,
    new: &str,
    next: impl Fn(&AnswersVersion) -> AnswersVersion,
) -> References {
    let named = site.all_answers().filter(|answers| answers.settings.images.iter().any(|name| name == old));
    let renamed = |answers: &std::sync::Arc<AnswersVersion>| {
        let mut next = next(answers);
        for name in next.settings.images.iter_mut().filter(|name| *name == old) {
            new.clone_into(name);
        }
        next
    };
    let labels = site.labels().filter(|label| label.image.as_deref() == Some(old));
    let rules = site.rules().filter(|rule| rule.image.as_deref() == Some(old));
    References {
        rules: rules.map(|rule| Rule { image: Some(new.into()), ..(**rule).clone() }).collect(),
        labels: labels.map(|label| Label { image: Some(new.into()), ..(**label).clone() }).collect(),
        answers: named.map(renamed).collect(),
        menus: in_menus(site, |action| match action {
            MenuAction::Image { name, answers } if name == old => {
                Some(MenuAction::Image { name: new.into(), answers: answers.clone() })
            }
            _ => None,
        }),
        ..References::default()
    }
}

/// What names the answers `old`.
#[must_use]
pub fn of_answers(site: &Site, old: &str, new: &str) -> References {
    let machines = site.machines().filter(|machine| machine.live_answers.as_deref() == Some(old));
    let renamed =
        |machine: &std::sync::Arc<Machine>| Machine { live_answers: Some(new.into()), ..(**machine).clone() };
    let labels = site.labels().filter(|label| label.answers.as_deref() == Some(old));
    let rules = site.rules().filter(|rule| rule.answers.as_deref() == Some(old));
    References {
        rules: rules.map(|rule| Rule { answers: Some(new.into()), ..(**rule).clone() }).collect(),
        labels: labels.map(|label| Label { answers: Some(new.into()), ..(**label).clone() }).collect(),
        machines: machines.map(renamed).collect(),
        menus: in_menus(site, |action| match action {
            MenuAction::Image { name, answers: Some(answers) } if answers == old => {
                Some(MenuAction::Image { name: name.clone(), answers: Some(new.into()) })
            }
            _ => None,
        }),
        ..References::default()
    }
}

/// What names the rule `old`: machines that it gave something.
#[must_use]
pub fn of_rule(site: &Site, old: &str, new: &str) -> References {
    let has_some = |machine: &&std::sync::Arc<Machine>| machine.given.values().any(|given| given.rule == old);
    let renamed = |machine: &std::sync::Arc<Machine>| {
        let mut machine = (**machine).clone();
        for given in machine.given.values_mut().filter(|given| given.rule == old) {
            new.clone_into(&mut given.rule);
        }
        machine
    };
    References { machines: site.machines().filter(has_some).map(renamed).collect(), ..References::default() }
}

/// What names the label `old`: its machines, and rules that give it. Conditions of menus and texts of answers are not changed; see [`mentions`].
#[must_use]
pub fn of_label(site: &Site, old: &str, new: &str) -> References {
    let has_it = |machine: &&std::sync::Arc<Machine>| machine.labels.iter().any(|label| label == old);
    let renamed = |machine: &std::sync::Arc<Machine>| {
        let mut machine = (**machine).clone();
        machine.labels.retain(|label| label != old && label != new);
        machine.labels.push(new.into());
        machine.labels.sort_unstable();
        // What a rule gave is still what it gave.
        if let Some(mut given) = machine.given.remove(&format!("labels.{old}")) {
            new.clone_into(&mut given.value);
            machine.given.insert(format!("labels.{new}"), given);
        }
        machine
    };
    let gives_it = |rule: &&std::sync::Arc<Rule>| rule.labels.iter().any(|label| label == old);
    let ruled = |rule: &std::sync::Arc<Rule>| {
        let mut rule = (**rule).clone();
        rule.labels.retain(|label| label != old && label != new);
        rule.labels.push(new.into());
        rule.labels.sort_unstable();
        rule
    };
    References {
        machines: site.machines().filter(has_it).map(renamed).collect(),
        rules: site.rules().filter(gives_it).map(ruled).collect(),
        ..References::default()
    }
}

/// Where a label stands in a condition, which a person has to change: `menu kiosk, entry chart`.
#[must_use]
pub fn mentions(site: &Site, label: &str) -> Vec<String> {
    let quoted = [format!("'{label}'"), format!("\"{label}\"")];
    let mut found = Vec::new();
    for menu in site.menus() {
        for entry in menu.all_entries() {
            let condition = entry.shown_if.as_ref().map(|condition| condition.as_str()).unwrap_or_default();
            if quoted.iter().any(|quoted| condition.contains(quoted)) {
                found.push(format!("menu {}, entry {}", menu.name, entry.key));
            }
        }
    }
    for rule in site.rules() {
        if quoted.iter().any(|quoted| rule.condition.as_str().contains(quoted)) {
            found.push(format!("rule {}", rule.name));
        }
    }
    found
}

/// The menus with an entry whose action `changed` gives another.
fn in_menus(site: &Site, changed: impl Fn(&MenuAction) -> Option<MenuAction>) -> Vec<Menu> {
    fn within(entries: &mut [MenuEntry], changed: &impl Fn(&MenuAction) -> Option<MenuAction>) -> bool {
        let mut is_changed = false;
        for entry in entries {
            if let Some(action) = changed(&entry.action) {
                entry.action = action;
                is_changed = true;
            } else if let MenuAction::Entries(inner) = &mut entry.action {
                is_changed |= within(inner, changed);
            }
        }
        is_changed
    }
    site.menus()
        .filter_map(|menu| {
            let mut menu = (**menu).clone();
            within(&mut menu.entries, &changed).then_some(menu)
        })
        .collect()
}
