//! `lastmile menu …`

use std::path::PathBuf;

use clap::Subcommand;
use lastmile_api::{
    ActionDraft, Architecture, EntryDraft, Language, MenuDraft, MenuPreview, MenuView, PreviewRequest,
    RenameRequest, Renamed,
};
use lastmile_client::{Client, ClientError, Edited};

use super::{
    machine::parameters,
    object::{
        self, CanAdd, CanRemove, CanRename, Change, CopyWhole, EditOne, HIDDEN, Object, Remove, Rename,
    },
    toml_file,
};
use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns, or_dash, pairs},
};

/// An example with every setting and its meaning.
const EXAMPLE: &str = include_str!("../../menu.example.toml");

/// Where an example is to be had.
const FIX: &str = "`lastmile menu example` writes a file with every setting and its meaning.";

/// `lastmile menu …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an example of a menu file.
    Example,
    /// List all menus.
    List,
    /// Show one menu as a menu file. Phrases are never shown.
    Show {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Add a menu from a menu file.
    Add {
        /// What to call it.
        name: String,
        /// The menu file (TOML); `-` for standard input.
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
        /// Check it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Change a menu: single values, or the whole of it from a file. A file that `show` wrote is not saved over a later
    /// edition.
    Change(Change),
    /// Change a menu in $EDITOR.
    Edit(EditOne),
    /// Add a menu like another, with its phrases.
    Copy(CopyWhole),
    /// Rename a menu. What shows it shows it by its new name.
    Rename(Rename),
    /// What a machine would see of a menu, and the text that its loader gets.
    Preview {
        /// The menu's name.
        #[arg(add = complete::names())]
        name: String,
        /// The machine, by name or MAC address; an example if left out.
        #[arg(long, add = complete::machines())]
        machine: Option<String>,
        /// The firmware, as in uefi-x64; what is known of the machine if left out.
        #[arg(long)]
        architecture: Option<Architecture>,
        /// The loader's language: grub, pxelinux or script; that of the loader for the firmware if left out.
        #[arg(long)]
        language: Option<Language>,
        /// A menu file that is not saved yet.
        #[arg(long, value_name = "FILE")]
        from: Option<PathBuf>,
        /// Only the text that the loader gets.
        #[arg(long)]
        text: bool,
    },
    /// Remove menus that nobody is shown.
    Remove(Remove),
}

/// Menus, as they are entered.
struct Menus;

impl Object for Menus {
    type Draft = MenuDraft;
    const NOUN: &'static str = "menu";
    const FIX: &'static str = FIX;

    async fn read(client: &Client, name: &str) -> Result<Edited<MenuDraft>, ClientError> {
        let read = client.menus_read(name).await?;
        Ok(Edited { value: read.value.menu, etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &MenuDraft) -> Result<(), ClientError> {
        client.menus_save(name, draft).await.map(drop)
    }

    fn without_secrets(draft: &MenuDraft) -> MenuDraft {
        fn hide(entries: &mut [EntryDraft]) {
            for entry in entries {
                entry.guard = entry.guard.take().map(|_| HIDDEN.into());
                if let ActionDraft::Entries(inner) = &mut entry.action {
                    hide(inner);
                }
            }
        }
        let mut hidden = draft.clone();
        hide(&mut hidden.entries);
        hidden
    }
}

impl CanAdd for Menus {
    async fn add(client: &Client, name: &str, draft: &MenuDraft) -> Result<(), ClientError> {
        client.new_only().menus_save(name, draft).await.map(drop)
    }
}

impl CanRename for Menus {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.menus_rename(old, &RenameRequest { to: new.into() }).await
    }
}

impl CanRemove for Menus {
    const LOSES: &'static str = "Its entries and phrases are lost.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.menus_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Example => out.line(EXAMPLE.trim_end()),
        Command::List => out.list(&client.menus_list().await?, rows),
        Command::Show { name } => toml_file::show(out, &client.menus_read(&name).await?, show),
        Command::Add { name, from, dry_run } => {
            let written = toml_file::read(&from, FIX)?;
            object::add::<Menus>(&name, &written.value, dry_run, client, out).await?;
        }
        Command::Change(args) => object::change::<Menus>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Menus>(&args, client, out).await?,
        Command::Copy(args) => {
            let request = RenameRequest { to: args.new_name.clone() };
            let copy = client.trying(args.dry_run).menus_copy(&args.name, &request).await?;
            out.show(&copy, |copy| args.done("menu", &copy.name));
        }
        Command::Rename(args) => object::rename::<Menus>(&args, client, out).await?,
        Command::Preview { name, machine, architecture, language, from, text } => {
            let read = |path: &PathBuf| toml_file::read(path, FIX);
            let draft = from.as_ref().map(read).transpose()?.map(|written| written.value);
            let architecture = architecture.map(|architecture| architecture.to_string());
            let request = PreviewRequest { draft, machine, architecture, language };
            let preview = client.menus_preview(&name, &request).await?;
            out.show(&preview, |preview| if text { preview.text.clone() } else { preview_text(preview) });
            if let Some(fault) = preview.faults.first() {
                return Err(Failure::Input {
                    place: fault.place.clone(),
                    what: format!("{} ({} in all)", fault.what, preview.faults.len()),
                    fix: FIX,
                });
            }
        }
        Command::Remove(args) => object::remove::<Menus>(&args, client, out).await?,
    }
    Ok(())
}

fn rows(menus: &[MenuView]) -> Table {
    let row = |menu: &MenuView| {
        [
            menu.name.clone().into(),
            menu.menu.title.clone().into(),
            menu.menu.entries.len().to_string().into(),
            Cell::maybe(menu.menu.default.as_ref().or(menu.menu.entries.first().map(|entry| &entry.key))),
            menu.menu.timeout_secs.map_or_else(|| "waits".into(), |secs| format!("{secs} s")).into(),
            Cell::list(&menu.shown_by),
        ]
    };
    let head = ["name", "title", "entries", "default", "time-out", "shown by"];
    columns(head, menus.iter().map(row))
}

fn show(menu: &MenuView) -> String {
    let shown = or_dash((!menu.shown_by.is_empty()).then(|| menu.shown_by.join(", ")));
    format!("# menu {}, shown by {shown}\n", menu.name) + &toml::to_string(&menu.menu).unwrap_or_default()
}

fn preview_text(preview: &MenuPreview) -> String {
    let mut text = pairs([
        ("machine", preview.machine.clone()),
        ("firmware", or_dash(preview.architecture.as_ref())),
        ("language", preview.language.as_str().into()),
    ]);
    for screen in &preview.screens {
        let what = if screen.key.is_empty() {
            "\nThe person sees\n".into()
        } else {
            format!("\nBehind {}\n", screen.key)
        };
        text.push_str(&what);
        for (number, row) in screen.rows.iter().enumerate() {
            let mark = if screen.chosen == Some(number) { '>' } else { ' ' };
            text.push_str(&format!("{mark} {row}\n"));
        }
    }
    if !preview.left_out.is_empty() {
        let rows = preview.left_out.iter().map(|left| [left.title.clone().into(), left.why.clone().into()]);
        text.push_str("\nThis machine does not get\n");
        text.push_str(&columns(["entry", "reason"], rows).text());
    }
    for entry in &preview.parameters {
        text.push_str(&format!("\nThe kernel of {} is started with\n", entry.key));
        text.push_str(&parameters(&entry.parameters));
    }
    text.push_str("\nThe loader reads\n");
    for line in preview.text.lines() {
        text.push_str(&format!("  {line}\n"));
    }
    text
}
