use std::path::PathBuf;

use clap::Subcommand;
use lastmile_api::{Architecture, Language, MenuPreview, MenuView, PreviewRequest};
use lastmile_client::Client;

use super::{
    edited::{self, read_toml},
    machine::parameters,
};
use crate::output::{Failure, Output, or_dash, pairs, table};

/// An example with every setting and its meaning.
const EXAMPLE: &str = include_str!("../../menu.example.toml");

/// Where an example is to be had.
const FIX: &str = "`lastmile menu example` writes a file with every setting and its meaning.";

/// `lastmile menu …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an example of a menu file.
    Example,
    /// Save a menu file as a menu, or in the place of one.
    Save {
        /// What to call it.
        name: String,
        /// The menu file (TOML); `-` for standard input. One that `show` wrote is not saved over a later edition.
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
    },
    /// List all menus.
    List,
    /// Show one menu as a menu file. Phrases are never shown.
    Show {
        /// Its name.
        name: String,
    },
    /// What a machine would see of a menu, and the text that its loader gets.
    Preview {
        /// The menu's name.
        name: String,
        /// The machine, by name or MAC address; an example if left out.
        #[arg(long)]
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
    /// Remove a menu.
    Remove {
        /// Its name.
        name: String,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Example => out.line(EXAMPLE.trim_end()),
        Command::Save { name, from } => {
            let written = read_toml(&from, FIX)?;
            let client = client.based_on(written.etag.as_deref());
            out.show(&client.menus_save(&name, &written.value).await?, show);
        }
        Command::List => out.show(&client.menus_list().await?, |menus| {
            let row = |menu: &MenuView| {
                [
                    menu.name.clone(),
                    menu.menu.title.clone(),
                    menu.menu.entries.len().to_string(),
                    or_dash(menu.menu.default.as_ref().or(menu.menu.entries.first().map(|entry| &entry.key))),
                    menu.menu.timeout_secs.map_or_else(|| "waits".into(), |secs| format!("{secs} s")),
                    or_dash((!menu.shown_by.is_empty()).then(|| menu.shown_by.join(", "))),
                ]
            };
            table(["name", "title", "entries", "default", "time-out", "shown by"], menus.iter().map(row))
        }),
        Command::Show { name } => edited::show(out, &client.menus_read(&name).await?, show),
        Command::Preview { name, machine, architecture, language, from, text } => {
            let draft =
                from.as_deref().map(|path| read_toml(path, FIX)).transpose()?.map(|written| written.value);
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
        Command::Remove { name } => {
            client.menus_remove(&name).await?;
            out.say(&format!("menu {name} removed"));
        }
    }
    Ok(())
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
        let rows = preview.left_out.iter().map(|left| [left.title.clone(), left.why.clone()]);
        text.push_str("\nThis machine does not get\n");
        text.push_str(&table(["entry", "because"], rows));
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
