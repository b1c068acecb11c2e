use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use lastmile_api::{
    MachineDetail, MachineDraft, MachineRow, MachineSort, MachinesListQuery, PlanView, StandingDraft,
};
use lastmile_client::Client;

use super::{edited, subnet::name_and_value, trace};
use crate::output::{Failure, Output, ago, clock, or_dash, pairs, table, time};

/// `lastmile machine …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Register a machine.
    Add {
        /// What to call it; its host name.
        name: String,
        /// A NIC's MAC address, in any common form; may be given several times.
        #[arg(long, required = true)]
        mac: Vec<String>,
        /// What it does when no install is armed: local-disk, menu, ignored, or live:IMAGE.
        #[arg(long, default_value = "local-disk", value_parser = standing)]
        standing: StandingDraft,
        /// A further DHCP option of its own, as in interface-mtu=1400; may be given several times.
        #[arg(long, value_name = "NAME=VALUE")]
        option: Vec<String>,
        #[command(flatten)]
        traits: Traits,
    },
    /// Machines that nobody registered and that left a trace, the one seen last first.
    Newcomers,
    /// List machines: who needs somebody first.
    List(Filter),
    /// Show one machine: its plan, what it holds, and what it did on the wire.
    Show {
        /// Its name.
        name: String,
    },
    /// Change a machine: what is not named stays as it is.
    Change {
        /// Its name.
        name: String,
        /// Its new name.
        #[arg(long)]
        rename: Option<String>,
        /// All its NICs' MAC addresses.
        #[arg(long)]
        mac: Vec<String>,
        /// What it does when no install is armed: local-disk, menu, ignored, or live:IMAGE.
        #[arg(long, value_parser = standing)]
        standing: Option<StandingDraft>,
        /// A further DHCP option of its own, as in interface-mtu=1400; may be given several times.
        #[arg(long, value_name = "NAME=VALUE")]
        option: Vec<String>,
        /// Take a further DHCP option out again; may be given several times.
        #[arg(long, value_name = "NAME")]
        without_option: Vec<String>,
        #[command(flatten)]
        traits: Traits,
        /// Take all of these away first; may be given several times.
        #[arg(long, value_name = "WHAT", value_enum)]
        without: Vec<TraitName>,
    },
    /// Give several machines names and addresses by pattern: shown for all of them before anything is saved.
    Name(super::naming::Arguments),
    /// Remove a machine. Its installs stay on record.
    Remove {
        /// Its name.
        name: String,
    },
}

/// What groups a machine and what is known of it.
#[derive(Debug, Default, Clone, Args)]
pub(crate) struct Traits {
    /// A label; may be given several times.
    #[arg(long)]
    label: Vec<String>,
    /// A fact, as in rack=7; may be given several times.
    #[arg(long, value_name = "NAME=VALUE")]
    fact: Vec<String>,
    /// A kernel parameter of its own; may be given several times. It may name values, as in ip={{ address }}.
    #[arg(long, value_name = "WORD")]
    parameter: Vec<String>,
    /// The menu it is shown when its standing is menu.
    #[arg(long)]
    menu: Option<String>,
    /// The answers that its live image is given at each start, when its standing is live:IMAGE.
    #[arg(long, value_name = "ANSWERS")]
    live_answers: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TraitName {
    /// Its labels.
    Labels,
    /// Its facts.
    Facts,
    /// Its kernel parameters.
    Parameters,
    /// Its menu.
    Menu,
    /// The answers of its live image.
    LiveAnswers,
}

impl Traits {
    /// Puts what was given to what a machine has.
    fn apply(self, draft: &mut MachineDraft) -> Result<(), Failure> {
        draft.labels.extend(self.label);
        draft.parameters.extend(self.parameter);
        for text in &self.fact {
            let (name, value) = name_and_value("--fact", text)?;
            draft.facts.insert(name, value);
        }
        draft.menu = self.menu.or(draft.menu.take());
        draft.live_answers = self.live_answers.or(draft.live_answers.take());
        Ok(())
    }
}

/// Which machines.
#[derive(Debug, Args)]
pub(crate) struct Filter {
    /// Only those whose name, MAC address, address, label or image holds this text.
    text: Option<String>,
    /// Only those at these stages, joined by commas: failed, stalled, installing, booting, armed, idle,
    /// installed.
    #[arg(long)]
    stage: Option<String>,
    /// Only those with this label; given several times, with all of them.
    #[arg(long)]
    label: Vec<String>,
    /// Order by name, not by who needs somebody.
    #[arg(long)]
    by_name: bool,
    /// At most so many.
    #[arg(long, default_value_t = 1000)]
    limit: u32,
}

fn standing(text: &str) -> Result<StandingDraft, String> {
    match text {
        "local-disk" => Ok(StandingDraft::LocalDisk),
        "menu" => Ok(StandingDraft::Menu),
        "ignored" => Ok(StandingDraft::Ignored),
        other => match other.strip_prefix("live:") {
            Some(image) if !image.is_empty() => Ok(StandingDraft::Live(image.into())),
            _ => Err("give local-disk, menu, ignored, or live:IMAGE".into()),
        },
    }
}

fn standing_text(standing: &StandingDraft) -> String {
    match standing {
        StandingDraft::LocalDisk => "local-disk".into(),
        StandingDraft::Menu => "menu".into(),
        StandingDraft::Ignored => "ignored".into(),
        StandingDraft::Live(image) => format!("live:{image}"),
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<ExitCode, Failure> {
    match command {
        Command::Add { name, mac, standing, option, traits } => {
            let options =
                option.iter().map(|text| name_and_value("--option", text)).collect::<Result<_, _>>()?;
            let mut draft = MachineDraft { standing, options, ..MachineDraft::new(name, mac) };
            traits.apply(&mut draft)?;
            out.show(&client.machines_create(&draft).await?, |row| rows(std::slice::from_ref(row)));
        }
        Command::List(filter) => {
            let query = MachinesListQuery {
                text: filter.text,
                stage: filter.stage,
                label: (!filter.label.is_empty()).then(|| filter.label.join(",")),
                sort: filter.by_name.then_some(MachineSort::Name),
                limit: Some(filter.limit),
                ..MachinesListQuery::default()
            };
            out.show(&client.machines_list(&query).await?, |list| {
                let mut text = rows(&list.machines);
                if list.machines.len() < list.total {
                    text.push_str(&format!("… {} more\n", list.total - list.machines.len()));
                }
                text
            });
        }
        Command::Show { name } => out.show(&client.machines_read(&name).await?.value, show),
        Command::Newcomers => {
            out.show(&client.traces_newcomers().await?, |all| trace::newcomers(all));
        }
        Command::Change { name, rename, mac, standing, option, without_option, traits, without } => {
            let keeps = |what: TraitName| !without.contains(&what);
            let read = async || client.machines_read(&name).await;
            let change = async |client: &Client, detail: MachineDetail| {
                let (now, mut options) = (detail.machine, detail.options);
                options.retain(|name, _| !without_option.contains(name));
                for text in &option {
                    let (name, value) = name_and_value("--option", text)?;
                    options.insert(name, value);
                }
                let mut draft = MachineDraft {
                    name: rename.clone().unwrap_or(now.name),
                    macs: if mac.is_empty() { now.macs } else { mac.clone() },
                    standing: standing.clone().unwrap_or(now.standing),
                    options,
                    labels: if keeps(TraitName::Labels) { now.labels } else { vec![] },
                    facts: if keeps(TraitName::Facts) { detail.facts } else { [].into() },
                    parameters: if keeps(TraitName::Parameters) { detail.parameters } else { vec![] },
                    menu: detail.menu.filter(|_| keeps(TraitName::Menu)),
                    live_answers: detail.live_answers.filter(|_| keeps(TraitName::LiveAnswers)),
                };
                traits.clone().apply(&mut draft)?;
                Ok(client.machines_replace(&name, &draft).await?)
            };
            let row = edited::change(client, read, change).await?;
            out.show(&row, |row| rows(std::slice::from_ref(row)));
        }
        Command::Name(arguments) => return super::naming::run(arguments, client, out).await,
        Command::Remove { name } => {
            client.machines_remove(&name).await?;
            out.say(&format!("machine {name} removed; its installs stay on record"));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// `lastmile plan MACHINE`
pub(crate) async fn plan(name: &str, menu: bool, client: &Client, out: &Output) -> Result<(), Failure> {
    let machine = client.machines_read(name).await?;
    out.show(&machine.plan, |plan| plan_text(&machine.machine, plan, menu));
    Ok(())
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
            [loader.architecture.clone() + &classes.collect::<String>(), loader.file.clone()]
        };
        text.push('\n');
        text.push_str(&table(["firmware", "is told to fetch"], plan.loaders.iter().map(row)));
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
        let replaces = or_dash((!parameter.replaces.is_empty()).then(|| parameter.replaces.join(" ")));
        [parameter.word.clone(), parameter.origin.to_string(), replaces]
    };
    table(["word", "from", "in the place of"], words.iter().map(row))
}

fn holds(machine: &MachineRow) -> String {
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

pub(crate) fn rows(machines: &[MachineRow]) -> String {
    let row = |machine: &MachineRow| {
        let step = machine.last_step.map(|step| step.as_str());
        [
            machine.name.clone(),
            or_dash(machine.macs.first()),
            machine.stage.as_str().into(),
            or_dash(step),
            or_dash(machine.install),
            holds(machine),
            or_dash((!machine.labels.is_empty()).then(|| machine.labels.join(", "))),
            or_dash(machine.address),
            ago(machine.last_seen),
        ]
    };
    let head = ["name", "mac", "stage", "last step", "install", "holds", "labels", "address", "seen"];
    table(head, machines.iter().map(row))
}

fn show(detail: &MachineDetail) -> String {
    let machine = &detail.machine;
    let options: Vec<String> =
        detail.options.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let facts: Vec<String> = detail.facts.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let since = machine.installed.as_ref().map(|installed| clock(installed.at));
    let mut text = pairs([
        ("name", machine.name.clone()),
        ("MAC", machine.macs.join("\n")),
        ("standing", standing_text(&machine.standing)),
        ("registered", clock(detail.created)),
        ("stage", machine.stage.as_str().into()),
        ("holds", holds(machine)),
        ("since", or_dash(since)),
        ("install", or_dash(machine.install)),
        ("address", or_dash(machine.address)),
        ("seen", ago(machine.last_seen)),
        ("boots now", detail.plan.gets.clone()),
        ("why", detail.plan.why.clone()),
        ("options", or_dash((!options.is_empty()).then(|| options.join("\n")))),
        ("labels", or_dash((!machine.labels.is_empty()).then(|| machine.labels.join(" ")))),
        ("facts", or_dash((!facts.is_empty()).then(|| facts.join("\n")))),
        ("parameters", or_dash((!detail.parameters.is_empty()).then(|| detail.parameters.join(" ")))),
        ("menu", or_dash(detail.menu.as_ref())),
    ]);
    if !detail.diagnoses.is_empty() {
        text.push('\n');
        text.push_str(&trace::explained(&detail.diagnoses));
    }
    if !detail.trace.is_empty() {
        let row = |event: &lastmile_api::TraceLine| [time(event.at), event.asked.clone(), event.got.clone()];
        text.push('\n');
        text.push_str(&table(["at", "asked", "got"], detail.trace.iter().map(row)));
    }
    text
}
