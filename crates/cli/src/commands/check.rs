//! `lastmile check`: what would keep machines from booting.

use std::process::ExitCode;

use clap::Args;
use lastmile_api::{CheckReport, Finding, Severity};
use lastmile_client::Client;

use crate::output::{Failure, Output, with_clocks};

/// `lastmile check …`
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Show what passed, too.
    #[arg(long)]
    all: bool,
    /// Fail on warnings, too.
    #[arg(long)]
    strict: bool,
}

/// Ends with 0 if machines can boot, with 1 if a fault (or, where asked for, a warning) was found.
pub(crate) async fn run(arguments: &Arguments, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let bar = out.spinner("checking; asking for other DHCP servers; booting a simulated machine");
    let report = client.check_run().await;
    bar.done();
    let report = report?;
    out.show(&report, |report| text(report, arguments.all));
    let limit = if arguments.strict { Severity::Warning } else { Severity::Fault };
    let fails = report.findings.iter().any(|finding| finding.severity <= limit);
    Ok(if fails { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

fn counted(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

fn text(report: &CheckReport, all: bool) -> String {
    let mut text = String::new();
    let shown = report.findings.iter().filter(|finding| all || finding.severity != Severity::Good);
    for Finding { severity, topic, place, what, fix } in shown {
        let what = with_clocks(what);
        if *severity == Severity::Good {
            text.push_str(&format!("{:8} {topic}: {place}: {what}\n", severity.as_str()));
            continue;
        }
        text.push_str(&format!("{:8} {topic}: {place}\n", severity.as_str()));
        text.push_str(&format!("         {what}\n"));
        if !fix.is_empty() {
            text.push_str(&format!("         → {fix}\n"));
        }
    }
    if !text.is_empty() {
        text.push('\n');
    }
    text.push_str(&format!(
        "{}, {}, {}; {} passed. It took {:.1} s.\n",
        counted(report.count(Severity::Fault), "fault"),
        counted(report.count(Severity::Warning), "warning"),
        counted(report.count(Severity::Note), "note"),
        report.count(Severity::Good),
        report.took_ms as f64 / 1000.0
    ));
    text
}
