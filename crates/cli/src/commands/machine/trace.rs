//! `lastmile machine trace`: what a machine did on the wire, and what it means.

use std::path::PathBuf;

use clap::Args;
use futures_util::StreamExt;
use lastmile_api::{Diagnosis, Mark, NewcomerView, Trace, TraceComparison, TraceLine, TracesCompareQuery};
use lastmile_client::Client;

use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns, time},
};

/// `lastmile machine trace …`
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// A machine's name or MAC address, or a newcomer's MAC address.
    #[arg(value_name = "MACHINE", add = complete::machines())]
    who: String,
    /// Everything that is kept, not only what happened since the last power-on.
    #[arg(long)]
    all: bool,
    /// Show the options of each DHCP message, too.
    #[arg(long)]
    options: bool,
    /// Go on showing what happens, until Ctrl-C.
    #[arg(long, conflicts_with_all = ["against", "capture"])]
    follow: bool,
    /// Compare with the last boot of another machine, and mark the first difference.
    #[arg(long, value_name = "MACHINE", conflicts_with = "capture")]
    against: Option<String>,
    /// Write the packets into a file that tools for captures read (pcapng); `-` for standard output.
    #[arg(long, value_name = "FILE")]
    capture: Option<PathBuf>,
}

pub(crate) async fn run(arguments: &Arguments, client: &Client, out: &Output) -> Result<(), Failure> {
    let who = &arguments.who;
    if let Some(file) = &arguments.capture {
        let capture = client.traces_capture(who).await?;
        if file.as_os_str() == "-" {
            std::io::Write::write_all(&mut std::io::stdout(), &capture)?;
        } else {
            std::fs::write(file, &capture)?;
            out.say(&format!("{} bytes in {}", capture.len(), file.display()));
        }
        return Ok(());
    }
    if let Some(other) = &arguments.against {
        out.show(&client.traces_compare(who, &TracesCompareQuery { with: other.clone() }).await?, compared);
        return Ok(());
    }
    // Listened to before what was is read, so that nothing falls between.
    let live = if arguments.follow { Some(client.traces_follow(who).await?) } else { None };
    let trace = client.traces_read(who).await?;
    let last = trace.lines.iter().map(|line| line.number).max().unwrap_or(0);
    match &live {
        Some(_) if out.is_json() => trace.lines.iter().for_each(|line| out.json_line(line)),
        _ => out.show(&trace, |trace| text(trace, arguments)),
    }
    let Some(mut live) = live.map(Box::pin) else { return Ok(()) };
    while let Some(line) = live.next().await {
        if line.number <= last {
            continue;
        }
        if out.is_json() {
            out.json_line(&line);
        } else {
            out.line(table_of(std::slice::from_ref(&line), arguments.options, false).trim_end());
        }
    }
    Ok(())
}

const fn sign(mark: Mark) -> &'static str {
    match mark {
        Mark::Good => " ",
        Mark::Quiet => "·",
        Mark::Trouble => "!",
    }
}

fn table_of(lines: &[TraceLine], with_options: bool, with_head: bool) -> String {
    let mut text = String::new();
    if with_head {
        text.push_str("  AT            WHAT HAPPENED\n");
    }
    for line in lines {
        let at = line.at.to_zoned(jiff::tz::TimeZone::system()).strftime("%H:%M:%S%.3f").to_string();
        text.push_str(&format!("{} {at}  {}\n", sign(line.mark), line.asked));
        text.push_str(&format!("                  → {}\n", line.got));
        if let Some(why) = &line.why {
            text.push_str(&format!("                    because {why}\n"));
        }
        if with_options {
            for (who, options) in [("machine", &line.asked_options), ("service", &line.got_options)] {
                for option in options {
                    text.push_str(&format!(
                        "                    {who}: {} ({}) = {}\n",
                        option.name, option.code, option.value
                    ));
                }
            }
        }
    }
    text
}

fn text(trace: &Trace, arguments: &Arguments) -> String {
    if trace.lines.is_empty() {
        return format!(
            "{} ({}) has left no trace since the service started.\n  Its questions do not reach this service: look at \
             the cable, the VLAN, the relay, and at `lastmile check`.\n",
            trace.who,
            trace.macs.join(", ")
        );
    }
    let last_boot = trace.lines.iter().position(|line| Some(line.number) == trace.last_boot);
    let begin = if arguments.all { 0 } else { last_boot.unwrap_or(0) };
    let lines: Vec<TraceLine> = trace.lines.iter().skip(begin).cloned().collect();
    let mut text = format!("{} ({})\n", trace.who, trace.macs.join(", "));
    let before = trace.lines.len() - lines.len();
    if before > 0 {
        text.push_str(&format!("{before} events before the last power-on: --all shows them\n"));
    }
    text.push('\n');
    text.push_str(&table_of(&lines, arguments.options, true));
    text.push('\n');
    text.push_str(&explained(&trace.diagnoses));
    text
}

/// What was recognised, for a person.
pub(crate) fn explained(diagnoses: &[Diagnosis]) -> String {
    if diagnoses.is_empty() {
        return "Nothing is recognised that stops the boot.\n".into();
    }
    let mut text = String::new();
    for diagnosis in diagnoses {
        text.push_str(&format!("! {} ({})\n", diagnosis.seen, time(diagnosis.at)));
        text.push_str(&format!("  It means:  {}\n", diagnosis.means));
        text.push_str(&format!("  Do this:   {}\n", diagnosis.fix));
    }
    text
}

fn compared(comparison: &TraceComparison) -> String {
    let line = |trace: &Trace, number: Option<u64>| {
        let line = trace.lines.iter().find(|line| Some(line.number) == number);
        line.map_or_else(String::new, |line| format!("{} → {}", line.asked, line.got))
    };
    let rows = comparison.pairs.iter().enumerate().map(|(index, pair)| {
        let sign = match (Some(index) == comparison.first_difference, pair.same) {
            (true, _) => ">>",
            (false, true) => "",
            (false, false) => ">",
        };
        let cut = |text: String| {
            let short: String = text.chars().take(70).collect();
            if short.len() < text.len() { format!("{short}…") } else { short }
        };
        let (left, right) = (line(&comparison.left, pair.left), line(&comparison.right, pair.right));
        [Cell::from(sign), cut(left).into(), cut(right).into()]
    });
    let mut text = columns(["", comparison.left.who.as_str(), comparison.right.who.as_str()], rows).text();
    match comparison.first_difference {
        Some(_) => text.push_str(&format!("\nThe first difference is marked >>\n{}\n", comparison.says)),
        None => text.push_str(&format!("\n{}\n", comparison.says)),
    }
    for trace in [&comparison.left, &comparison.right] {
        if !trace.diagnoses.is_empty() {
            text.push_str(&format!("\n{}\n{}", trace.who, explained(&trace.diagnoses)));
        }
    }
    text
}

/// `lastmile machine newcomers`
pub(crate) fn newcomers(all: &[NewcomerView]) -> Table {
    let row = |newcomer: &NewcomerView| {
        [
            newcomer.mac.clone().into(),
            Cell::ago(Some(newcomer.last_seen)),
            Cell::maybe(newcomer.product.as_ref()),
            Cell::maybe(newcomer.hardware.as_ref()),
            if newcomer.is_waiting { "in the survey".into() } else { Cell::maybe(None::<&String>) },
            newcomer.asked.clone().into(),
            newcomer.got.clone().into(),
        ]
    };
    columns(["mac", "last seen", "machine", "hardware", "waits", "asked", "got"], all.iter().map(row))
}
