//! `lastmile webhook …`

use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{
    DeliveriesListQuery, DeliveryView, RenameRequest, Renamed, WebhookDraft, WebhookEvent, WebhookView,
};
use lastmile_client::{Client, ClientError, Edited};

use super::{
    object::{self, CanAdd, CanRemove, CanRename, Change, Copy, EditOne, HIDDEN, Object, Remove, Rename},
    toml_file::read_text,
};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, clock, columns, or_dash, pairs},
};

/// `lastmile webhook …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List all webhooks, and whether their deliveries arrive.
    List,
    /// Show one webhook. Its key is never shown.
    Show {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Add a webhook.
    Add(Add),
    /// Change a webhook, as in --set url=https://… or --drop events=booted.
    Change(Change),
    /// Sign deliveries with another key from now on.
    SetKey {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
        /// A file with the key; `-` for standard input.
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
    },
    /// Change a webhook in $EDITOR.
    Edit(EditOne),
    /// Add a webhook like another, with a key of its own.
    Copy(Copy),
    /// Rename a webhook. Receivers know its key by the name.
    Rename(Rename),
    /// Remove webhooks. Deliveries that wait are abandoned.
    Remove(Remove),
    /// Send a test delivery.
    Try {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// List deliveries, latest first.
    Deliveries {
        /// Only those of this webhook.
        #[arg(add = complete::names())]
        webhook: Option<String>,
        /// Only those of this install.
        #[arg(long)]
        install: Option<i64>,
        /// Only those that wait.
        #[arg(long)]
        waiting: bool,
        /// At most so many.
        #[arg(long, default_value_t = 100)]
        limit: u32,
    },
    /// Send a delivery now: one that waits, or, once more, one that was delivered or abandoned.
    Send {
        /// Its number.
        number: i32,
        /// Check whether it can be sent, and send nothing.
        #[arg(long)]
        dry_run: bool,
    },
    /// Abandon a delivery: it is not tried again.
    Abandon {
        /// Its number.
        number: i32,
        /// Check whether it can be abandoned, and change nothing.
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        confirm: Confirm,
    },
}

/// A new webhook.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// Its name, by which the receiver knows the key.
    name: String,
    /// Where it sends to, by http:// or https://.
    url: String,
    /// An event that it sends; may be repeated. All of them if left out.
    #[arg(long, value_enum)]
    event: Vec<EventName>,
    /// A file with the key that deliveries are signed with; `-` for standard input. If left out, a key is made and shown
    /// once.
    #[arg(long, value_name = "FILE")]
    key_from: Option<PathBuf>,
    /// Check it, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum EventName {
    /// An install is installed.
    Installed,
    /// An install failed.
    Failed,
    /// An install stalled.
    Stalled,
    /// An install was cancelled.
    Cancelled,
    /// An installed host started and reported what it is.
    Booted,
}

impl From<EventName> for WebhookEvent {
    fn from(name: EventName) -> Self {
        match name {
            EventName::Installed => Self::Installed,
            EventName::Failed => Self::Failed,
            EventName::Stalled => Self::Stalled,
            EventName::Cancelled => Self::Cancelled,
            EventName::Booted => Self::Booted,
        }
    }
}

/// Webhooks, as they are entered.
struct Webhooks;

impl Object for Webhooks {
    type Draft = WebhookDraft;
    const NOUN: &'static str = "webhook";
    const FIX: &'static str = "Fields are: url, events, key.";

    async fn read(client: &Client, name: &str) -> Result<Edited<WebhookDraft>, ClientError> {
        let Edited { value, etag } = client.webhooks_read(name).await?;
        Ok(Edited { value: WebhookDraft { url: value.url, events: value.events, key: None }, etag })
    }

    async fn save(client: &Client, name: &str, draft: &WebhookDraft) -> Result<(), ClientError> {
        client.webhooks_save(name, draft).await.map(drop)
    }

    fn without_secrets(draft: &WebhookDraft) -> WebhookDraft {
        WebhookDraft { key: draft.key.as_ref().map(|_| HIDDEN.into()), ..draft.clone() }
    }
}

impl CanAdd for Webhooks {
    async fn add(client: &Client, name: &str, draft: &WebhookDraft) -> Result<(), ClientError> {
        client.new_only().webhooks_save(name, draft).await.map(drop)
    }
}

impl CanRename for Webhooks {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.webhooks_rename(old, &RenameRequest { to: new.into() }).await
    }
}

impl CanRemove for Webhooks {
    const LOSES: &'static str = "Its key is lost, and deliveries that wait are abandoned.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.webhooks_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::List => out.list(&client.webhooks_list().await?, rows),
        Command::Show { name } => out.show(&client.webhooks_read(&name).await?.value, show),
        Command::Add(args) => add(args, client, out).await?,
        Command::Change(args) => object::change::<Webhooks>(&args, client, out).await?,
        Command::SetKey { name, from } => {
            let now = Webhooks::read(client, &name).await?;
            let draft = WebhookDraft { key: Some(key_of(&from)?), ..now.value };
            client.based_on(now.etag.as_deref()).webhooks_save(&name, &draft).await?;
            out.say(&format!("webhook {name} signs with the new key"));
        }
        Command::Edit(args) => object::edit::<Webhooks>(&args, client, out).await?,
        Command::Copy(args) => {
            let draft = Webhooks::read(client, &args.name).await?.value;
            let edited = lastmile_api::apply(&draft, &args.edits()?);
            let what = format!("webhook {} cannot be copied so", args.name);
            let draft = edited.map_err(|faults| Failure::Faults { what, faults })?;
            created(&args.new_name, &draft, args.dry_run, client, out).await?;
        }
        Command::Rename(args) => object::rename::<Webhooks>(&args, client, out).await?,
        Command::Remove(args) => object::remove::<Webhooks>(&args, client, out).await?,
        Command::Try { name } => {
            client.webhooks_try(&name).await?;
            out.say(&format!(
                "test delivery sent; `lastmile webhook deliveries {name}` shows whether it arrived"
            ));
        }
        Command::Deliveries { webhook, install, waiting, limit } => {
            let query = DeliveriesListQuery {
                webhook,
                install,
                waiting: waiting.then_some(true),
                limit: Some(limit),
            };
            out.list(&client.deliveries_list(&query).await?, deliveries);
        }
        Command::Send { number, dry_run } => {
            out.list(&[client.trying(dry_run).deliveries_send(number).await?], deliveries);
            out.say_tried(dry_run);
        }
        Command::Abandon { number, dry_run, confirm } => {
            if !dry_run {
                confirm.ask(&format!("Abandon delivery {number}? It is not tried again."))?;
            }
            out.list(&[client.trying(dry_run).deliveries_abandon(number).await?], deliveries);
            out.say_tried(dry_run);
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn add(args: Add, client: &Client, out: &Output) -> Result<(), Failure> {
    let events: Vec<WebhookEvent> = if args.event.is_empty() {
        WebhookDraft::all_events()
    } else {
        args.event.into_iter().map(Into::into).collect()
    };
    let key = args.key_from.as_deref().map(key_of).transpose()?;
    let draft = WebhookDraft { url: args.url, events, key };
    created(&args.name, &draft, args.dry_run, client, out).await
}

/// The key in a file.
fn key_of(path: &Path) -> Result<String, Failure> {
    let text = read_text(path, "Give a file that holds the key, or - for standard input.")?;
    Ok(text.trim().to_owned())
}

/// Adds a webhook, and shows the key that was made for it.
async fn created(
    name: &str,
    draft: &WebhookDraft,
    dry_run: bool,
    client: &Client,
    out: &Output,
) -> Result<(), Failure> {
    let view = client.trying(dry_run).new_only().webhooks_save(name, draft).await?;
    let view = WebhookView { key: view.key.filter(|_| !dry_run), ..view };
    out.show(&view, |view| {
        let mut text = rows(std::slice::from_ref(view)).text();
        if let Some(key) = &view.key {
            text.push_str(&format!("\nIts key, which is not shown again: {key}\n"));
        }
        text + object::saved(dry_run)
    });
    Ok(())
}

fn events(webhook: &WebhookView) -> Vec<String> {
    webhook.events.iter().map(|event| event.as_str().to_owned()).collect()
}

fn rows(webhooks: &[WebhookView]) -> Table {
    let row = |webhook: &WebhookView| {
        [
            webhook.name.clone().into(),
            webhook.url.clone().into(),
            Cell::list(&events(webhook)),
            webhook.waiting.to_string().into(),
            Cell::clock(webhook.last_delivered),
            Cell::maybe(webhook.trouble.as_ref()),
        ]
    };
    columns(["name", "url", "events", "waiting", "last delivered", "error"], webhooks.iter().map(row))
}

fn show(webhook: &WebhookView) -> String {
    pairs([
        ("name", webhook.name.clone()),
        ("url", webhook.url.clone()),
        ("events", events(webhook).join(", ")),
        ("waiting", webhook.waiting.to_string()),
        ("last delivered", or_dash(webhook.last_delivered.map(clock))),
        ("error", or_dash(webhook.trouble.as_ref())),
    ])
}

fn deliveries(deliveries: &[DeliveryView]) -> Table {
    let row = |delivery: &DeliveryView| {
        let state = match (delivery.delivered, delivery.due) {
            (Some(at), _) => format!("delivered {}", clock(at)),
            (None, Some(due)) => format!("waiting until {}", clock(due)),
            (None, None) => "abandoned".into(),
        };
        [
            delivery.number.to_string().into(),
            delivery.webhook.clone().into(),
            delivery.event.as_str().into(),
            Cell::maybe(delivery.install),
            Cell::ago(Some(delivery.created)),
            delivery.attempts.to_string().into(),
            Cell::state(state),
            Cell::maybe(delivery.last_answer.as_ref()),
        ]
    };
    let head = ["no", "webhook", "event", "install", "created", "attempts", "state", "last answer"];
    columns(head, deliveries.iter().map(row))
}
