//! What is done to several machines at once.

use std::path::PathBuf;

use clap::Args;
use lastmile_api::{
    AdoptRequest, Changed, DefaultBootDraft, FieldChange, ImportReport, ImportedRow, MachinesChange,
    MachinesImport, MachinesRemove, RowKind,
};
use lastmile_client::Client;

use super::rows;
use crate::{
    commands::{
        object::{Edits, saved, shown},
        subnet::name_and_value,
        toml_file::read_text,
    },
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, columns},
};

/// Rows that are shown one by one, of each kind.
const SHOWN: usize = 20;

/// `lastmile machine change`
#[derive(Debug, Args)]
pub(crate) struct Change {
    /// The machines, by name or MAC address.
    #[arg(required_unless_present = "label", value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine with this label, too; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    #[command(flatten)]
    edits: Edits,
    /// Check it and show what would change, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

/// `lastmile machine remove`
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The machines, by name or MAC address.
    #[arg(required = true, value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Check whether they can be removed, and remove nothing.
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    confirm: Confirm,
}

/// `lastmile machine import`
#[derive(Debug, Args)]
#[command(after_long_help = AFTER)]
pub(crate) struct Import {
    /// The CSV file; `-` for standard input.
    file: PathBuf,
    /// Show which rows are new, changed and unchanged, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

/// What an import reads.
const AFTER: &str = "\
The first line names the columns: name, mac, labels, address, default_boot, menu, live_answers, parameters,
without_parameters, detail.NAME, option.NAME. Only name is needed; a new machine needs mac, too.

A machine is known by its name. An empty cell leaves what the machine has, a dash empties it. Several values are
separated by blanks; mac may also be the name of several columns. The address is reserved for the first MAC address.

  name,mac,labels,detail.rack,address
  kiosk-1,00:00:5e:00:53:01,kiosk,r12,192.0.2.21
  kiosk-2,00:00:5e:00:53:02 00:00:5e:00:53:03,kiosk spare,r12,

`lastmile export machines` writes such a file.";

/// `lastmile machine adopt`
#[derive(Debug, Args)]
pub(crate) struct Adopt {
    /// Their MAC addresses; `lastmile machine newcomers` lists them.
    #[arg(required = true, value_name = "MAC", add = complete::names())]
    macs: Vec<String>,
    /// What they are called, as in 'kiosk-{{ counter | pad(2) }}'; machine- and the MAC address if left out.
    #[arg(long, value_name = "PATTERN")]
    name: Option<String>,
    /// The counter at the first of them.
    #[arg(long, default_value_t = 1)]
    first: i64,
    /// A label; may be repeated.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// A detail, as in rack=7; may be repeated.
    #[arg(long, value_name = "NAME=VALUE")]
    detail: Vec<String>,
    /// What they boot while no install is armed: local-disk, menu, ignored, or live:IMAGE.
    #[arg(long, default_value = "local-disk")]
    default_boot: DefaultBootDraft,
    /// Show what they would be called, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

pub(super) async fn change(args: &Change, client: &Client, out: &Output) -> Result<(), Failure> {
    let edits = args.edits.list()?;
    if edits.is_empty() {
        return Err(Failure::usage(
            "machine change",
            "nothing is to be changed",
            "Give --set, --append or --drop; `machine edit` opens an editor.",
        ));
    }
    let request = MachinesChange { machines: args.machines.clone(), labels: args.label.clone(), edits };
    let changed = client.trying(args.dry_run).machines_change(&request).await?;
    out.show(&changed, |changed| {
        let texts = changed.iter().map(changed_text);
        texts.collect::<String>() + saved(args.dry_run)
    });
    Ok(())
}

fn changed_text(changed: &Changed) -> String {
    if changed.changes.is_empty() {
        return format!("machine {}: nothing changes\n", changed.name);
    }
    let width = changed.changes.iter().map(|change| change.place.len()).max().unwrap_or(0);
    let lines = changed.changes.iter().map(|change| {
        let FieldChange { place, before, after } = change;
        format!("  {place:width$}  {} → {}\n", shown(before), shown(after))
    });
    format!("machine {}\n{}", changed.name, lines.collect::<String>())
}

pub(super) async fn remove(args: &Remove, client: &Client, out: &Output) -> Result<(), Failure> {
    if !args.dry_run {
        let what = match args.machines.as_slice() {
            [one] => format!("machine {one}"),
            several => format!("{} machines", several.len()),
        };
        args.confirm.ask(&format!("Remove {what}? Installs stay on record."))?;
    }
    let request = MachinesRemove { machines: args.machines.clone() };
    let removed = client.trying(args.dry_run).machines_remove_several(&request).await?;
    out.show(&removed.machines, |names| {
        let done = if args.dry_run { "could be removed" } else { "removed" };
        let lines = names.iter().map(|name| format!("machine {name} {done}\n"));
        lines.collect::<String>() + if args.dry_run { "Dry run: nothing was removed.\n" } else { "" }
    });
    Ok(())
}

pub(super) async fn import(args: &Import, client: &Client, out: &Output) -> Result<(), Failure> {
    let csv = read_text(&args.file, "Give a CSV file, or - for standard input. `--help` shows an example.")?;
    let count = csv.lines().count().saturating_sub(1);
    let what = format!("importing {count} rows");
    let (client, rows) = (client.trying(args.dry_run), MachinesImport { csv });
    let report = out.during(&what, client.machines_import(&rows)).await?;
    if out.is_csv() {
        out.list(&report.rows, imported_rows);
    } else {
        out.show(&report, |report| report_text(report) + saved(args.dry_run));
    }
    Ok(())
}

fn imported_rows(rows: &[ImportedRow]) -> Table {
    let row = |row: &ImportedRow| {
        let changes = row.changes.iter().map(|change| {
            let (before, after) = (shown(&change.before), shown(&change.after));
            match row.kind {
                RowKind::New => format!("{} = {after}", change.place),
                _ => format!("{}: {before} → {after}", change.place),
            }
        });
        [
            row.line.to_string().into(),
            row.machine.clone().into(),
            row.kind.as_str().into(),
            Cell::from(changes.collect::<Vec<_>>().join("; ")),
        ]
    };
    columns(["line", "machine", "row", "changes"], rows.iter().map(row))
}

fn report_text(report: &ImportReport) -> String {
    let ImportReport { new, changed, unchanged, rows } = report;
    let of = |kind: RowKind| rows.iter().filter(move |row| row.kind == kind).take(SHOWN);
    let shown: Vec<ImportedRow> = of(RowKind::Changed).chain(of(RowKind::New)).cloned().collect();
    let mut text = if shown.is_empty() { String::new() } else { imported_rows(&shown).text() };
    let left = new + changed - shown.len();
    if left > 0 {
        text.push_str(&format!("… and {left} more\n"));
    }
    text.push_str(&format!("{new} new, {changed} changed, {unchanged} unchanged\n"));
    text
}

pub(super) async fn adopt(args: Adopt, client: &Client, out: &Output) -> Result<(), Failure> {
    let details =
        args.detail.iter().map(|text| name_and_value("--detail", text)).collect::<Result<_, _>>()?;
    let request = AdoptRequest {
        macs: args.macs,
        name: args.name,
        first: Some(args.first),
        labels: args.label,
        details,
        default_boot: args.default_boot,
    };
    let machines = client.trying(args.dry_run).machines_adopt(&request).await?;
    out.show(&machines, |machines| rows(machines).text() + saved(args.dry_run));
    Ok(())
}
