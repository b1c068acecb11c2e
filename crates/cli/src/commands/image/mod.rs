//! `lastmile image …`

mod add;
mod show;

use clap::Subcommand;
use lastmile_api::{CurrentRevision, ImageTitle};
use lastmile_client::Client;

use self::show::{detail, revision_text, rows};
use crate::output::{Failure, Output};

/// `lastmile image …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Import an image, or the next revision of one: an ISO, a folder, a tar archive, a kernel with initrds, a UEFI
    /// application, or a raw disk image.
    Add(Box<add::Import>),
    /// Say what files are, without saving anything.
    Inspect(Box<add::Source>),
    /// List all images.
    List,
    /// Show one image and its revisions.
    Show {
        /// Its name.
        name: String,
        /// This revision instead of the current one.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
        /// List every file with its digest.
        #[arg(long)]
        files: bool,
    },
    /// Make a revision the current one: forward, or back to an earlier one.
    Current {
        /// The image's name.
        name: String,
        /// The revision's number.
        revision: u32,
    },
    /// Change what the person at the machine reads of an image.
    Title {
        /// The image's name.
        name: String,
        /// One line of text.
        title: String,
    },
    /// Take a revision out of use; nothing of it is removed.
    Retire {
        /// The image's name.
        name: String,
        /// The revision's number.
        revision: u32,
        /// Bring it back instead.
        #[arg(long)]
        restore: bool,
    },
    /// Read every file again and hold it against its digest.
    Verify {
        /// The image's name.
        name: String,
        /// This revision instead of the current one.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
    },
    /// Remove an image and all its revisions, or one revision.
    Remove {
        /// Its name.
        name: String,
        /// Only this revision.
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u32>,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add(import) => import.run(client, out).await?,
        Command::Inspect(source) => {
            out.show(&source.inspect(client, out).await?, show::inspection);
        }
        Command::List => out.show(&client.images_list().await?, |images| rows(images)),
        Command::Show { name, revision: None, files } => {
            out.show(&client.images_read(&name).await?, |image| detail(image, files));
        }
        Command::Show { name, revision: Some(number), files } => {
            out.show(&client.revisions_read(&name, number).await?, |revision| {
                revision_text(&name, revision, files)
            });
        }
        Command::Current { name, revision } => {
            out.show(
                &client.images_set_current(&name, &CurrentRevision { number: revision }).await?,
                |image| detail(image, false),
            );
        }
        Command::Title { name, title } => {
            out.show(&client.images_set_title(&name, &ImageTitle { title }).await?, |image| {
                detail(image, false)
            });
        }
        Command::Retire { name, revision, restore } => {
            let changed = match restore {
                true => client.revisions_restore(&name, revision).await?,
                false => client.revisions_retire(&name, revision).await?,
            };
            out.show(&changed, |revision| revision_text(&name, revision, false));
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
        Command::Remove { name, revision: None } => {
            client.images_remove(&name).await?;
            out.say(&format!("image {name} removed"));
        }
        Command::Remove { name, revision: Some(number) } => {
            client.revisions_remove(&name, number).await?;
            out.say(&format!("revision {number} of {name} removed"));
        }
    }
    Ok(())
}
