use clap::{Subcommand, ValueEnum};
use lastmile_api::{HttpReach, LoaderDraft, LoaderView};
use lastmile_client::Client;

use super::files::{Upload, upload};
use crate::output::{Failure, Output, pairs, size, table};

/// `lastmile loader …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Add the loader for one kind of firmware.
    Add {
        /// What to call it.
        name: String,
        /// The firmware it runs on: bios, uefi-x64, uefi-x86, uefi-arm64, uefi-arm32, or another of IANA's registry.
        #[arg(long)]
        architecture: String,
        /// Only for clients whose vendor class (option 60) begins so, as in HTTPClient.
        #[arg(long)]
        class: Option<String>,
        /// Only for clients that name this user class (option 77).
        #[arg(long)]
        user_class: Option<String>,
        /// The file that firmware is told to fetch; NAME=PATH to give it another name.
        #[arg(long, value_name = "[NAME=]PATH")]
        boot_file: String,
        /// A file the loader asks for beside itself; NAME=PATH to give it another name. May be given several
        /// times.
        #[arg(long, value_name = "[NAME=]PATH")]
        file: Vec<String>,
        /// How it can fetch by HTTP.
        #[arg(long, value_enum, default_value = "port-80")]
        http: HttpName,
    },
    /// List all loaders.
    List,
    /// Show one loader and its files.
    Show {
        /// Its name.
        name: String,
    },
    /// Remove a loader.
    Remove {
        /// Its name.
        name: String,
    },
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum HttpName {
    /// Not at all.
    None,
    /// From port 80 only, as GRUB up to 2.06.
    #[value(name = "port-80")]
    Port80,
    /// From any port.
    AnyPort,
}

impl From<HttpName> for HttpReach {
    fn from(name: HttpName) -> Self {
        match name {
            HttpName::None => Self::None,
            HttpName::Port80 => Self::Port80,
            HttpName::AnyPort => Self::AnyPort,
        }
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add { name, architecture, class, user_class, boot_file, file, http } => {
            let mut files = vec![Upload::named(&boot_file)?];
            let boot_file = files[0].name.clone();
            for text in &file {
                files.push(Upload::named(text)?);
            }
            let files = upload(client, out, &files).await?;
            let draft =
                LoaderDraft { name, architecture, class, user_class, boot_file, http: http.into(), files };
            out.show(&client.create_loader(&draft).await?, show);
        }
        Command::List => out.show(&client.loaders().await?, |loaders| {
            let row = |loader: &LoaderView| {
                [
                    loader.name.clone(),
                    loader.architecture.clone(),
                    clients(loader),
                    loader.boot_file.clone(),
                    reach(loader.http).into(),
                    loader.files.len().to_string(),
                ]
            };
            table(["name", "architecture", "clients", "boot file", "http", "files"], loaders.iter().map(row))
        }),
        Command::Show { name } => out.show(&client.loader(&name).await?, show),
        Command::Remove { name } => {
            client.remove_loader(&name).await?;
            out.say(&format!("loader {name} removed"));
        }
    }
    Ok(())
}

const fn reach(http: HttpReach) -> &'static str {
    match http {
        HttpReach::None => "none",
        HttpReach::Port80 => "port 80",
        HttpReach::AnyPort => "any port",
    }
}

/// Which clients of its architecture it is for.
fn clients(loader: &LoaderView) -> String {
    let class = loader.class.as_ref().map(|class| format!("class {class}…"));
    let user_class = loader.user_class.as_ref().map(|class| format!("user class {class}"));
    let both: Vec<String> = class.into_iter().chain(user_class).collect();
    if both.is_empty() { "all".into() } else { both.join(", ") }
}

fn show(loader: &LoaderView) -> String {
    let files = loader.files.iter().map(|f| [f.path.clone(), size(f.size), f.sha256.short()]);
    pairs([
        ("name", loader.name.clone()),
        ("architecture", loader.architecture.clone()),
        ("clients", clients(loader)),
        ("boot file", loader.boot_file.clone()),
        ("HTTP", reach(loader.http).into()),
    ]) + "\n"
        + &table(["file", "size", "sha-256"], files)
}
