use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{Family, ImageKind, ImageView, RevisionDraft};
use lastmile_client::Client;

use super::files::{Upload, upload};
use crate::output::{Failure, Output, ago, clock, or_dash, pairs, size, table};

/// `lastmile image …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Import an image, or the next revision of one.
    Add(Box<Import>),
    /// List all images.
    List,
    /// Show one image and its files.
    Show {
        /// Its name.
        name: String,
    },
    /// Remove an image and all its revisions.
    Remove {
        /// Its name.
        name: String,
    },
}

/// What is imported.
#[derive(Debug, Args)]
pub(crate) struct Import {
    /// What to call it.
    name: String,
    /// What the person at the machine reads.
    #[arg(long)]
    title: Option<String>,
    /// What it is for.
    #[arg(long, value_enum, default_value = "installer")]
    kind: KindName,
    /// Which answer file its installer reads.
    #[arg(long, value_enum)]
    family: Option<FamilyName>,
    /// Import every file of this folder; kernel and initrds are then paths within it.
    #[arg(long, value_name = "FOLDER")]
    folder: Option<PathBuf>,
    /// The kernel.
    #[arg(long, value_name = "PATH")]
    kernel: String,
    /// An initrd; may be given several times, in the order of loading.
    #[arg(long, value_name = "PATH")]
    initrd: Vec<String>,
    /// A kernel parameter it always needs; may be given several times.
    #[arg(long, value_name = "WORD")]
    parameter: Vec<String>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum KindName {
    Installer,
    Live,
    Tool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum FamilyName {
    Preseed,
    None,
}

impl Import {
    /// The draft, with every file in the library.
    async fn draft(self, client: &Client, out: &Output) -> Result<RevisionDraft, Failure> {
        let (files, kernel, initrds) = match &self.folder {
            Some(folder) => (Upload::folder(folder)?, self.kernel, self.initrd),
            None => {
                let mut files = vec![Upload::named(&self.kernel)?];
                for initrd in &self.initrd {
                    files.push(Upload::named(initrd)?);
                }
                let names: Vec<String> = files.iter().map(|file| file.name.clone()).collect();
                (files, names[0].clone(), names[1..].to_vec())
            }
        };
        if !files.iter().any(|file| file.name == kernel) {
            return Err(Failure::Input {
                place: "--kernel".into(),
                what: format!("'{kernel}' is not in the folder"),
                mend: "Give the kernel's path within the folder, as in boot/linux.",
            });
        }
        let kind = match self.kind {
            KindName::Installer => ImageKind::Installer,
            KindName::Live => ImageKind::Live,
            KindName::Tool => ImageKind::Tool,
        };
        let family = match self.family {
            Some(FamilyName::Preseed) => Family::Preseed,
            Some(FamilyName::None) | None => Family::None,
        };
        Ok(RevisionDraft {
            name: self.name,
            title: self.title,
            kind,
            family,
            kernel,
            initrds,
            parameters: self.parameter,
            files: upload(client, out, &files).await?,
        })
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add(import) => {
            let draft = import.draft(client, out).await?;
            out.show(&client.create_revision(&draft).await?, show);
        }
        Command::List => out.show(&client.images().await?, |images| {
            let row = |image: &ImageView| {
                [
                    image.name.clone(),
                    kind(image.kind).into(),
                    family(image.current.family).into(),
                    format!("r{}", image.current.number),
                    size(image.current.size),
                    ago(Some(image.current.created)),
                    image.machines.to_string(),
                    readiness(image),
                ]
            };
            let head = ["name", "kind", "family", "revision", "size", "imported", "machines", "ready"];
            table(head, images.iter().map(row))
        }),
        Command::Show { name } => out.show(&client.image(&name).await?, show),
        Command::Remove { name } => {
            client.remove_image(&name).await?;
            out.say(&format!("image {name} removed"));
        }
    }
    Ok(())
}

fn readiness(image: &ImageView) -> String {
    if image.current.damaged.is_empty() {
        "yes".into()
    } else {
        format!("no: {} missing or changed", image.current.damaged.join(", "))
    }
}

const fn kind(kind: ImageKind) -> &'static str {
    match kind {
        ImageKind::Installer => "installer",
        ImageKind::Live => "live",
        ImageKind::Tool => "tool",
    }
}

const fn family(family: Family) -> &'static str {
    match family {
        Family::Preseed => "preseed",
        Family::None => "-",
    }
}

fn show(image: &ImageView) -> String {
    let current = &image.current;
    let words = |words: &[String]| or_dash((!words.is_empty()).then(|| words.join(" ")));
    let files = current.files.iter().map(|f| [f.path.clone(), size(f.size), f.sha256.short()]);
    pairs([
        ("name", image.name.clone()),
        ("title", image.title.clone()),
        ("kind", kind(image.kind).into()),
        ("answers", family(current.family).into()),
        ("revision", format!("{} of {}", current.number, clock(current.created))),
        ("kernel", current.kernel.clone()),
        ("initrds", words(&current.initrds)),
        ("parameters", words(&current.parameters)),
        ("manifest", current.manifest_hash.clone()),
        ("size", size(current.size)),
        ("on machines", image.machines.to_string()),
        ("ready", readiness(image)),
    ]) + "\n"
        + &table(["file", "size", "sha-256"], files)
}
