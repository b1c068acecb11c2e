use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use lastmile_api::{FoundLoader, HttpReach, Language, LoaderDraft, LoaderFacts, LoaderPackages, LoaderView};
use lastmile_client::Client;

use super::files::{Upload, upload};
use crate::output::{Failure, Output, or_dash, pairs, size, table};

/// `lastmile loader …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Add the loader for one kind of firmware.
    Add {
        /// What to call it.
        name: String,
        /// The firmware it runs on: bios, uefi-x64, uefi-x86, uefi-arm64, uefi-arm32, or another of IANA's registry; what
        /// is recognised in the boot file if left out.
        #[arg(long)]
        architecture: Option<String>,
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
        /// How it can fetch by HTTP; what is recognised if left out.
        #[arg(long, value_enum)]
        http: Option<HttpName>,
        /// The language it reads menus in: grub, pxelinux or script; what is recognised if left out.
        #[arg(long)]
        language: Option<Language>,
    },
    /// Find loaders in the operating system's packages: those on the service's host, or package files.
    Find {
        /// Look into this package file (.deb) instead; may be given several times, as the files of one loader lie in several
        /// packages.
        #[arg(long, value_name = "FILE")]
        package: Vec<PathBuf>,
        /// Add these; may be given several times.
        #[arg(long, value_name = "NAME")]
        add: Vec<String>,
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
        Command::Add { name, architecture, class, user_class, boot_file, file, http, language } => {
            let mut files = vec![Upload::named(&boot_file)?];
            let boot_file = files[0].name.clone();
            for text in &file {
                files.push(Upload::named(text)?);
            }
            let files = upload(client, out, &files).await?;
            let http = http.map(Into::into);
            let draft =
                LoaderDraft { name, architecture, class, user_class, boot_file, http, language, files };
            out.show(&client.loaders_create(&draft).await?, show);
        }
        Command::Find { package, add } if package.is_empty() => {
            if add.is_empty() {
                let none = "No package has put a loader on the service's host.";
                out.show(&client.loaders_find().await?, |found| packaged(found, none));
            }
            for name in add {
                out.show(&client.loaders_add_packaged(&name).await?, show);
            }
        }
        Command::Find { package, add } => {
            let files = package.iter().map(|path| Upload::plain(path)).collect::<Result<Vec<_>, _>>()?;
            let packages = LoaderPackages { packages: upload(client, out, &files).await? };
            if add.is_empty() {
                let found = client.loaders_find_in_packages(&packages).await?;
                let none = "No loader is whole in these packages: give all of them that it lies in.";
                out.show(&found, |found| packaged(found, none));
            }
            for name in add {
                out.show(&client.loaders_add_from_packages(&name, &packages).await?, show);
            }
        }
        Command::List => out.show(&client.loaders_list().await?, |loaders| {
            let row = |loader: &LoaderView| {
                [
                    loader.name.clone(),
                    loader.architecture.clone(),
                    clients(loader),
                    loader.boot_file.clone(),
                    loader.language.as_str().into(),
                    reach(loader.http).into(),
                    or_dash(loader.facts.program.as_ref().map(|found| found.value.as_str())),
                    signed(&loader.facts),
                ]
            };
            let head = [
                "name",
                "architecture",
                "clients",
                "boot file",
                "language",
                "http",
                "what it is",
                "signed by",
            ];
            table(head, loaders.iter().map(row))
        }),
        Command::Show { name } => out.show(&client.loaders_read(&name).await?.value, show),
        Command::Remove { name } => {
            client.loaders_remove(&name).await?;
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

fn signed(facts: &LoaderFacts) -> String {
    or_dash((!facts.signers.is_empty()).then(|| facts.signers.join(", ")))
}

fn packaged(found: &[FoundLoader], none: &str) -> String {
    if found.is_empty() {
        return format!(
            "{none} Debian's are shim-signed, grub-efi-amd64-signed,\ngrub-efi-amd64-bin, pxelinux and syslinux-common; \
             shim-signed, grub-efi-arm64-signed and grub-efi-arm64-bin for arm64.\n"
        );
    }
    let row = |found: &FoundLoader| {
        [
            found.name.clone(),
            or_dash(found.facts.architecture.as_ref().map(|found| found.value.to_string())),
            or_dash(found.facts.program.as_ref().map(|found| found.value.as_str())),
            or_dash(found.facts.language.as_ref().map(|found| found.value.as_str())),
            reach(found.facts.http.as_ref().map_or(HttpReach::None, |found| found.value)).into(),
            signed(&found.facts),
            or_dash(found.in_the_way.as_ref()),
        ]
    };
    let head = ["name", "architecture", "what it is", "language", "http", "signed by", "in the way"];
    table(head, found.iter().map(row)) + "\nAdd one by giving its name as well, with --add NAME.\n"
}

fn show(loader: &LoaderView) -> String {
    let digest = |file: &lastmile_api::FileEntry| or_dash(file.sha256.map(|sha256| sha256.short()));
    let files = loader.files.iter().map(|f| [f.path.clone(), size(f.size), digest(f)]);
    let read =
        |found: Option<(String, &str)>| or_dash(found.map(|(value, from)| format!("{value} ({from})")));
    let facts = &loader.facts;
    pairs([
        ("name", loader.name.clone()),
        ("architecture", loader.architecture.clone()),
        ("clients", clients(loader)),
        ("boot file", loader.boot_file.clone()),
        ("what it is", read(facts.program.as_ref().map(|found| (found.value.clone(), found.from.as_str())))),
        ("language", loader.language.as_str().into()),
        ("HTTP", reach(loader.http).into()),
        (
            "HTTP, as read",
            read(facts.http.as_ref().map(|found| (reach(found.value).into(), found.from.as_str()))),
        ),
        ("signed by", signed(facts)),
    ]) + "\n"
        + &table(["file", "size", "sha-256"], files)
}
