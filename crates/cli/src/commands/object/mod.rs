//! What is done to a thing of whatever kind in the same way: changed, edited, copied, renamed, removed.

mod diff;
mod edit;

pub(super) use diff::shown;

use std::path::PathBuf;

use clap::Args;
use lastmile_api::{Changed, Edit, EditKind, Renamed, apply, field_changes};
use lastmile_client::{Client, ClientError, Edited};
use serde::{Serialize, de::DeserializeOwned};

use super::toml_file::{self, Written};
use crate::{
    complete,
    confirm::Confirm,
    output::{Failure, Output},
};

/// How often a change is made again because somebody else saved meanwhile.
const TRIES: usize = 100;

/// A kind of thing that people add and change.
pub(super) trait Object {
    /// The form in which it is entered.
    type Draft: Serialize + DeserializeOwned + Clone;
    /// What people call it.
    const NOUN: &'static str;
    /// Where its fields are explained.
    const FIX: &'static str;

    /// Reads the one of that name in the form in which it is entered.
    async fn read(client: &Client, name: &str) -> Result<Edited<Self::Draft>, ClientError>;

    /// Saves it in the place of the one of that name.
    async fn save(client: &Client, name: &str, draft: &Self::Draft) -> Result<(), ClientError>;

    /// What is shown of it: nothing that somebody who looks over a shoulder, or reads a log, must not know.
    fn without_secrets(draft: &Self::Draft) -> Self::Draft {
        draft.clone()
    }
}

/// What is shown in the place of a secret.
pub(super) const HIDDEN: &str = "(hidden)";

/// A kind of thing that is added under a name.
pub(super) trait CanAdd: Object {
    /// Adds it; fails if there is one of that name.
    async fn add(client: &Client, name: &str, draft: &Self::Draft) -> Result<(), ClientError>;
}

/// A kind of thing that has a name of people's choice.
pub(super) trait CanRename: Object {
    /// Gives it another name.
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError>;
}

/// A kind of thing that is removed by its name.
pub(super) trait CanRemove: Object {
    /// What is lost with it, for whoever is asked.
    const LOSES: &'static str;

    /// Removes it.
    async fn remove(client: &Client, name: &str) -> Result<(), ClientError>;
}

/// Values to change.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Edits {
    /// Put a value in the place of the one there, as in --set vlan=40; an empty value removes it. May be repeated.
    #[arg(long = "set", value_name = "KEY=VALUE")]
    set: Vec<String>,
    /// Add a value to a list, as in --append labels=kiosk. May be repeated.
    #[arg(long = "append", value_name = "KEY=VALUE")]
    append: Vec<String>,
    /// Take a value from a list, as in --drop labels=kiosk, or all of a key, as in --drop labels. Drops go before
    /// appends. May be repeated.
    #[arg(long = "drop", value_name = "KEY[=VALUE]")]
    drop: Vec<String>,
}

impl Edits {
    /// The changes in the order in which they are applied.
    ///
    /// # Errors
    /// A text without a value where there must be one.
    pub(crate) fn list(&self) -> Result<Vec<Edit>, Failure> {
        let one = |kind: EditKind, option: &str, text: &String| {
            let (key, value) = match text.split_once('=') {
                Some((key, value)) => (key, Some(value.to_owned())),
                None => (text.as_str(), None),
            };
            if key.is_empty() || value.is_none() && kind != EditKind::Drop {
                return Err(Failure::usage(
                    format!("{option} {text}"),
                    "there is no KEY=VALUE",
                    "Write the field, an equals sign and the value, as in --set details.rack=r12.",
                ));
            }
            Ok(Edit { kind, key: key.trim().into(), value })
        };
        let set = self.set.iter().map(|text| one(EditKind::Set, "--set", text));
        let drop = self.drop.iter().map(|text| one(EditKind::Drop, "--drop", text));
        let append = self.append.iter().map(|text| one(EditKind::Append, "--append", text));
        set.chain(drop).chain(append).collect()
    }
}

/// `change NAME…`
#[derive(Debug, Args)]
pub(crate) struct Change {
    /// Their names.
    #[arg(required = true, value_name = "NAME", add = complete::names())]
    names: Vec<String>,
    #[command(flatten)]
    how: How,
}

/// How something is changed.
#[derive(Debug, Args)]
pub(crate) struct How {
    #[command(flatten)]
    edits: Edits,
    /// A TOML file with the whole of it, as `show --toml` writes it; `-` for standard input.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// Check it and show what would change, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

/// `edit NAME`
#[derive(Debug, Args)]
pub(crate) struct EditOne {
    /// Its name.
    #[arg(add = complete::names())]
    name: String,
}

/// `copy NAME NEW`
#[derive(Debug, Args)]
pub(crate) struct Copy {
    /// What is copied.
    #[arg(add = complete::names())]
    pub(super) name: String,
    /// The name of the copy.
    pub(super) new_name: String,
    #[command(flatten)]
    edits: Edits,
    /// Check it, and save nothing.
    #[arg(long)]
    pub(super) dry_run: bool,
}

impl Copy {
    /// What is to be different in the copy.
    ///
    /// # Errors
    /// A text without a value where there must be one.
    pub(super) fn edits(&self) -> Result<Vec<Edit>, Failure> {
        self.edits.list()
    }
}

/// `copy NAME NEW` of what the service copies, with secrets that are never read back.
#[derive(Debug, Args)]
pub(crate) struct CopyWhole {
    /// What is copied.
    #[arg(add = complete::names())]
    pub(super) name: String,
    /// The name of the copy.
    pub(super) new_name: String,
    /// Check it, and save nothing.
    #[arg(long)]
    pub(super) dry_run: bool,
}

impl CopyWhole {
    /// What is said when it was done.
    pub(super) fn done(&self, noun: &str, name: &str) -> String {
        let done = if self.dry_run { "would be added" } else { "added" };
        format!("{noun} {name} {done}\n{}", saved(self.dry_run))
    }
}

/// `rename NAME NEW`
#[derive(Debug, Args)]
pub(crate) struct Rename {
    /// Its name.
    #[arg(add = complete::names())]
    name: String,
    /// Its new name. What names it follows.
    new_name: String,
    /// Show what would follow, and change nothing.
    #[arg(long)]
    dry_run: bool,
}

/// `remove NAME…`
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// Their names.
    #[arg(required = true, value_name = "NAME", add = complete::names())]
    names: Vec<String>,
    /// Check whether they can be removed, and remove nothing.
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    confirm: Confirm,
}

/// Changes several things, one after the other.
pub(super) async fn change<T: Object>(args: &Change, client: &Client, out: &Output) -> Result<(), Failure> {
    let names: Vec<&str> = args.names.iter().map(String::as_str).collect();
    change_named::<T>(&names, &args.how, client, out).await
}

/// The same of things that are named otherwise than by arguments.
pub(super) async fn change_named<T: Object>(
    names: &[&str],
    how: &How,
    client: &Client,
    out: &Output,
) -> Result<(), Failure> {
    let edits = how.edits.list()?;
    let written = how.from.as_deref().map(|path| toml_file::read::<T::Draft>(path, T::FIX)).transpose()?;
    if edits.is_empty() && written.is_none() {
        return Err(Failure::usage(
            format!("{} change", T::NOUN),
            "nothing is to be changed",
            "Give --set, --append or --drop, or a file with --from; `edit` opens an editor.",
        ));
    }
    let client = client.trying(how.dry_run);
    let mut all = Vec::new();
    for name in names {
        let (before, after) = change_one::<T>(name, &edits, written.as_ref(), &client).await?;
        let after = T::without_secrets(&after);
        let changes = field_changes(&before, &after);
        all.push((Changed { name: (*name).into(), changes }, diff::text(T::NOUN, name, &before, &after)));
    }
    let (changed, texts): (Vec<Changed>, Vec<String>) = all.into_iter().unzip();
    out.show(&changed, |_| texts.concat() + saved(how.dry_run));
    Ok(())
}

/// What stands below a change that was only tried.
pub(super) const fn saved(is_dry_run: bool) -> &'static str {
    if is_dry_run { "Dry run: nothing was saved.\n" } else { "" }
}

/// Changes one thing as it is now; again, if somebody else saved meanwhile and only single values are changed.
async fn change_one<T: Object>(
    name: &str,
    edits: &[Edit],
    written: Option<&Written<T::Draft>>,
    client: &Client,
) -> Result<(T::Draft, T::Draft), Failure> {
    let mut tries = 0;
    loop {
        tries += 1;
        let now = T::read(client, name).await?;
        let base = written.map_or(&now.value, |written| &written.value);
        let wrong =
            |faults| Failure::Faults { what: format!("{} {name} cannot be changed so", T::NOUN), faults };
        let draft = apply(base, edits).map_err(wrong)?;
        // A file says which saved form it was made from, or is meant to replace whatever is there.
        let etag = match written {
            Some(written) => written.etag.as_deref(),
            None => now.etag.as_deref(),
        };
        match T::save(&client.based_on(etag), name, &draft).await {
            Err(ClientError::Problem(problem))
                if problem.status == 412 && written.is_none() && tries < TRIES => {}
            Err(error) => return Err(error.into()),
            Ok(()) => return Ok((now.value, draft)),
        }
    }
}

/// Opens a thing in the editor and saves what comes of it.
pub(super) async fn edit<T: Object>(args: &EditOne, client: &Client, out: &Output) -> Result<(), Failure> {
    edit_named::<T>(&args.name, client, out).await
}

/// The same of a thing that is named otherwise than by an argument.
pub(super) async fn edit_named<T: Object>(name: &str, client: &Client, out: &Output) -> Result<(), Failure> {
    let now = T::read(client, name).await?;
    let Some(session) = edit::open(T::NOUN, name, &now.value)? else {
        out.say("Nothing was changed.");
        return Ok(());
    };
    let draft: T::Draft = session.draft(T::FIX)?;
    match T::save(&client.based_on(now.etag.as_deref()), name, &draft).await {
        Ok(()) => {
            session.discard();
            let draft = T::without_secrets(&draft);
            let changed = Changed { name: name.into(), changes: field_changes(&now.value, &draft) };
            out.show(&[changed], |_| diff::text(T::NOUN, name, &now.value, &draft));
            Ok(())
        }
        Err(error) => Err(session.keep(error.into())),
    }
}

/// Adds a thing that is like another.
pub(super) async fn copy<T: CanAdd>(
    args: &Copy,
    client: &Client,
    out: &Output,
    adapt: impl FnOnce(&mut T::Draft),
) -> Result<(), Failure> {
    let mut draft = T::read(client, &args.name).await?.value;
    adapt(&mut draft);
    let what = format!("{} {} cannot be copied so", T::NOUN, args.name);
    let draft = apply(&draft, &args.edits.list()?).map_err(|faults| Failure::Faults { what, faults })?;
    add::<T>(&args.new_name, &draft, args.dry_run, client, out).await
}

/// Adds a thing, and shows what it has.
pub(super) async fn add<T: CanAdd>(
    name: &str,
    draft: &T::Draft,
    dry_run: bool,
    client: &Client,
    out: &Output,
) -> Result<(), Failure> {
    T::add(&client.trying(dry_run), name, draft).await?;
    out.show(&T::without_secrets(draft), |draft| {
        let done = if dry_run { "would be added" } else { "added" };
        format!("{} {name} {done}\n{}{}", T::NOUN, toml_file::indented(draft), saved(dry_run))
    });
    Ok(())
}

/// Gives a thing another name.
pub(super) async fn rename<T: CanRename>(
    args: &Rename,
    client: &Client,
    out: &Output,
) -> Result<(), Failure> {
    let renamed = T::rename(&client.trying(args.dry_run), &args.name, &args.new_name).await?;
    out.show(&renamed, |renamed| {
        let done = if args.dry_run { "would be" } else { "is" };
        let mut text = format!("{} {} {done} named {} now\n", T::NOUN, args.name, renamed.name);
        if !renamed.followed.is_empty() {
            text.push_str(&format!("changed with it: {}\n", renamed.followed.join(", ")));
        }
        if !renamed.mentions.is_empty() {
            text.push_str(&format!(
                "still has the old name in a condition: {}\n",
                renamed.mentions.join("; ")
            ));
        }
        text + saved(args.dry_run)
    });
    Ok(())
}

/// The rename of a thing that has its name among its fields.
pub(super) async fn rename_by_change<T: Object>(
    client: &Client,
    old: &str,
    new: &str,
    put: impl FnOnce(&mut T::Draft, &str),
) -> Result<Renamed, ClientError> {
    let now = T::read(client, old).await?;
    let mut draft = now.value;
    put(&mut draft, new);
    T::save(&client.based_on(now.etag.as_deref()), old, &draft).await?;
    Ok(Renamed { name: new.into(), followed: Vec::new(), mentions: Vec::new() })
}

/// Removes things, after asking.
pub(super) async fn remove<T: CanRemove>(
    args: &Remove,
    client: &Client,
    out: &Output,
) -> Result<(), Failure> {
    let client = client.trying(args.dry_run);
    if !args.dry_run {
        args.confirm.ask(&format!("Remove {} {}? {}", T::NOUN, args.names.join(", "), T::LOSES))?;
    }
    for name in &args.names {
        T::remove(&client, name).await?;
        let done = if args.dry_run { "could be removed" } else { "removed" };
        out.say(&format!("{} {name} {done}", T::NOUN));
    }
    if args.dry_run {
        out.say("Dry run: nothing was removed.");
    }
    Ok(())
}
