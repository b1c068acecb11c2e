//! Menus as they are recorded: a draft, and the phrases' hashes beside it.

use std::collections::BTreeMap;

use super::{ActionDraft, EntryDraft, MenuDraft};
use crate::{
    base::Id,
    model::{
        menu::{Guard, Menu, MenuAction, MenuEntry, join},
        values::{Condition, Template},
    },
};

impl From<&Menu> for MenuDraft {
    fn from(menu: &Menu) -> Self {
        Self {
            title: menu.title.as_str().into(),
            default: menu.default.clone(),
            timeout_secs: menu.timeout_secs,
            silent: menu.silent,
            after: menu.after,
            entries: menu.entries.iter().map(EntryDraft::from).collect(),
        }
    }
}

impl From<&MenuEntry> for EntryDraft {
    fn from(entry: &MenuEntry) -> Self {
        let action = match &entry.action {
            MenuAction::Image { name, answers } => {
                ActionDraft::Image { name: name.clone(), answers: answers.clone() }
            }
            MenuAction::NetworkDisk(root) => ActionDraft::NetworkDisk(root.clone()),
            MenuAction::LocalDisk => ActionDraft::LocalDisk,
            MenuAction::Survey => ActionDraft::Survey,
            MenuAction::BurnIn(burn_in) => ActionDraft::BurnIn(burn_in.clone()),
            MenuAction::FirmwareSetup => ActionDraft::FirmwareSetup,
            MenuAction::Restart => ActionDraft::Restart,
            MenuAction::PowerOff => ActionDraft::PowerOff,
            MenuAction::Menu(name) => ActionDraft::Menu(name.clone()),
            MenuAction::Entries(inner) => ActionDraft::Entries(inner.iter().map(Self::from).collect()),
        };
        Self {
            key: entry.key.clone(),
            title: entry.title.as_str().into(),
            shown_if: entry.shown_if.as_ref().map(|condition| condition.as_str().into()),
            guard: None,
            keep_guard: entry.guard.is_some(),
            parameters: entry.parameters.clone(),
            without_parameters: entry.without_parameters.clone(),
            action,
        }
    }
}

impl Menu {
    /// What can be shown of a draft while it is wrong: as it stands, with phrases that stand for those being entered.
    #[must_use]
    pub fn shown_while_wrong(name: &str, draft: &MenuDraft, former: Option<&Self>) -> Self {
        fn gather(prefix: &str, drafts: &[EntryDraft], all: &mut BTreeMap<String, Guard>) {
            for draft in drafts {
                let path = join(prefix, &draft.key);
                if let ActionDraft::Entries(inner) = &draft.action {
                    gather(&path, inner, all);
                }
                if draft.guard.is_some() || draft.keep_guard {
                    all.entry(path).or_insert_with(Guard::unset);
                }
            }
        }
        let mut guards = former.map(Self::guards).unwrap_or_default();
        gather("", &draft.entries, &mut guards);
        let mut menu = Self::restore(Id::generate(), name.into(), draft, &guards);
        forget(&draft.entries, &mut menu.entries);
        menu
    }

    /// The phrases' hashes, by the path of the entry's keys: what a record keeps beside the draft.
    #[must_use]
    pub fn guards(&self) -> BTreeMap<String, Guard> {
        fn gather(prefix: &str, entries: &[MenuEntry], all: &mut BTreeMap<String, Guard>) {
            for entry in entries {
                let path = join(prefix, &entry.key);
                if let MenuAction::Entries(inner) = &entry.action {
                    gather(&path, inner, all);
                }
                all.extend(entry.guard.clone().map(|guard| (path, guard)));
            }
        }
        let mut all = BTreeMap::new();
        gather("", &self.entries, &mut all);
        all
    }

    /// A menu from its record, which was checked when it was saved.
    #[must_use]
    pub fn restore(id: Id<Self>, name: String, draft: &MenuDraft, guards: &BTreeMap<String, Guard>) -> Self {
        Self {
            id,
            name,
            title: Template::new(&draft.title),
            entries: restore("", &draft.entries, guards),
            default: draft.default.clone(),
            timeout_secs: draft.timeout_secs,
            silent: draft.silent,
            after: draft.after,
        }
    }
}

/// Takes the guards away from entries whose draft has none any more.
fn forget(drafts: &[EntryDraft], entries: &mut [MenuEntry]) {
    for (draft, entry) in drafts.iter().zip(entries) {
        if draft.guard.is_none() && !draft.keep_guard {
            entry.guard = None;
        }
        if let (ActionDraft::Entries(drafts), MenuAction::Entries(entries)) =
            (&draft.action, &mut entry.action)
        {
            forget(drafts, entries);
        }
    }
}

fn restore(prefix: &str, drafts: &[EntryDraft], guards: &BTreeMap<String, Guard>) -> Vec<MenuEntry> {
    let entry = |draft: &EntryDraft| {
        let path = join(prefix, &draft.key);
        let action = match &draft.action {
            ActionDraft::Image { name, answers } => {
                MenuAction::Image { name: name.clone(), answers: answers.clone() }
            }
            ActionDraft::NetworkDisk(root) => MenuAction::NetworkDisk(root.clone()),
            ActionDraft::LocalDisk => MenuAction::LocalDisk,
            ActionDraft::Survey => MenuAction::Survey,
            ActionDraft::BurnIn(burn_in) => MenuAction::BurnIn(burn_in.clone()),
            ActionDraft::FirmwareSetup => MenuAction::FirmwareSetup,
            ActionDraft::Restart => MenuAction::Restart,
            ActionDraft::PowerOff => MenuAction::PowerOff,
            ActionDraft::Menu(name) => MenuAction::Menu(name.clone()),
            ActionDraft::Entries(inner) => MenuAction::Entries(restore(&path, inner, guards)),
        };
        MenuEntry {
            key: draft.key.clone(),
            title: Template::new(&draft.title),
            action,
            shown_if: draft.shown_if.as_ref().and_then(|text| Condition::new(text).ok()),
            guard: guards.get(&path).cloned(),
            parameters: draft.parameters.clone(),
            without_parameters: draft.without_parameters.clone(),
        }
    };
    drafts.iter().map(entry).collect()
}
