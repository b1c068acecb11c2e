//! `lastmile image …`

mod add;
mod show;

use clap::Subcommand;
use lastmile_api::{CurrentRevision, ImageTitle, RenameRequest, Renamed};
use lastmile_client::{Client, ClientError, Edited};

use self::show::{revision_text, rows};
pub(super) use self::{add::watched, show::detail};
use super::object::{self, CanRename, Change, Object, Rename};
use crate::{
    complete,
    confirm::Confirm,
    output::{Failure, Output},
};

/// `lastmile image …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Import an image, or the next revision of one: an ISO, a folder, a tar archive, a kernel with initrds, a UEFI
    /// application, or a raw disk image.
    Add(Box<add::Import>),
    /// Show what files are recognised as, and save nothing.
    Inspect(Box<add::Source>),
    /// List all images.
    List,
    /// Show one image and its revisions.
    Show {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
        /// This revision instead of the current one.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
        /// List every file with its digest.
        #[arg(long)]
        files: bool,
    },
    /// Make a revision the current one: forward, or back to an earlier one.
    SetCurrent {
        /// The image's name.
        #[arg(add = complete::names())]
        name: String,
        /// The revision's number.
        revision: u32,
        /// Check it and show what would come of it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Change the title that the person at the machine reads: --set title=….
    Change(Change),
    /// Rename an image. Menus and answers that name it follow.
    Rename(Rename),
    /// Retire a revision: nobody can make it current. Nothing of it is removed.
    Retire {
        /// The image's name.
        #[arg(add = complete::names())]
        name: String,
        /// The revision's number.
        revision: u32,
        /// Check it and show what would come of it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Restore a retired revision.
    Restore {
        /// The image's name.
        #[arg(add = complete::names())]
        name: String,
        /// The revision's number.
        revision: u32,
        /// Check it and show what would come of it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Read every file again and compare it with its digest.
    Verify {
        /// The image's name.
        #[arg(add = complete::names())]
        name: String,
        /// This revision instead of the current one.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
    },
    /// Remove an image and all its revisions, or one revision.
    Remove {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
        /// Only this revision.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
        /// Check whether it can be removed, and remove nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
}

/// Images, as far as they are changed.
struct Images;

impl Object for Images {
    type Draft = ImageTitle;
    const NOUN: &'static str = "image";
    const FIX: &'static str = "The only field is title. What else an image has belongs to its revisions.";

    async fn read(client: &Client, name: &str) -> Result<Edited<ImageTitle>, ClientError> {
        let read = client.images_read(name).await?;
        Ok(Edited { value: ImageTitle { title: read.value.image.title }, etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &ImageTitle) -> Result<(), ClientError> {
        client.images_set_title(name, draft).await.map(drop)
    }
}

impl CanRename for Images {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.images_rename(old, &RenameRequest { to: new.into() }).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add(import) => import.run(client, out).await?,
        Command::Inspect(source) => {
            out.show(&source.inspect(client, out).await?, show::inspection);
        }
        Command::List => out.list(&client.images_list().await?, rows),
        Command::Show { name, revision: None, files } => {
            out.show(&client.images_read(&name).await?, |image| detail(image, files));
        }
        Command::Show { name, revision: Some(number), files } => {
            out.show(&client.revisions_read(&name, number).await?, |revision| {
                revision_text(&name, revision, files)
            });
        }
        Command::SetCurrent { name, revision, dry_run } => {
            let current = CurrentRevision { number: revision };
            let image = client.trying(dry_run).images_set_current(&name, &current).await?;
            out.show(&image, |image| detail(image, false) + object::saved(dry_run));
        }
        Command::Change(args) => object::change::<Images>(&args, client, out).await?,
        Command::Rename(args) => object::rename::<Images>(&args, client, out).await?,
        Command::Retire { name, revision, dry_run } => {
            let changed = client.trying(dry_run).revisions_retire(&name, revision).await?;
            out.show(&changed, |revision| revision_text(&name, revision, false) + object::saved(dry_run));
        }
        Command::Restore { name, revision, dry_run } => {
            let changed = client.trying(dry_run).revisions_restore(&name, revision).await?;
            out.show(&changed, |revision| revision_text(&name, revision, false) + object::saved(dry_run));
        }
        Command::Verify { name, revision } => {
            let number = match revision {
                Some(number) => number,
                None => client.images_read(&name).await?.image.current.number,
            };
            let verified = add::watched(client, out, client.revisions_verify(&name, number)).await?;
            out.show(&verified, |revision| revision_text(&name, revision, false));
            if !verified.row.lacking.is_empty() {
                return Err(Failure::Input {
                    place: format!("{name} r{number}"),
                    what: verified.row.lacking.join("; "),
                    fix: "Put the files back as they were and verify again, or import them anew.",
                });
            }
        }
        Command::Remove { name, revision, dry_run, confirm } => {
            let what = match revision {
                Some(number) => format!("revision {number} of {name}"),
                None => format!("image {name}"),
            };
            if !dry_run {
                confirm.ask(&format!("Remove {what}? It has to be imported again if it is needed."))?;
            }
            let client = client.trying(dry_run);
            match revision {
                Some(number) => client.revisions_remove(&name, number).await?,
                None => client.images_remove(&name).await?,
            }
            out.say(&format!("{what} {}", if dry_run { "could be removed" } else { "removed" }));
            if dry_run {
                out.say("Dry run: nothing was removed.");
            }
        }
    }
    Ok(())
}
