//! `lastmile label …`

use clap::Subcommand;
use lastmile_api::{LabelComparison, LabelDraft, LabelView, RenameRequest, Renamed, Spread, SpreadValue};
use lastmile_client::{Client, ClientError, Edited};

use super::object::{
    self, CanAdd, CanRemove, CanRename, Change, Copy, EditOne, Edits, Object, Remove, Rename,
};
use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns, or_dash, pairs, some_names},
};

/// `lastmile label …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List all labels.
    List,
    /// Show one label.
    Show {
        /// The label.
        #[arg(add = complete::labels())]
        name: String,
    },
    /// Add what the machines of a label have in common, as in --set image=tidewrack-12 --set answers=kiosk. Machines get a label by `machine change`.
    Add {
        /// The label.
        name: String,
        #[command(flatten)]
        edits: Edits,
        /// Check it, and save nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// How alike the machines of a label are by what surveys measured: which are otherwise than most, and in what.
    Compare {
        /// The label.
        #[arg(add = complete::labels())]
        name: String,
    },
    /// Change a label, as in --set rank=50 or --append parameters=quiet.
    Change(Change),
    /// Change a label in $EDITOR.
    Edit(EditOne),
    /// Add a label like another.
    Copy(Copy),
    /// Rename a label, on all machines that have it.
    Rename(Rename),
    /// Remove what is said of a label: parameters, menu, rank, image, answers. Machines keep the label.
    Remove(Remove),
}

/// Labels, as they are entered.
struct Labels;

fn draft(view: LabelView) -> LabelDraft {
    LabelDraft {
        rank: view.rank,
        parameters: view.parameters,
        without_parameters: view.without_parameters,
        menu: view.menu,
        image: view.image,
        answers: view.answers,
    }
}

impl Object for Labels {
    type Draft = LabelDraft;
    const NOUN: &'static str = "label";
    const FIX: &'static str = "Fields are: rank, parameters, without_parameters, menu, image, answers.";

    async fn read(client: &Client, name: &str) -> Result<Edited<LabelDraft>, ClientError> {
        let read = client.labels_read(name).await?;
        Ok(Edited { value: draft(read.value), etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &LabelDraft) -> Result<(), ClientError> {
        client.labels_save(name, draft).await.map(drop)
    }
}

impl CanAdd for Labels {
    async fn add(client: &Client, name: &str, draft: &LabelDraft) -> Result<(), ClientError> {
        client.new_only().labels_save(name, draft).await.map(drop)
    }
}

impl CanRename for Labels {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.labels_rename(old, &RenameRequest { to: new.into() }).await
    }
}

impl CanRemove for Labels {
    const LOSES: &'static str = "Its parameters, menu, rank, image and answers are lost.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.labels_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::List => out.list(&client.labels_list().await?, rows),
        Command::Show { name } => out.show(&client.labels_read(&name).await?.value, show),
        Command::Compare { name } => out.show(&client.labels_facts(&name).await?, compared),
        Command::Add { name, edits, dry_run } => {
            let what = format!("label {name} cannot be added so");
            let draft = lastmile_api::apply(&LabelDraft::default(), &edits.list()?)
                .map_err(|faults| Failure::Faults { what, faults })?;
            object::add::<Labels>(&name, &draft, dry_run, client, out).await?;
        }
        Command::Change(args) => object::change::<Labels>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Labels>(&args, client, out).await?,
        Command::Copy(args) => object::copy::<Labels>(&args, client, out, |_| {}).await?,
        Command::Rename(args) => object::rename::<Labels>(&args, client, out).await?,
        Command::Remove(args) => object::remove::<Labels>(&args, client, out).await?,
    }
    Ok(())
}

fn compared(comparison: &LabelComparison) -> String {
    let LabelComparison { label, surveyed, unsurveyed, different, facts } = comparison;
    let mut text = match (surveyed, different.len()) {
        (0, _) => format!("No machine of {label} was surveyed.\n"),
        (1, _) => format!("One machine of {label} was surveyed: there is nothing to compare it with.\n"),
        (_, 0) => format!("All {surveyed} surveyed machines of {label} are alike.\n"),
        (_, few) => format!(
            "The {surveyed} surveyed machines of {label} are alike except {few}: {}\n",
            some_names(different)
        ),
    };
    let row = |spread: &Spread| {
        let value = |one: &SpreadValue| {
            let value = one.value.clone().unwrap_or_else(|| "nothing".into());
            format!("{value}: {} ({})", one.machines.len(), some_names(&one.machines))
        };
        let most = spread.values.first().map(|one| match &one.value {
            Some(value) => format!("{value}: {}", one.machines.len()),
            None => format!("nothing: {}", one.machines.len()),
        });
        let others: Vec<String> = spread.values.iter().skip(1).map(value).collect();
        [spread.place.clone().into(), Cell::maybe(most), others.join("\n").into()]
    };
    if !facts.is_empty() {
        text.push('\n');
        text.push_str(&columns(["fact", "most", "others"], facts.iter().map(row)).text());
    }
    if !unsurveyed.is_empty() {
        text.push_str(&format!("\nNever surveyed: {}\n", some_names(unsurveyed)));
    }
    text
}

fn rows(labels: &[LabelView]) -> Table {
    let row = |label: &LabelView| {
        [
            label.name.clone().into(),
            label.machines.to_string().into(),
            label.rank.to_string().into(),
            Cell::maybe(label.menu.as_ref()),
            Cell::maybe(label.image.as_ref()),
            Cell::maybe(label.answers.as_ref()),
            Cell::list(&label.parameters),
            Cell::list(&label.without_parameters),
        ]
    };
    let head = ["label", "machines", "rank", "menu", "image", "answers", "parameters", "without parameters"];
    columns(head, labels.iter().map(row))
}

fn show(label: &LabelView) -> String {
    let words = |words: &[String]| or_dash((!words.is_empty()).then(|| words.join(" ")));
    pairs([
        ("label", label.name.clone()),
        ("machines", label.machines.to_string()),
        ("rank", label.rank.to_string()),
        ("menu", or_dash(label.menu.as_ref())),
        ("image", or_dash(label.image.as_ref())),
        ("answers", or_dash(label.answers.as_ref())),
        ("parameters", words(&label.parameters)),
        ("without parameters", words(&label.without_parameters)),
    ])
}
