//! `lastmile proposal …`: what rules propose, and a person accepts or declines.

use clap::{Args, Subcommand};
use lastmile_api::{ProposalChosen, ProposalView, ProposalsChosen};
use lastmile_client::Client;
use lastmile_formats::mac::Mac;

use super::rule::{ask_before_installs, effect_text, ran_text};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, columns},
};

/// `lastmile proposal …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List what rules propose, the longest waiting first.
    List,
    /// Accept proposals: what nothing stands in the way of is done.
    Accept {
        #[command(flatten)]
        chosen: Chosen,
        #[command(flatten)]
        confirm: Confirm,
    },
    /// Decline proposals. The same is not proposed again; something else is.
    Decline(Chosen),
}

/// Which proposals are meant.
#[derive(Debug, Args)]
pub(crate) struct Chosen {
    /// Machines by name, newcomers by MAC address.
    #[arg(required_unless_present = "all", value_name = "MACHINE", add = complete::names())]
    machines: Vec<String>,
    /// All that there are.
    #[arg(long, conflicts_with = "machines")]
    all: bool,
    /// Show what would be done, and change nothing.
    #[arg(long)]
    dry_run: bool,
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::List => out.list(&client.proposals_list().await?, rows),
        Command::Accept { chosen, confirm } => {
            let request = request(&chosen, client).await?;
            let what = "accepting proposals";
            let mut ran = out.during(what, client.trying(true).proposals_accept(&request)).await?;
            if !chosen.dry_run {
                ask_before_installs(&ran, confirm)?;
                ran = out.during(what, client.proposals_accept(&request)).await?;
            }
            out.show(&ran, |ran| ran_text(ran));
            out.say_tried(chosen.dry_run);
        }
        Command::Decline(chosen) => {
            let request = request(&chosen, client).await?;
            let declined = client.trying(chosen.dry_run).proposals_decline(&request).await?;
            out.show(&declined, |declined| {
                let lines =
                    declined.proposals.iter().map(|one| format!("proposal for {} declined\n", one.who));
                lines.collect()
            });
            out.say_tried(chosen.dry_run);
        }
    }
    Ok(())
}

/// Those that are meant, as they are now: what is proposed in their place meanwhile is not.
async fn request(chosen: &Chosen, client: &Client) -> Result<ProposalsChosen, Failure> {
    let all = client.proposals_list().await?;
    let digest_of = |who: &str| {
        let is_it = |one: &&ProposalView| {
            one.who.eq_ignore_ascii_case(who) || one.mac.parse::<Mac>().ok() == who.parse().ok()
        };
        all.iter().find(is_it).map(|one| one.digest.clone())
    };
    let proposals = if chosen.all {
        all.iter()
            .map(|one| ProposalChosen { who: one.mac.clone(), digest: Some(one.digest.clone()) })
            .collect()
    } else {
        let named = |who: &String| ProposalChosen { who: who.clone(), digest: digest_of(who) };
        chosen.machines.iter().map(named).collect()
    };
    Ok(ProposalsChosen { proposals })
}

fn rows(proposals: &[ProposalView]) -> Table {
    let row = |proposal: &ProposalView| {
        let lacks = proposal.lacks_name.then(|| "no rule gives it a name: adopt it first".to_owned());
        let told = proposal.effects.iter().map(effect_text).chain(lacks);
        [
            proposal.who.clone().into(),
            proposal.summary.clone().into(),
            told.collect::<Vec<_>>().join("\n").into(),
            Cell::ago(Some(proposal.since)),
        ]
    };
    columns(["machine", "hardware", "proposed", "since"], proposals.iter().map(row))
}
