//! `lastmile machine …`

mod bulk;
mod facts;
mod naming;
mod rules;
pub(crate) mod trace;

use std::process::ExitCode;

use clap::{Args, Subcommand};
use lastmile_api::{
    DefaultBootDraft, MachineDetail, MachineDraft, MachineRow, MachineSort, MachinesListQuery, PlanView,
    Renamed,
};
use lastmile_client::{Client, ClientError, Edited};
use serde::Serialize;

use super::{
    object::{self, CanAdd, CanRename, Copy, EditOne, Edits, Object, Rename},
    pages,
    subnet::name_and_value,
};
use crate::{
    complete,
    output::{Cell, Failure, Output, Table, ago, clock, columns, or_dash, pairs, time},
};

/// `lastmile machine …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List machines: first those that need attention.
    List(Filter),
    /// Show one machine: its plan, its image, and what it did on the wire.
    Show {
        /// Its name or MAC address.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Register a machine.
    Add(Add),
    /// Register and change machines by a CSV file: all of its rows, or, if anything is wrong with one, none.
    Import(bulk::Import),
    /// List machines that nobody has registered and that were seen on the wire, the last one first.
    Newcomers,
    /// Register newcomers.
    Adopt(bulk::Adopt),
    /// Change machines, as in --set details.rack=r12 or --append labels=kiosk: all of them, or none.
    Change(bulk::Change),
    /// Change a machine in $EDITOR.
    Edit(EditOne),
    /// Register a machine like another, with MAC addresses of its own: --set macs=….
    Copy(Copy),
    /// Rename a machine.
    Rename(Rename),
    /// Give several machines names and addresses by pattern.
    Name(naming::Arguments),
    /// Remove machines: all of them, or none. Their installs stay on record.
    Remove(bulk::Remove),
    /// What machines get if they boot now, and why.
    Plan(Plan),
    /// What a machine did on the wire, and what it means.
    Trace(trace::Arguments),
    /// What the latest survey measured of a machine's hardware.
    Facts(facts::Arguments),
    /// Run a command on machines that run the survey, and show what it writes: exits with 0 if it succeeds on all of them.
    Run(super::job::Run),
    /// Open a shell on a machine that runs the survey, and use it here.
    Shell(super::job::OnMachine),
    /// What rules say of a machine: those that hold, those that do not and why, what would change, and what they gave it.
    Rules {
        /// A machine's name or MAC address, or a newcomer's MAC address.
        #[arg(value_name = "MACHINE", add = complete::machines())]
        who: String,
    },
    /// List every survey of a machine, the latest first, each with what was different from the one before.
    Surveys {
        /// A machine's name or MAC address, or a newcomer's MAC address.
        #[arg(value_name = "MACHINE", add = complete::machines())]
        who: String,
    },
}

/// A new machine.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// What to call it; its host name.
    name: String,
    /// A NIC's MAC address, in any common form; may be repeated.
    #[arg(long, required = true)]
    mac: Vec<String>,
    /// What it boots while no install is armed: local-disk, menu, ignored, or live:IMAGE.
    #[arg(long, default_value = "local-disk")]
    default_boot: DefaultBootDraft,
    /// A label; may be repeated.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// A detail, as in rack=7; may be repeated.
    #[arg(long, value_name = "NAME=VALUE")]
    detail: Vec<String>,
    /// A kernel parameter of its own; may be repeated. It may name values, as in ip={{ address }}.
    #[arg(long, value_name = "WORD")]
    parameter: Vec<String>,
    /// The menu it is shown when its default boot is menu.
    #[arg(long, add = complete::menus())]
    menu: Option<String>,
    /// The answers that its live image is given at each start, when its default boot is live:IMAGE.
    #[arg(long, value_name = "ANSWERS", add = complete::answers())]
    live_answers: Option<String>,
    /// A further DHCP option of its own, as in interface-mtu=1400; may be repeated.
    #[arg(long, value_name = "NAME=VALUE")]
    option: Vec<String>,
    #[command(flatten)]
    edits: Edits,
    /// Check it, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

impl Add {
    fn draft(self) -> Result<MachineDraft, Failure> {
        let pairs = |option: &str, all: &[String]| {
            all.iter().map(|text| name_and_value(option, text)).collect::<Result<_, _>>()
        };
        let draft = MachineDraft {
            default_boot: self.default_boot,
            labels: self.label,
            details: pairs("--detail", &self.detail)?,
            parameters: self.parameter,
            menu: self.menu,
            live_answers: self.live_answers,
            options: pairs("--option", &self.option)?,
            ..MachineDraft::new(self.name, self.mac)
        };
        let what = format!("machine {} cannot be added so", draft.name);
        lastmile_api::apply(&draft, &self.edits.list()?).map_err(|faults| Failure::Faults { what, faults })
    }
}

/// Which machines.
#[derive(Debug, Args)]
pub(crate) struct Filter {
    /// Only those whose name, MAC address, address, label or image contains this text.
    text: Option<String>,
    /// Only those at these stages, separated by commas: failed, stalled, installing, booting, armed, idle, installed.
    #[arg(long)]
    stage: Option<String>,
    /// Only those with this label; if repeated, with all of them.
    #[arg(long, add = complete::labels())]
    label: Vec<String>,
    /// Only those of which this holds, by what surveys measured and people said of them, as in 'memory_gib >= 256 and disks |
    /// length > 2'.
    #[arg(long, value_name = "CONDITION")]
    r#where: Option<String>,
    /// A further column, by what surveys measured and people said, as in product, memory_gib or 'disks | length'; may be repeated.
    #[arg(long, value_name = "VALUE", value_delimiter = ';')]
    column: Vec<String>,
    /// Order by such a value.
    #[arg(long, value_name = "VALUE", conflicts_with = "by_name")]
    sort: Option<String>,
    /// The other way round.
    #[arg(long)]
    reverse: bool,
    /// Order by name, not by who needs attention.
    #[arg(long)]
    by_name: bool,
    /// At most so many; all of them if left out.
    #[arg(long)]
    limit: Option<u32>,
}

/// Machines, as they are entered.
struct Machines;

fn draft(detail: MachineDetail) -> MachineDraft {
    MachineDraft {
        name: detail.machine.name,
        macs: detail.machine.macs,
        default_boot: detail.machine.default_boot,
        options: detail.options,
        labels: detail.machine.labels,
        details: detail.details,
        parameters: detail.parameters,
        without_parameters: detail.without_parameters,
        menu: detail.menu,
        live_answers: detail.live_answers,
    }
}

impl Object for Machines {
    type Draft = MachineDraft;
    const NOUN: &'static str = "machine";
    const FIX: &'static str = "Fields are: name, macs, default_boot, labels, details, parameters, \
                               without_parameters, menu, live_answers, options.";

    async fn read(client: &Client, name: &str) -> Result<Edited<MachineDraft>, ClientError> {
        let read = client.machines_read(name).await?;
        Ok(Edited { value: draft(read.value), etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &MachineDraft) -> Result<(), ClientError> {
        client.machines_replace(name, draft).await.map(drop)
    }
}

impl CanAdd for Machines {
    async fn add(client: &Client, name: &str, draft: &MachineDraft) -> Result<(), ClientError> {
        client.machines_create(&MachineDraft { name: name.into(), ..draft.clone() }).await.map(drop)
    }
}

impl CanRename for Machines {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        object::rename_by_change::<Self>(client, old, new, |draft, new| new.clone_into(&mut draft.name)).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::List(filter) => {
            out.list(&list(&filter, client).await?, |machines| with_columns(machines, &filter.column));
        }
        Command::Show { name } => out.show(&client.machines_read(&name).await?.value, show),
        Command::Add(args) => {
            let dry_run = args.dry_run;
            let row = client.trying(dry_run).machines_create(&args.draft()?).await?;
            out.show(&row, |row| rows(std::slice::from_ref(row)).text() + object::saved(dry_run));
        }
        Command::Import(args) => bulk::import(&args, client, out).await?,
        Command::Newcomers => out.list(&client.traces_newcomers().await?, trace::newcomers),
        Command::Adopt(args) => bulk::adopt(args, client, out).await?,
        Command::Change(args) => bulk::change(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Machines>(&args, client, out).await?,
        Command::Copy(args) => {
            object::copy::<Machines>(&args, client, out, |draft| draft.macs.clear()).await?;
        }
        Command::Rename(args) => object::rename::<Machines>(&args, client, out).await?,
        Command::Name(arguments) => return naming::run(arguments, client, out).await,
        Command::Remove(args) => bulk::remove(&args, client, out).await?,
        Command::Plan(args) => plan(&args, client, out).await?,
        Command::Trace(args) => trace::run(&args, client, out).await?,
        Command::Facts(args) => facts::run(&args, client, out).await?,
        Command::Run(args) => return super::job::run_on(args, client, out).await,
        Command::Shell(args) => return super::job::on_machine(args, client, out).await,
        Command::Rules { who } => out.show(&client.facts_rules(&who).await?, rules::text),
        Command::Surveys { who } => out.list(&client.facts_surveys(&who).await?, facts::surveys),
    }
    Ok(ExitCode::SUCCESS)
}

/// All machines that the filter is for, a page at a time.
async fn list(filter: &Filter, client: &Client) -> Result<Vec<MachineRow>, ClientError> {
    pages::all(filter.limit, async |limit, offset| {
        let query = MachinesListQuery {
            text: filter.text.clone(),
            stage: filter.stage.clone(),
            label: (!filter.label.is_empty()).then(|| filter.label.join(",")),
            condition: filter.r#where.clone(),
            sort: filter.by_name.then_some(MachineSort::Name),
            sort_by: filter.sort.clone(),
            columns: (!filter.column.is_empty()).then(|| filter.column.join(";")),
            reverse: filter.reverse.then_some(true),
            limit: Some(limit),
            offset: Some(offset),
        };
        let page = client.machines_list(&query).await?;
        Ok((page.machines, page.total))
    })
    .await
}

/// What machines get if they boot now, and why.
#[derive(Debug, Args)]
pub(crate) struct Plan {
    /// The machines, by name or MAC address.
    #[arg(required = true, value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Show the text that the loader reads, too.
    #[arg(long)]
    menu: bool,
}

/// `lastmile machine plan MACHINE…`
pub(crate) async fn plan(args: &Plan, client: &Client, out: &Output) -> Result<(), Failure> {
    let mut machines = Vec::new();
    for name in &args.machines {
        machines.push(client.machines_read(name).await?.value);
    }
    if let [machine] = machines.as_slice() {
        out.show(&machine.plan, |plan| plan_text(&machine.machine, plan, args.menu));
        return Ok(());
    }
    let plans: Vec<MachinePlan<'_>> = machines
        .iter()
        .map(|detail| MachinePlan { machine: &detail.machine.name, plan: &detail.plan })
        .collect();
    out.show(&plans, |_| {
        let texts = machines.iter().map(|detail| plan_text(&detail.machine, &detail.plan, args.menu));
        texts.collect::<Vec<_>>().join("\n")
    });
    Ok(())
}

/// The plan of one of several machines.
#[derive(Debug, Serialize)]
struct MachinePlan<'a> {
    machine: &'a str,
    plan: &'a PlanView,
}

fn plan_text(machine: &MachineRow, plan: &PlanView, with_menu: bool) -> String {
    let mut text = pairs([
        ("machine", format!("{} ({})", machine.name, machine.macs.join(", "))),
        ("gets", plan.gets.clone()),
        ("why", plan.why.clone()),
    ]);
    if !plan.loaders.is_empty() {
        let row = |loader: &lastmile_api::LoaderChoice| {
            let classes = loader.class.iter().chain(&loader.user_class).map(|class| format!(" ({class})"));
            [(loader.architecture.clone() + &classes.collect::<String>()).into(), loader.file.clone().into()]
        };
        text.push('\n');
        text.push_str(&columns(["firmware", "boot file"], plan.loaders.iter().map(row)).text());
    }
    if !plan.parameters.is_empty() {
        text.push_str("\nThe kernel is started with\n");
        text.push_str(&parameters(&plan.parameters));
    }
    if let Some(menu) = plan.menu.as_ref().filter(|_| with_menu) {
        text.push_str("\nThe loader reads\n");
        for line in menu.lines() {
            text.push_str(&format!("  {line}\n"));
        }
    }
    text
}

/// Kernel parameters with their origins.
pub(crate) fn parameters(words: &[lastmile_api::Parameter]) -> String {
    let row = |parameter: &lastmile_api::Parameter| {
        let replaces = Cell::list(&parameter.replaces);
        [parameter.word.clone().into(), parameter.origin.to_string().into(), replaces]
    };
    columns(["parameter", "from", "replaces"], words.iter().map(row)).text()
}

/// What is installed on it, by the record.
fn installed(machine: &MachineRow) -> String {
    or_dash(machine.installed.as_ref().map(|installed| {
        let mut words = format!("{} r{}", installed.image, installed.revision);
        if installed.behind {
            words.push_str(" (behind)");
        }
        if installed.differs.is_some_and(|count| count > 0) {
            words.push_str(" (not as expected)");
        }
        words
    }))
}

/// With what was asked for beside their names, in the place of what is usually shown.
fn with_columns(machines: &[MachineRow], asked: &[String]) -> Table {
    if asked.is_empty() {
        return rows(machines);
    }
    let row = |machine: &MachineRow| [machine.name.clone().into(), Cell::state(machine.stage.as_str())];
    let more = machines
        .iter()
        .map(|machine| machine.columns.iter().map(|value| Cell::maybe(value.as_ref())).collect());
    columns(["name", "stage"], machines.iter().map(row)).and(asked, more)
}

pub(crate) fn rows(machines: &[MachineRow]) -> Table {
    let row = |machine: &MachineRow| {
        [
            machine.name.clone().into(),
            Cell::maybe(machine.macs.first()),
            Cell::state(machine.stage.as_str()),
            Cell::maybe(machine.last_step.map(|step| step.as_str())),
            Cell::maybe(machine.install),
            Cell::maybe(machine.installed.is_some().then(|| installed(machine))),
            Cell::list(&machine.labels),
            Cell::maybe(machine.address),
            Cell::ago(machine.last_seen),
        ]
    };
    let head = ["name", "mac", "stage", "last step", "install", "image", "labels", "address", "last seen"];
    columns(head, machines.iter().map(row))
}

fn show(detail: &MachineDetail) -> String {
    let machine = &detail.machine;
    let options: Vec<String> =
        detail.options.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let details: Vec<String> =
        detail.details.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let reserved: Vec<String> = detail.reserved.iter().map(ToString::to_string).collect();
    let since = machine.installed.as_ref().map(|installed| clock(installed.at));
    let mut text = pairs([
        ("name", machine.name.clone()),
        ("MAC", machine.macs.join("\n")),
        ("default boot", machine.default_boot.to_string()),
        ("registered", clock(detail.created)),
        ("stage", machine.stage.as_str().into()),
        ("image", installed(machine)),
        ("since", or_dash(since)),
        ("install", or_dash(machine.install)),
        ("address", or_dash(machine.address)),
        ("reserved", or_dash((!detail.reserved.is_empty()).then(|| reserved.join("\n")))),
        ("last seen", ago(machine.last_seen)),
        ("boots now", detail.plan.gets.clone()),
        ("why", detail.plan.why.clone()),
        ("options", or_dash((!options.is_empty()).then(|| options.join("\n")))),
        ("labels", or_dash((!machine.labels.is_empty()).then(|| machine.labels.join(" ")))),
        ("details", or_dash((!details.is_empty()).then(|| details.join("\n")))),
        ("parameters", or_dash((!detail.parameters.is_empty()).then(|| detail.parameters.join(" ")))),
        (
            "without parameters",
            or_dash((!detail.without_parameters.is_empty()).then(|| detail.without_parameters.join(" "))),
        ),
        ("menu", or_dash(detail.menu.as_ref())),
        ("live answers", or_dash(detail.live_answers.as_ref())),
    ]);
    if !detail.diagnoses.is_empty() {
        text.push('\n');
        text.push_str(&trace::explained(&detail.diagnoses));
    }
    if !detail.trace.is_empty() {
        let row = |event: &lastmile_api::TraceLine| {
            [time(event.at).into(), event.asked.clone().into(), event.got.clone().into()]
        };
        text.push('\n');
        text.push_str(&columns(["at", "asked", "got"], detail.trace.iter().map(row)).text());
    }
    text
}
