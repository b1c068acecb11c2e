use std::path::PathBuf;

use clap::Subcommand;
use lastmile_api::AnswersView;
use lastmile_client::Client;

use super::read_toml;
use crate::output::{Failure, Output, ago, clock, pairs, table};

/// An example with every setting and its meaning.
const EXAMPLE: &str = include_str!("../../answers.example.toml");

/// Where an example is to be had.
const MEND: &str = "`lastmile answers example` writes a file with every setting and its meaning.";

/// `lastmile answers …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an example of a settings file.
    Example,
    /// Save a settings file as answers, or as the next version of them.
    Save {
        /// What to call them.
        name: String,
        /// The settings file (TOML).
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
    },
    /// List all answers.
    List,
    /// Show one set of answers. Passwords are never shown.
    Show {
        /// Their name.
        name: String,
    },
    /// The answer file as a machine would get it.
    Preview {
        /// The answers' name.
        name: String,
        /// The machine's name.
        #[arg(long)]
        machine: String,
    },
    /// Take answers out of use.
    Remove {
        /// Their name.
        name: String,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Example => out.line(EXAMPLE.trim_end()),
        Command::Save { name, from } => {
            let saved = client.save_answers(&name, &read_toml(&from, MEND)?).await?;
            out.show(&saved, show);
        }
        Command::List => out.show(&client.all_answers().await?, |all| {
            let row = |answers: &AnswersView| {
                let settings = &answers.settings;
                [
                    answers.name.clone(),
                    format!("v{}", answers.version),
                    settings.locale.clone(),
                    settings.time_zone.clone(),
                    settings.user.name.clone(),
                    settings.packages.len().to_string(),
                    ago(Some(answers.created)),
                ]
            };
            let head = ["name", "version", "locale", "time zone", "user", "packages", "saved"];
            table(head, all.iter().map(row))
        }),
        Command::Show { name } => out.show(&client.answers(&name).await?, show),
        Command::Preview { name, machine } => {
            out.show(&client.preview_answers(&name, &machine).await?, |preview| preview.text.clone());
        }
        Command::Remove { name } => {
            client.remove_answers(&name).await?;
            out.say(&format!("answers {name} taken out of use"));
        }
    }
    Ok(())
}

fn show(answers: &AnswersView) -> String {
    let head = pairs([
        ("name", answers.name.clone()),
        ("version", format!("{} of {}", answers.version, clock(answers.created))),
    ]);
    head + "\n" + &toml::to_string(&answers.settings).unwrap_or_default()
}
