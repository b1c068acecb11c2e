//! `lastmile history …`

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{
    GroupBy, HistoryHostsQuery, HistoryRatesQuery, HostHistory, HostRecord, RateReport, Tally,
};
use lastmile_client::Client;

use crate::output::{Cell, Failure, Output, columns};

/// `lastmile history …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Which host has which image revision, since when, and who armed it; removed machines too.
    Hosts(Hosts),
    /// Success rate and durations of installs, by image, revision, subnet or label.
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
}

/// Which installs.
#[derive(Debug, Args)]
pub(crate) struct Rates {
    /// What they are grouped by.
    #[arg(long, value_enum, default_value_t)]
    by: By,
    /// Only those that were armed from this day on (UTC), as in 2026-11-01.
    #[arg(long, value_name = "DAY")]
    since: Option<String>,
    /// Only those that were armed before this day (UTC).
    #[arg(long, value_name = "DAY")]
    until: Option<String>,
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
        Command::Hosts(Hosts { behind, image, present }) => {
            let query = HistoryHostsQuery {
                behind: behind.then_some(true),
                left: present.then_some(false),
                image,
                format: None,
            };
            if out.is_csv() {
                out.line(client.history_hosts_csv(&query).await?.trim_end());
            } else {
                out.show(&client.history_hosts(&query).await?, hosts);
            }
        }
        Command::Rates(Rates { by, since, until }) => {
            let query = HistoryRatesQuery { by: Some(by.into()), since, until, format: None };
            if out.is_csv() {
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
            host.machine.clone().into(),
            Cell::from(format!("{} r{}{}", host.image, host.revision, behind.unwrap_or_default())),
            format!("{} v{}", host.answers, host.answers_version).into(),
            Cell::clock(Some(host.since)),
            host.install.to_string().into(),
            host.armed_by.clone().into(),
            Cell::clock(host.left),
        ]
    };
    let head = ["host", "image", "answers", "since", "install", "armed by", "removed"];
    let text = columns(head, history.hosts.iter().map(row)).text();
    let (behind, left) = (history.behind, history.left);
    format!("{text}{} hosts, {behind} behind the current revision, {left} removed\n", history.hosts.len())
}

fn rates(report: &RateReport) -> String {
    let row = |tally: &Tally| {
        let count = |count: &dyn ToString| Cell::from(count.to_string());
        [
            tally.group.clone().into(),
            count(&tally.armed),
            count(&tally.open),
            count(&tally.installed),
            count(&tally.failed),
            count(&tally.stalled),
            count(&tally.cancelled),
            Cell::maybe(tally.success_percent.map(|percent| format!("{percent:.1} %"))),
            Cell::duration(tally.shortest_secs),
            Cell::duration(tally.median_secs),
            Cell::duration(tally.ninth_decile_secs),
            Cell::duration(tally.longest_secs),
        ]
    };
    let head = [
        "group",
        "armed",
        "in progress",
        "installed",
        "failed",
        "stalled",
        "cancelled",
        "success",
        "shortest",
        "median",
        "90 % within",
        "longest",
    ];
    columns(head, report.rates.groups.iter().chain([&report.rates.all]).map(row)).text()
}
