//! A menu as a person enters it, and what is checked then.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::{
    base::{Fault, Faults, Id, name},
    decide::{job::check_task, references::check_parameters},
    model::{
        answers::SALT_BYTES,
        image::ImageKind,
        job::{BurnIn, Task},
        menu::{After, Guard, Menu, MenuAction, MenuEntry, join},
        parameter::Said,
        values::{Condition, Template, VALUES_FIX, Values},
    },
    site::Site,
};

/// Longest title of an entry: what fits on a line of any loader.
const MOST_TITLE: usize = 76;
/// Entries within entries: further than anybody would go at a machine.
const MOST_DEPTH: usize = 4;
/// Entries of one menu.
const MOST_ENTRIES: usize = 200;
/// Longest time-out in seconds.
const MOST_SECS: u32 = 3600;

/// A menu as a person enters it, not checked yet.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct MenuDraft {
    /// What stands above the entries; it may name the machine's values.
    pub title: String,
    /// Key of the entry that starts by itself; the first if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// Seconds until it starts; left out, a person is waited for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timeout_secs: Option<u32>,
    /// Not shown unless somebody presses a key in that time.
    pub silent: bool,
    /// What follows when an entry comes back without having started anything.
    pub after: After,
    /// The entries, in order.
    pub entries: Vec<EntryDraft>,
}

/// One entry as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct EntryDraft {
    /// What the loader's text calls it: unique among its neighbours.
    pub key: String,
    /// What it says; it may name the machine's values.
    pub title: String,
    /// For whom it is there: a condition on the machine's values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shown_if: Option<String>,
    /// A phrase to ask for before. Never read back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub guard: Option<String>,
    /// The phrase that the entry of this key has stays as it is.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_guard: bool,
    /// Kernel parameters of its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<String>,
    /// Keys of kernel parameters of earlier levels that it does without, as in `quiet`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without_parameters: Vec<String>,
    /// What choosing it does.
    pub action: ActionDraft,
}

/// What choosing an entry does, as a person enters it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(no_recursion))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum ActionDraft {
    /// Starts an image; an installer with answers is installed without a person, one without asks the person.
    Image {
        /// The image's name.
        name: String,
        /// The answers' name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        answers: Option<String>,
    },
    /// Starts from a disk on the network, by its root path (RFC 4173): `iscsi:192.0.2.9::::iqn.2026-11.example.gannet:bay`.
    NetworkDisk(String),
    /// Starts from the machine's disk.
    LocalDisk,
    /// Starts the survey, which measures the machine and shows what it is.
    Survey,
    /// Starts the survey with a burn-in to do.
    BurnIn(BurnIn),
    /// Opens the firmware's set-up.
    FirmwareSetup,
    /// Restarts.
    Restart,
    /// Switches off.
    PowerOff,
    /// Shows another menu's entries.
    Menu(String),
    /// Shows further entries.
    Entries(Vec<EntryDraft>),
}

/// What a check needs beside the draft.
struct Check<'a> {
    faults: Faults,
    site: &'a Site,
    former: Option<&'a Menu>,
    salt: &'a mut dyn FnMut() -> [u8; SALT_BYTES],
    count: usize,
}

impl MenuDraft {
    /// Checks the draft against itself and the site. `former` is the menu it takes the place of; `salt` gives random
    /// bytes for each phrase.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(
        &self,
        name: &str,
        site: &Site,
        former: Option<&Menu>,
        mut salt: impl FnMut() -> [u8; SALT_BYTES],
    ) -> Result<Menu, Vec<Fault>> {
        let mut check = Check { faults: Faults::new(), site, former, salt: &mut salt, count: 0 };
        check.faults.keep("name", name::check_thing_name(name), name::THING_NAME_FIX);
        check.title("title", &self.title, true);
        let entries = check.entries("entries", "", &self.entries, 0);
        if let Some(default) = &self.default
            && !self.entries.iter().any(|entry| entry.key == *default)
        {
            let keys: Vec<&str> = self.entries.iter().map(|entry| entry.key.as_str()).collect();
            let fix = format!("Name one of: {}.", keys.join(", "));
            check.faults.add("default", format!("no entry has the key '{default}'"), fix);
        }
        if self.timeout_secs.is_some_and(|secs| secs == 0 || secs > MOST_SECS) {
            let fix = "Give 1 to 3600 seconds, or leave it out to wait for a person.";
            check.faults.add("timeout_secs", "out of range", fix);
        }
        if self.silent && self.timeout_secs.is_none() {
            let fix = "Give timeout_secs, too: the time in which a key shows the menu.";
            check.faults.add("silent", "a menu that is not shown and waits for ever starts nothing", fix);
        }
        check.guarded_default(self);
        check.ring(name, self);
        check.faults.into_result(|| {
            Some(Menu {
                id: former.map_or_else(Id::generate, |former| former.id),
                name: name.into(),
                title: Template::new(&self.title),
                entries,
                default: self.default.clone(),
                timeout_secs: self.timeout_secs,
                silent: self.silent,
                after: self.after,
            })
        })
    }

    fn names(&self) -> Vec<&str> {
        fn gather<'a>(entries: &'a [EntryDraft], all: &mut Vec<&'a str>) {
            for entry in entries {
                match &entry.action {
                    ActionDraft::Menu(name) => all.push(name),
                    ActionDraft::Entries(inner) => gather(inner, all),
                    _ => {}
                }
            }
        }
        let mut all = Vec::new();
        gather(&self.entries, &mut all);
        all
    }
}

impl Check<'_> {
    fn title(&mut self, place: &str, title: &str, may_be_empty: bool) {
        if title.trim().is_empty() && !may_be_empty || title.chars().any(char::is_control) {
            self.faults.add(place, "empty, or with control characters", "Give one line of text.");
        }
        match Values::example().fill(title) {
            Ok(filled) if filled.chars().count() > MOST_TITLE => {
                let fix = "Give at most 76 characters: a loader's line is no longer.";
                self.faults.add(place, format!("{} characters are too long", filled.chars().count()), fix);
            }
            Ok(_) => {}
            Err(error) => self.faults.add(place, error.to_string(), VALUES_FIX),
        }
    }

    fn entries(&mut self, place: &str, prefix: &str, drafts: &[EntryDraft], depth: usize) -> Vec<MenuEntry> {
        if drafts.is_empty() {
            self.faults.add(place, "there is no entry", "Give at least one.");
        }
        if depth > MOST_DEPTH {
            self.faults.add(place, "entries lie too deep in others", "Give another menu for them.");
            return Vec::new();
        }
        let mut keys = BTreeSet::new();
        let mut entries = Vec::new();
        for (index, draft) in drafts.iter().enumerate() {
            self.count += 1;
            if self.count == MOST_ENTRIES + 1 {
                self.faults.add(place, "more than 200 entries", "Give other menus for some of them.");
            }
            let place = format!("{place}[{index}]");
            if !keys.insert(draft.key.as_str()) {
                self.faults.add(
                    format!("{place}.key"),
                    format!("'{}' is there twice", draft.key),
                    "Give each its own.",
                );
            }
            entries.extend(self.entry(&place, prefix, draft, depth));
        }
        entries
    }

    fn entry(&mut self, place: &str, prefix: &str, draft: &EntryDraft, depth: usize) -> Option<MenuEntry> {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        let begins_well = draft.key.starts_with(|c: char| plain(c) && c != '-');
        if draft.key.len() > 32 || !begins_well || !draft.key.chars().all(plain) {
            let fix = "Use lower-case letters, digits and inner '-', at most 32: it is typed at the machine.";
            self.faults.add(format!("{place}.key"), format!("'{}' is no key", draft.key), fix);
        }
        let path = join(prefix, &draft.key);
        self.title(&format!("{place}.title"), &draft.title, false);
        let shown_if = draft.shown_if.as_ref().and_then(|text| match Condition::new(text) {
            Ok(condition) => Some(condition),
            Err(error) => {
                self.faults.add(format!("{place}.shown_if"), error.to_string(), VALUES_FIX);
                None
            }
        });
        let said = Said { words: &draft.parameters, without: &draft.without_parameters };
        check_parameters(&mut self.faults, place, said);
        let guard = self.guard(place, &path, draft);
        if guard.is_some() && matches!(draft.action, ActionDraft::Entries(_) | ActionDraft::Menu(_)) {
            let fix = "Guard the entries that erase, within it.";
            self.faults.add(format!("{place}.guard"), "what only shows further entries needs no phrase", fix);
        }
        let action = self.action(&format!("{place}.action"), &path, &draft.action, depth)?;
        Some(MenuEntry {
            key: draft.key.clone(),
            title: Template::new(&draft.title),
            action,
            shown_if,
            guard,
            parameters: draft.parameters.clone(),
            without_parameters: draft.without_parameters.clone(),
        })
    }

    fn guard(&mut self, place: &str, path: &str, draft: &EntryDraft) -> Option<Guard> {
        let place = format!("{place}.guard");
        if let Some(phrase) = &draft.guard {
            // What a person can type on any keyboard, at any loader's prompt.
            if !phrase.chars().all(|c| c.is_ascii_graphic() || c == ' ') {
                self.faults.add(
                    &place,
                    "a character that not every keyboard has",
                    "Use letters, digits and signs of ASCII.",
                );
            }
            let salt = (self.salt)();
            return self.faults.keep(
                &place,
                Guard::new(phrase, salt),
                "Give a phrase of at least 8 characters.",
            );
        }
        if !draft.keep_guard {
            return None;
        }
        let former =
            self.former.and_then(|former| find(&former.entries, path)).and_then(|entry| entry.guard.clone());
        if former.is_none() {
            self.faults.add(&place, format!("no entry '{path}' has a phrase to keep"), "Give the phrase.");
        }
        former
    }

    fn action(&mut self, place: &str, path: &str, draft: &ActionDraft, depth: usize) -> Option<MenuAction> {
        Some(match draft {
            ActionDraft::Image { name, answers } => {
                self.image(place, name, answers.as_deref());
                MenuAction::Image { name: name.clone(), answers: answers.clone() }
            }
            ActionDraft::NetworkDisk(root) => {
                // `iscsi:` server `:` protocol `:` port `:` LUN `:` target name (RFC 4173, section 5).
                let fields = root.strip_prefix("iscsi:").map(|rest| rest.splitn(5, ':').collect::<Vec<_>>());
                let whole = fields.is_some_and(|fields| {
                    fields.len() == 5 && !fields[0].is_empty() && !fields[4].is_empty()
                });
                if !whole || root.chars().any(|c| !c.is_ascii_graphic()) {
                    let fix = "Write iscsi:SERVER:PROTOCOL:PORT:LUN:TARGET; the middle three may be empty.";
                    self.faults.add(place, format!("'{root}' is no root path (RFC 4173)"), fix);
                }
                MenuAction::NetworkDisk(root.clone())
            }
            ActionDraft::LocalDisk => MenuAction::LocalDisk,
            ActionDraft::Survey => {
                self.survey(place);
                MenuAction::Survey
            }
            ActionDraft::BurnIn(burn_in) => {
                self.survey(place);
                for fault in check_task(&Task::BurnIn(burn_in.clone()), self.site) {
                    let within = fault.place.replace("task.", "burn-in.");
                    self.faults.add(format!("{place}.{within}"), fault.what, fault.fix);
                }
                MenuAction::BurnIn(burn_in.clone())
            }
            ActionDraft::FirmwareSetup => MenuAction::FirmwareSetup,
            ActionDraft::Restart => MenuAction::Restart,
            ActionDraft::PowerOff => MenuAction::PowerOff,
            ActionDraft::Menu(name) => {
                if self.site.menu(name).is_none() {
                    self.faults.add(place, format!("no menu is named '{name}'"), "Save that one first.");
                }
                MenuAction::Menu(name.clone())
            }
            ActionDraft::Entries(drafts) => {
                MenuAction::Entries(self.entries(&format!("{place}.entries"), path, drafts, depth + 1))
            }
        })
    }

    fn survey(&mut self, place: &str) {
        if self.site.survey_image(None).is_none() {
            let fix = "Build one first: `lastmile survey build`.";
            self.faults.add(place, "there is no image of kind survey", fix);
        }
    }

    fn image(&mut self, place: &str, name: &str, answers: Option<&str>) {
        let Some(image) = self.site.image(name) else {
            let fix = "Import it first, or see `lastmile image list`.";
            self.faults.add(place, format!("no image is named '{name}'"), fix);
            return;
        };
        if image.kind == ImageKind::Disk {
            let fix = "A disk image is written by an install; it cannot be started.";
            self.faults.add(place, format!("image '{name}' is a disk image"), fix);
        }
        let Some(answers) = answers else { return };
        if image.kind != ImageKind::Installer {
            self.faults.add(place, format!("image '{name}' reads no answers"), "Leave the answers out.");
        }
        if self.site.answers(answers).is_none() {
            let fix = "Save them first, or see `lastmile answers list`.";
            self.faults.add(place, format!("no answers are named '{answers}'"), fix);
        }
    }

    /// What erases must not start by itself (nothing destructive is the default of any menu).
    fn guarded_default(&mut self, draft: &MenuDraft) {
        let default =
            draft.default.as_ref().and_then(|key| draft.entries.iter().find(|entry| entry.key == *key));
        let Some(entry) = default.or(draft.entries.first()).filter(|_| draft.timeout_secs.is_some()) else {
            return;
        };
        let installs = matches!(&entry.action, ActionDraft::Image { answers: Some(_), .. });
        let guarded = entry.guard.is_some() || entry.keep_guard;
        if installs || guarded {
            let what = format!("'{}' would start by itself, and erases", entry.key);
            let fix = "Take another default, or leave timeout_secs out. To install without a person, arm an install.";
            self.faults.add("default", what, fix);
        }
    }

    /// A menu must not show itself, at whatever distance.
    fn ring(&mut self, name: &str, draft: &MenuDraft) {
        let mut seen = BTreeSet::new();
        let mut waiting: Vec<&str> = draft.names();
        while let Some(next) = waiting.pop() {
            if next == name {
                let fix = "Take the entry that leads there out.";
                self.faults.add("entries", format!("menu '{name}' would show itself"), fix);
                return;
            }
            if seen.insert(next) {
                waiting.extend(self.site.menu(next).into_iter().flat_map(|menu| menu.menus()));
            }
        }
    }
}

/// The entry at a path of keys joined by `.`.
fn find<'a>(entries: &'a [MenuEntry], path: &str) -> Option<&'a MenuEntry> {
    let (key, rest) = path.split_once('.').map_or((path, None), |(key, rest)| (key, Some(rest)));
    let entry = entries.iter().find(|entry| entry.key == key)?;
    match (rest, &entry.action) {
        (None, _) => Some(entry),
        (Some(rest), MenuAction::Entries(inner)) => find(inner, rest),
        _ => None,
    }
}
