//! `lastmile machine name`: names and addresses by pattern.

use std::process::ExitCode;

use clap::{Args, ValueEnum};
use lastmile_api::{CountBy, NamedMachine, NamingDraft, NamingView};
use lastmile_client::Client;

use crate::{
    complete,
    output::{Cell, Failure, Output, Table, columns},
};

/// Patterns for several machines.
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// The machines, by name or MAC address.
    #[arg(required_unless_present = "label", value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine with this label, too; given several times, with all of them.
    #[arg(long)]
    label: Vec<String>,
    /// What they are to be called, as in 'kiosk-{{ counter | pad(2) }}' or '{{ details.hall | slug }}-{{ mac_bare[-4:] }}'.
    #[arg(long, value_name = "PATTERN", required_unless_present = "address")]
    name: Option<String>,
    /// The address that is reserved for each one's first NIC, as in '192.0.2.{{ 100 + counter }}'.
    #[arg(long, value_name = "PATTERN")]
    address: Option<String>,
    /// The counter at the first machine.
    #[arg(long, default_value_t = 1)]
    first: i64,
    /// What it grows by.
    #[arg(long, default_value_t = 1)]
    step: i64,
    /// In which order they are counted.
    #[arg(long, value_enum, default_value_t)]
    count_by: Order,
    /// Show what they would be called, and save nothing. Exits with 1 if something is wrong.
    #[arg(long)]
    dry_run: bool,
}

#[derive(Debug, Clone, Copy, Default, ValueEnum)]
enum Order {
    /// By their names as they are now.
    #[default]
    Name,
    /// By their first MAC addresses.
    Mac,
    /// By when they were registered.
    Registered,
    /// As they are given.
    Given,
}

pub(crate) async fn run(arguments: Arguments, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    let draft = NamingDraft {
        machines: arguments.machines,
        labels: arguments.label,
        name: arguments.name,
        address: arguments.address,
        first: Some(arguments.first),
        step: Some(arguments.step),
        count_by: match arguments.count_by {
            Order::Name => CountBy::Name,
            Order::Mac => CountBy::Mac,
            Order::Registered => CountBy::Registered,
            Order::Given => CountBy::Given,
        },
    };
    if arguments.dry_run {
        let named = client.naming_preview(&draft).await?;
        show(
            &named,
            out,
            match named.unfit {
                0 => "Dry run: nothing was saved.\n".to_owned(),
                unfit => format!(
                    "{unfit} of {} cannot be renamed so. Dry run: nothing was saved.\n",
                    named.machines.len()
                ),
            },
        );
        return Ok(if named.unfit > 0 { ExitCode::FAILURE } else { ExitCode::SUCCESS });
    }
    show(&client.naming_apply(&draft).await?, out, String::new());
    Ok(ExitCode::SUCCESS)
}

fn show(named: &NamingView, out: &Output, note: String) {
    out.list(&named.machines, |machines| rows(machines).note(note));
}

fn rows(machines: &[NamedMachine]) -> Table {
    let row = |machine: &NamedMachine| {
        let said: Vec<String> = machine.problems.iter().chain(&machine.notes).cloned().collect();
        [
            machine.machine.clone().into(),
            machine.mac.clone().into(),
            Cell::maybe((machine.name != machine.machine).then_some(&machine.name)),
            Cell::maybe(machine.former_address.as_ref()),
            Cell::maybe(machine.address.as_ref()),
            Cell::maybe((!said.is_empty()).then(|| said.join("; "))),
        ]
    };
    let head = ["machine", "mac", "new name", "address", "new address", "notes"];
    columns(head, machines.iter().map(row))
}
