//! `lastmile overview`

use lastmile_api::{Attention, Overview};
use lastmile_client::Client;

use super::{install, job};
use crate::output::{Cell, Failure, Output, Table, columns};

/// `lastmile overview`
pub(crate) async fn run(client: &Client, out: &Output) -> Result<(), Failure> {
    let overview = client.overview_read().await?;
    out.show(&overview, text);
    Ok(())
}

fn text(overview: &Overview) -> String {
    let Overview { attention, attention_total, in_progress, in_progress_total, today, .. } = overview;
    let mut text = match attention_total {
        0 => "Nothing needs attention.\n".to_owned(),
        total => {
            format!("Needs attention ({total})\n\n{}", attention_rows(attention).text())
        }
    };
    if attention.len() < *attention_total {
        text.push_str(&format!("… and {} more\n", attention_total - attention.len()));
    }
    text.push_str(&match in_progress_total {
        0 => "\nNo install is in progress.\n".to_owned(),
        total => format!("\nIn progress ({total})\n\n{}", install::rows(in_progress).text()),
    });
    if overview.jobs_total > 0 {
        text.push_str(&format!("\nJobs ({})\n\n{}", overview.jobs_total, job::rows(&overview.jobs).text()));
    }
    text.push_str(&format!(
        "\nToday: {} armed, {} installed, {} failed, {} stalled, {} cancelled\n",
        today.armed, today.installed, today.failed, today.stalled, today.cancelled
    ));
    text
}

fn attention_rows(attention: &[Attention]) -> Table {
    let row = |one: &Attention| {
        [
            Cell::state(one.kind.as_str()),
            one.subject.clone().into(),
            Cell::maybe(
                one.install
                    .map(|number| format!("install {number}"))
                    .or(one.job.map(|number| format!("job {number}"))),
            ),
            Cell::ago(one.at),
            Cell::from(one.what.clone()),
            Cell::from(one.next.clone()),
        ]
    };
    columns(["kind", "subject", "about", "since", "problem", "next step"], attention.iter().map(row))
}
