use clap::Subcommand;
use lastmile_api::{LabelDraft, LabelView};
use lastmile_client::Client;

use crate::output::{Failure, Output, or_dash, table};

/// `lastmile label …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List all labels.
    List,
    /// Say what machines of a label have in common: all of it is replaced.
    Save {
        /// The label.
        name: String,
        /// A kernel parameter of its machines; may be given several times.
        #[arg(long, value_name = "WORD")]
        parameter: Vec<String>,
        /// The menu its machines are shown when their standing is menu.
        #[arg(long)]
        menu: Option<String>,
    },
    /// Say nothing of a label any more. Machines keep it.
    Remove {
        /// The label.
        name: String,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::List => out.show(&client.labels_list().await?, |labels| rows(labels)),
        Command::Save { name, parameter, menu } => {
            let saved = client.labels_save(&name, &LabelDraft { parameters: parameter, menu }).await?;
            out.show(&saved, |label| rows(std::slice::from_ref(label)));
        }
        Command::Remove { name } => {
            client.labels_remove(&name).await?;
            out.say(&format!("nothing is said of label {name} any more"));
        }
    }
    Ok(())
}

fn rows(labels: &[LabelView]) -> String {
    let row = |label: &LabelView| {
        let parameters = (!label.parameters.is_empty()).then(|| label.parameters.join(" "));
        [label.name.clone(), label.machines.to_string(), or_dash(label.menu.as_ref()), or_dash(parameters)]
    };
    table(["label", "machines", "menu", "parameters"], labels.iter().map(row))
}
