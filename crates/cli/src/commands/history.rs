//! `lastmile history …`

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{
    GroupBy, HistoryHostsQuery, HistoryRatesQuery, HostHistory, HostRecord, RateReport, Tally,
};
use lastmile_client::Client;

use crate::output::{Failure, Output, clock, duration, or_dash, table};

/// `lastmile history …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Which host has which image revision, since when, and from whom; machines that left among them.
    Hosts(Hosts),
    /// How installs went: success and durations, by what they have in common.
    Rates(Rates),
}

/// Which hosts.
#[derive(Debug, Args)]
pub(crate) struct Hosts {
    /// Only those whose image has a newer revision that is current.
    #[arg(long)]
    behind: bool,
    /// Only those that have this image.
    #[arg(long)]
    image: Option<String>,
    /// Leave out machines that were removed.
    #[arg(long)]
    present: bool,
    /// As comma-separated values.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

/// Which installs.
#[derive(Debug, Args)]
pub(crate) struct Rates {
    /// What they are put together by.
    #[arg(long, value_enum, default_value_t)]
    by: By,
    /// Only those that were armed from this day on (UTC), as in 2026-11-01.
    #[arg(long, value_name = "DAY")]
    since: Option<String>,
    /// Only those that were armed before this day (UTC).
    #[arg(long, value_name = "DAY")]
    until: Option<String>,
    /// The groups as comma-separated values.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

#[derive(Debug, Clone, Copy, Default, ValueEnum)]
enum By {
    /// Their image.
    #[default]
    Image,
    /// Their image's revision.
    Revision,
    /// The subnet that the machine booted on.
    Subnet,
    /// The machine's labels; an install counts for each of them.
    Label,
}

impl From<By> for GroupBy {
    fn from(by: By) -> Self {
        match by {
            By::Image => Self::Image,
            By::Revision => Self::Revision,
            By::Subnet => Self::Subnet,
            By::Label => Self::Label,
        }
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Hosts(Hosts { behind, image, present, csv }) => {
            let query = HistoryHostsQuery {
                behind: behind.then_some(true),
                left: present.then_some(false),
                image,
                format: None,
            };
            if csv {
                out.line(client.history_hosts_csv(&query).await?.trim_end());
            } else {
                out.show(&client.history_hosts(&query).await?, hosts);
            }
        }
        Command::Rates(Rates { by, since, until, csv }) => {
            let query = HistoryRatesQuery { by: Some(by.into()), since, until, format: None };
            if csv {
                out.line(client.history_rates_csv(&query).await?.trim_end());
            } else {
                out.show(&client.history_rates(&query).await?, rates);
            }
        }
    }
    Ok(())
}

fn hosts(history: &HostHistory) -> String {
    let row = |host: &HostRecord| {
        let behind =
            host.current.filter(|_| host.is_behind).map(|current| format!(" (r{current} is current)"));
        [
            host.machine.clone(),
            format!("{} r{}{}", host.image, host.revision, behind.unwrap_or_default()),
            format!("{} v{}", host.answers, host.answers_version),
            clock(host.since),
            host.install.to_string(),
            host.armed_by.clone(),
            or_dash(host.left.map(clock)),
        ]
    };
    let head = ["host", "has", "answers", "since", "install", "armed by", "left"];
    let text = table(head, history.hosts.iter().map(row));
    let (behind, left) = (history.behind, history.left);
    format!("{text}{} hosts, {behind} behind the current revision, {left} left\n", history.hosts.len())
}

fn rates(report: &RateReport) -> String {
    let secs = |secs: Option<u64>| or_dash(secs.map(duration));
    let row = |tally: &Tally| {
        [
            tally.group.clone(),
            tally.armed.to_string(),
            tally.open.to_string(),
            tally.installed.to_string(),
            tally.failed.to_string(),
            tally.stalled.to_string(),
            tally.cancelled.to_string(),
            or_dash(tally.success_percent.map(|percent| format!("{percent:.1} %"))),
            secs(tally.shortest_secs),
            secs(tally.median_secs),
            secs(tally.ninth_decile_secs),
            secs(tally.longest_secs),
        ]
    };
    let head = [
        "group",
        "armed",
        "go on",
        "installed",
        "failed",
        "stalled",
        "cancelled",
        "success",
        "shortest",
        "median",
        "9 of 10 within",
        "longest",
    ];
    table(head, report.rates.groups.iter().chain([&report.rates.all]).map(row))
}
