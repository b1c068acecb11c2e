//! `lastmile loader …`

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use lastmile_api::{
    FoundLoader, HttpReach, Language, LoaderDraft, LoaderFacts, LoaderPackages, LoaderView, Renamed,
};
use lastmile_client::{Client, ClientError, Edited};

use super::{
    files::{Upload, upload},
    object::{self, CanAdd, CanRemove, CanRename, Change, Copy, EditOne, Object, Remove, Rename},
};
use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns, or_dash, pairs},
};

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
        /// Check it, and save nothing. Its files are sent, and go when nothing has used them for a while.
        #[arg(long)]
        dry_run: bool,
    },
    /// Change a loader, as in --set class=HTTPClient.
    Change(Change),
    /// Change a loader in $EDITOR.
    Edit(EditOne),
    /// Add a loader like another, for other clients: --set user_class=… or --set architecture=….
    Copy(Copy),
    /// Rename a loader.
    Rename(Rename),
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
        #[arg(add = complete::names())]
        name: String,
    },
    /// Remove loaders.
    Remove(Remove),
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

/// Loaders, as they are entered.
struct Loaders;

impl Object for Loaders {
    type Draft = LoaderDraft;
    const NOUN: &'static str = "loader";
    const FIX: &'static str =
        "Fields are: name, architecture, class, user_class, boot_file, http, language, files.";

    async fn read(client: &Client, name: &str) -> Result<Edited<LoaderDraft>, ClientError> {
        let Edited { value: loader, etag } = client.loaders_read(name).await?;
        let value = LoaderDraft {
            name: loader.name,
            architecture: Some(loader.architecture),
            class: loader.class,
            user_class: loader.user_class,
            boot_file: loader.boot_file,
            http: Some(loader.http),
            language: Some(loader.language),
            files: loader.files,
        };
        Ok(Edited { value, etag })
    }

    async fn save(client: &Client, name: &str, draft: &LoaderDraft) -> Result<(), ClientError> {
        client.loaders_replace(name, draft).await.map(drop)
    }
}

impl CanAdd for Loaders {
    async fn add(client: &Client, name: &str, draft: &LoaderDraft) -> Result<(), ClientError> {
        client.loaders_create(&LoaderDraft { name: name.into(), ..draft.clone() }).await.map(drop)
    }
}

impl CanRename for Loaders {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        object::rename_by_change::<Self>(client, old, new, |draft, new| new.clone_into(&mut draft.name)).await
    }
}

impl CanRemove for Loaders {
    const LOSES: &'static str = "Firmware that it is for has nothing to boot until another is added.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.loaders_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Add { name, architecture, class, user_class, boot_file, file, http, language, dry_run } => {
            let mut files = vec![Upload::named(&boot_file)?];
            let boot_file = files[0].name.clone();
            for text in &file {
                files.push(Upload::named(text)?);
            }
            let files = upload(client, out, &files).await?;
            let http = http.map(Into::into);
            let draft =
                LoaderDraft { name, architecture, class, user_class, boot_file, http, language, files };
            out.show(&client.trying(dry_run).loaders_create(&draft).await?, |loader| {
                show(loader) + object::saved(dry_run)
            });
        }
        Command::Find { package, add } if package.is_empty() => {
            if add.is_empty() {
                let none = "No package has put a loader on the service's host.";
                out.list(&client.loaders_find().await?, |found| packaged(found, none));
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
                out.list(&found, |found| packaged(found, none));
            }
            for name in add {
                out.show(&client.loaders_add_from_packages(&name, &packages).await?, show);
            }
        }
        Command::List => out.list(&client.loaders_list().await?, rows),
        Command::Show { name } => out.show(&client.loaders_read(&name).await?.value, show),
        Command::Change(args) => object::change::<Loaders>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Loaders>(&args, client, out).await?,
        Command::Copy(args) => object::copy::<Loaders>(&args, client, out, |_| {}).await?,
        Command::Rename(args) => object::rename::<Loaders>(&args, client, out).await?,
        Command::Remove(args) => object::remove::<Loaders>(&args, client, out).await?,
    }
    Ok(())
}

fn rows(loaders: &[LoaderView]) -> Table {
    let row = |loader: &LoaderView| {
        [
            loader.name.clone().into(),
            loader.architecture.clone().into(),
            clients(loader).into(),
            loader.boot_file.clone().into(),
            loader.language.as_str().into(),
            reach(loader.http).into(),
            Cell::maybe(loader.facts.program.as_ref().map(|found| found.value.as_str())),
            Cell::list(&loader.facts.signers),
        ]
    };
    let head = ["name", "architecture", "clients", "boot file", "language", "http", "program", "signed by"];
    columns(head, loaders.iter().map(row))
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

fn packaged(found: &[FoundLoader], none: &str) -> Table {
    let note = if found.is_empty() {
        format!(
            "{none} Debian's are shim-signed, grub-efi-amd64-signed,\ngrub-efi-amd64-bin, pxelinux and syslinux-common; \
             shim-signed, grub-efi-arm64-signed and grub-efi-arm64-bin for arm64.\n"
        )
    } else {
        "\nAdd one by giving its name as well, with --add NAME.\n".into()
    };
    let row = |found: &FoundLoader| {
        [
            found.name.clone().into(),
            Cell::maybe(found.facts.architecture.as_ref().map(|found| found.value.to_string())),
            Cell::maybe(found.facts.program.as_ref().map(|found| found.value.as_str())),
            Cell::maybe(found.facts.language.as_ref().map(|found| found.value.as_str())),
            reach(found.facts.http.as_ref().map_or(HttpReach::None, |found| found.value)).into(),
            Cell::list(&found.facts.signers),
            Cell::maybe(found.in_the_way.as_ref()),
        ]
    };
    let head = ["name", "architecture", "program", "language", "http", "signed by", "obstacle"];
    columns(head, found.iter().map(row)).note(note)
}

fn show(loader: &LoaderView) -> String {
    let digest = |file: &lastmile_api::FileEntry| Cell::maybe(file.sha256.map(|sha256| sha256.short()));
    let files = loader.files.iter().map(|f| [f.path.clone().into(), Cell::size(f.size), digest(f)]);
    let read =
        |found: Option<(String, &str)>| or_dash(found.map(|(value, from)| format!("{value} ({from})")));
    let facts = &loader.facts;
    pairs([
        ("name", loader.name.clone()),
        ("architecture", loader.architecture.clone()),
        ("clients", clients(loader)),
        ("boot file", loader.boot_file.clone()),
        ("program", read(facts.program.as_ref().map(|found| (found.value.clone(), found.from.as_str())))),
        ("language", loader.language.as_str().into()),
        ("HTTP", reach(loader.http).into()),
        (
            "HTTP, as read",
            read(facts.http.as_ref().map(|found| (reach(found.value).into(), found.from.as_str()))),
        ),
        ("signed by", signed(facts)),
    ]) + "\n"
        + &columns(["file", "size", "sha-256"], files).text()
}
