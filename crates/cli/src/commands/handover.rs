//! `lastmile handover …`

use std::{path::PathBuf, process::ExitCode};

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{DeliveriesListQuery, DeliveryView, HandoverDraft, HandoverEvent, HandoverView};
use lastmile_client::{Client, ClientError};

use crate::output::{Failure, Output, ago, clock, or_dash, table};

/// `lastmile handover …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List where ends of installs are told, and whether deliveries arrive.
    List,
    /// Add a handover, or change the one of its name: what is not named stays as it is.
    Save(Save),
    /// Remove a handover; what was to be told by it is given up.
    Remove {
        /// Its name.
        name: String,
    },
    /// Send a delivery that tells of nothing, to try whether deliveries arrive.
    Try {
        /// Its name.
        name: String,
    },
    /// List deliveries, latest first.
    Deliveries {
        /// Only those of this handover.
        handover: Option<String>,
        /// Only those of this install.
        #[arg(long)]
        install: Option<i64>,
        /// Only those that are still to be made.
        #[arg(long)]
        waiting: bool,
        /// At most so many.
        #[arg(long, default_value_t = 100)]
        limit: u32,
    },
    /// Have a delivery made at once: one that waits, or, once more, one that was made or given up.
    Send {
        /// Its number.
        number: i32,
    },
    /// Give a delivery up: it is not tried again.
    GiveUp {
        /// Its number.
        number: i32,
    },
}

/// A handover.
#[derive(Debug, Args)]
pub(crate) struct Save {
    /// Its name, by which the receiver knows the key.
    name: String,
    /// Where to, by http:// or https://.
    #[arg(long)]
    url: Option<String>,
    /// What is told; may be given several times. Everything if left out of a new one.
    #[arg(long, value_enum)]
    event: Vec<Told>,
    /// A file with the key that deliveries are signed with; `-` for standard input. Left out of a new one, a key is made
    /// and shown once.
    #[arg(long, value_name = "FILE")]
    key_from: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Told {
    /// An install reached its end well.
    Installed,
    /// An install failed.
    Failed,
    /// An install stalled.
    Stalled,
    /// An install was called off.
    Cancelled,
    /// The host that an install made started, and said what it is.
    Booted,
}

impl From<Told> for HandoverEvent {
    fn from(told: Told) -> Self {
        match told {
            Told::Installed => Self::Installed,
            Told::Failed => Self::Failed,
            Told::Stalled => Self::Stalled,
            Told::Cancelled => Self::Cancelled,
            Told::Booted => Self::Booted,
        }
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::List => out.show(&client.handovers_list().await?, |all| rows(all)),
        Command::Save(save) => self::save(save, client, out).await?,
        Command::Remove { name } => {
            client.handovers_remove(&name).await?;
            out.say(&format!("handover {name} removed"));
        }
        Command::Try { name } => {
            client.handovers_try(&name).await?;
            out.say(&format!(
                "a trial is on its way; `lastmile handover deliveries {name}` tells how it went"
            ));
        }
        Command::Deliveries { handover, install, waiting, limit } => {
            let query = DeliveriesListQuery {
                handover,
                install,
                waiting: waiting.then_some(true),
                limit: Some(limit),
            };
            out.show(&client.deliveries_list(&query).await?, |all| deliveries(all));
        }
        Command::Send { number } => {
            out.show(&client.deliveries_send(number).await?, |one| deliveries(std::slice::from_ref(one)));
        }
        Command::GiveUp { number } => {
            out.show(&client.deliveries_give_up(number).await?, |one| deliveries(std::slice::from_ref(one)));
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn save(save: Save, client: &Client, out: &Output) -> Result<(), Failure> {
    let former = match client.handovers_read(&save.name).await {
        Ok(former) => Some(former),
        Err(ClientError::Problem(problem)) if problem.status == 404 => None,
        Err(error) => return Err(error.into()),
    };
    let client = client.based_on(former.as_ref().and_then(|former| former.etag.as_deref()));
    let former = former.map(|former| former.value);
    let url = save.url.or_else(|| former.as_ref().map(|former| former.url.clone())).ok_or_else(|| {
        Failure::Input {
            place: "--url".into(),
            what: format!("there is no handover '{}' yet, and no URL is given", save.name),
            fix: "Say where to, as in --url https://records.gannet.example/installs.",
        }
    })?;
    let events: Vec<HandoverEvent> = match (save.event.is_empty(), &former) {
        (false, _) => save.event.into_iter().map(Into::into).collect(),
        (true, Some(former)) => former.events.clone(),
        (true, None) => HandoverDraft::all_events(),
    };
    let key = match save.key_from {
        None => None,
        Some(file) if file.as_os_str() == "-" => Some(std::io::read_to_string(std::io::stdin())?),
        Some(file) => Some(std::fs::read_to_string(&file).map_err(|error| Failure::Input {
            place: file.display().to_string(),
            what: error.to_string(),
            fix: "Give a file that holds the key, or - for standard input.",
        })?),
    };
    let draft = HandoverDraft { url, events, key: key.map(|key| key.trim().to_owned()) };
    let view = client.handovers_save(&save.name, &draft).await?;
    out.show(&view, |view| {
        let mut text = rows(std::slice::from_ref(view));
        if let Some(key) = &view.key {
            text.push_str(&format!("\nIts key, which is not shown again: {key}\n"));
        }
        text
    });
    Ok(())
}

fn rows(handovers: &[HandoverView]) -> String {
    let row = |handover: &HandoverView| {
        let events: Vec<&str> = handover.events.iter().map(|event| event.as_str()).collect();
        [
            handover.name.clone(),
            handover.url.clone(),
            events.join(", "),
            handover.waiting.to_string(),
            or_dash(handover.last_delivered.map(clock)),
            or_dash(handover.trouble.as_ref()),
        ]
    };
    table(["name", "to", "tells", "waiting", "last taken", "trouble"], handovers.iter().map(row))
}

fn deliveries(deliveries: &[DeliveryView]) -> String {
    let row = |delivery: &DeliveryView| {
        let stands = match (delivery.delivered, delivery.due) {
            (Some(at), _) => format!("taken {}", clock(at)),
            (None, Some(due)) => format!("waits until {}", clock(due)),
            (None, None) => "given up".into(),
        };
        [
            delivery.number.to_string(),
            delivery.handover.clone(),
            delivery.event.as_str().into(),
            or_dash(delivery.install),
            ago(Some(delivery.created)),
            delivery.attempts.to_string(),
            stands,
            or_dash(delivery.last_answer.as_ref()),
        ]
    };
    let head = ["no", "handover", "event", "install", "since", "attempts", "stands", "last answer"];
    table(head, deliveries.iter().map(row))
}
