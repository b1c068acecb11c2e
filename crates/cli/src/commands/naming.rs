//! `lastmile machine name`: names and addresses by pattern.

use std::process::ExitCode;

use clap::{Args, ValueEnum};
use lastmile_api::{CountBy, NamedMachine, NamingDraft, NamingView};
use lastmile_client::Client;

use crate::output::{Failure, Output, or_dash, table};

/// Patterns for several machines.
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// The machines' names.
    #[arg(required_unless_present = "label")]
    machines: Vec<String>,
    /// Every machine with this label, too; given several times, with all of them.
    #[arg(long)]
    label: Vec<String>,
    /// What they are to be called, as in 'kiosk-{{ counter | pad(2) }}' or '{{ facts.hall | slug }}-{{ mac_bare[-4:] }}'.
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
    /// Save it; without this, it is only shown.
    #[arg(long)]
    save: bool,
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
    if arguments.save {
        let named = client.naming_apply(&draft).await?;
        out.show(&named, |named| format!("{}saved\n", rows(named)));
    } else {
        let named = client.naming_preview(&draft).await?;
        out.show(&named, |named| {
            let verdict = match named.unfit {
                0 => "nothing is saved yet: say --save for that".to_owned(),
                unfit => format!("{unfit} of {} cannot be saved so", named.machines.len()),
            };
            format!("{}{verdict}\n", rows(named))
        });
        if named.unfit > 0 {
            return Ok(ExitCode::FAILURE);
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn rows(named: &NamingView) -> String {
    let row = |machine: &NamedMachine| {
        let said: Vec<&str> = machine.problems.iter().chain(&machine.notes).map(String::as_str).collect();
        [
            machine.machine.clone(),
            machine.mac.clone(),
            if machine.name == machine.machine { "–".into() } else { machine.name.clone() },
            or_dash(machine.former_address.as_ref()),
            or_dash(machine.address.as_ref()),
            or_dash((!said.is_empty()).then(|| said.join("; "))),
        ]
    };
    let head = ["machine", "mac", "is to be called", "address now", "is to have", "to know"];
    table(head, named.machines.iter().map(row))
}
