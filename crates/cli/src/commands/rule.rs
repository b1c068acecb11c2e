//! `lastmile rule …`: what follows for machines of what was measured.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use lastmile_api::{
    EffectView, FailingPart, RenameRequest, Renamed, RuleDraft, RuleRun, RuleTrial, RuleTrialRequest,
    RuleTrialRow, RuleUseView, RuleView, RulesRun,
};
use lastmile_client::{Client, ClientError, Edited};

use super::{
    object::{self, CanAdd, CanRemove, CanRename, Change, Copy, EditOne, Edits, Object, Remove, Rename},
    toml_file,
};
use crate::{
    complete,
    confirm::Confirm,
    output::{Cell, Failure, Output, Table, columns, some_names},
};

/// Where an example of a rule is to be had.
const FIX: &str = "`lastmile rule show NAME` writes one; `lastmile rule add --help` explains the fields.";

/// `lastmile rule …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List all rules.
    List,
    /// Show one rule, as a file that `change --from` reads.
    Show {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
    },
    /// Add a rule. It proposes, until its mode is set to apply.
    Add(Add),
    /// Change rules, as in --set mode=apply or --append labels=kiosk.
    Change(Change),
    /// Change a rule in $EDITOR.
    Edit(EditOne),
    /// Add a rule like another.
    Copy(Copy),
    /// Rename a rule.
    Rename(Rename),
    /// Remove rules. What they gave machines stays.
    Remove(Remove),
    /// Show what a rule would change on which machine, and where its condition fails. Nothing is changed.
    Try(Try),
    /// Run all rules for machines and newcomers by their last surveys; they run by themselves after each survey.
    Run(Run),
    /// List when a rule changed machines, the latest first.
    Uses {
        /// Its name.
        #[arg(add = complete::names())]
        name: String,
    },
}

/// `lastmile rule add`
#[derive(Debug, Args)]
#[command(after_long_help = FIELDS)]
pub(crate) struct Add {
    /// What to call it.
    name: String,
    /// The rule as a file (TOML); `-` for standard input.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    #[command(flatten)]
    edits: Edits,
    /// Check it, and save nothing.
    #[arg(long)]
    dry_run: bool,
}

/// What a rule says.
const FIELDS: &str = "\
condition     of which machines it holds, as in product == 'MK-8' and location.rack == 'r12'
rank          of several rules that say the same thing, the highest is followed
mode          propose (a person accepts it), apply (it is done at once), off
labels        labels they get
details.NAME  details they get, as in details.port='{{ switch }} {{ port }}'
location      true: hall, row, rack and unit of the switch port, by the table of locations
name          what unknown machines are called, as in 'kiosk-{{ counter | pad(2) }}'
address       the address reserved for them, as in '192.0.2.{{ 100 + counter }}'
default_boot  what they boot while no install is armed
jobs          jobs that are done first, as in --append 'jobs={\"kind\": \"burn-in\", \"minutes\": 30}'
arm           true: an install is armed on machines that never had one
image         what it is armed with; that of their labels if left out
answers       with which answers; those of their labels if left out
hourly_limit  machines it changes by itself within an hour

  lastmile rule add quay-kiosks --set condition=\"product == 'MK-8'\" --set 'name=kiosk-{{ counter | pad(2) }}' \\
      --append labels=kiosk --set location=true";

/// `lastmile rule try`
#[derive(Debug, Args)]
pub(crate) struct Try {
    /// The rule; one that is not there yet with --set or --from.
    #[arg(add = complete::names())]
    name: String,
    /// The rule as a file (TOML); `-` for standard input.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    #[command(flatten)]
    edits: Edits,
    /// Show every machine, also those of which it does not hold.
    #[arg(long)]
    all: bool,
    /// At most so many machines.
    #[arg(long, default_value_t = 500)]
    limit: usize,
}

/// `lastmile rule run`
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// Machines by name, newcomers by MAC address.
    #[arg(required_unless_present = "all", value_name = "MACHINE", add = complete::machines())]
    machines: Vec<String>,
    /// Every machine and newcomer that was surveyed.
    #[arg(long)]
    all: bool,
    /// Have rules arm installs also on machines that had one before.
    #[arg(long)]
    arm_again: bool,
    /// Show what would be done, and change nothing.
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    confirm: Confirm,
}

/// Rules, as they are entered.
struct Rules;

impl Object for Rules {
    type Draft = RuleDraft;
    const NOUN: &'static str = "rule";
    const FIX: &'static str = FIX;

    async fn read(client: &Client, name: &str) -> Result<Edited<RuleDraft>, ClientError> {
        let read = client.rules_read(name).await?;
        Ok(Edited { value: read.value.rule, etag: read.etag })
    }

    async fn save(client: &Client, name: &str, draft: &RuleDraft) -> Result<(), ClientError> {
        client.rules_save(name, draft).await.map(drop)
    }
}

impl CanAdd for Rules {
    async fn add(client: &Client, name: &str, draft: &RuleDraft) -> Result<(), ClientError> {
        client.new_only().rules_save(name, draft).await.map(drop)
    }
}

impl CanRename for Rules {
    async fn rename(client: &Client, old: &str, new: &str) -> Result<Renamed, ClientError> {
        client.rules_rename(old, &RenameRequest { to: new.into() }).await
    }
}

impl CanRemove for Rules {
    const LOSES: &'static str = "What it gave machines stays.";

    async fn remove(client: &Client, name: &str) -> Result<(), ClientError> {
        client.rules_remove(name).await
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::List => out.list(&client.rules_list().await?, rows),
        Command::Show { name } => {
            toml_file::show(out, &client.rules_read(&name).await?, |view| toml_file::text(&view.rule));
        }
        Command::Add(args) => {
            let base = args.from.as_deref().map(|path| toml_file::read(path, FIX)).transpose()?;
            let base = base.map(|written| written.value).unwrap_or_default();
            let draft = edited(&args.name, &base, &args.edits)?;
            object::add::<Rules>(&args.name, &draft, args.dry_run, client, out).await?;
        }
        Command::Change(args) => object::change::<Rules>(&args, client, out).await?,
        Command::Edit(args) => object::edit::<Rules>(&args, client, out).await?,
        Command::Copy(args) => object::copy::<Rules>(&args, client, out, |_| {}).await?,
        Command::Rename(args) => object::rename::<Rules>(&args, client, out).await?,
        Command::Remove(args) => object::remove::<Rules>(&args, client, out).await?,
        Command::Try(args) => attempt(args, client, out).await?,
        Command::Run(args) => {
            let request = RulesRun { who: args.machines, all: args.all, arm_again: args.arm_again };
            let what = "running rules";
            let mut ran = out.during(what, client.trying(true).rules_run(&request)).await?;
            if !args.dry_run {
                ask_before_installs(&ran, args.confirm)?;
                ran = out.during(what, client.rules_run(&request)).await?;
            }
            out.show(&ran, |ran| ran_text(ran));
            out.say_tried(args.dry_run);
        }
        Command::Uses { name } => out.list(&client.rules_uses(&name).await?, uses),
    }
    Ok(())
}

/// Asks before installs are armed: they erase disks.
pub(super) fn ask_before_installs(tried: &[RuleRun], confirm: Confirm) -> Result<(), Failure> {
    let is_armed = |run: &&RuleRun| run.effects.iter().any(|effect| effect.what == "install");
    let armed: Vec<&str> = tried.iter().filter(is_armed).map(|run| run.who.as_str()).collect();
    if armed.is_empty() {
        return Ok(());
    }
    confirm.ask(&format!(
        "An install is armed on {}. What is on their disks is lost. Go on?",
        some_names(&armed)
    ))
}

fn edited(name: &str, base: &RuleDraft, edits: &Edits) -> Result<RuleDraft, Failure> {
    let what = format!("rule {name} cannot be written so");
    lastmile_api::apply(base, &edits.list()?).map_err(|faults| Failure::Faults { what, faults })
}

async fn attempt(args: Try, client: &Client, out: &Output) -> Result<(), Failure> {
    let base = match &args.from {
        Some(path) => toml_file::read(path, FIX)?.value,
        None if args.edits.list()?.is_empty() => client.rules_read(&args.name).await?.value.rule,
        None => match client.rules_read(&args.name).await {
            Ok(read) => read.value.rule,
            Err(ClientError::Problem(problem)) if problem.status == 404 => RuleDraft::default(),
            Err(error) => return Err(error.into()),
        },
    };
    let rule = edited(&args.name, &base, &args.edits)?;
    let request = RuleTrialRequest { name: args.name, rule, limit: Some(args.limit) };
    let what = "trying the rule on every machine that was surveyed";
    let trial = out.during(what, client.rules_try(&request)).await?;
    out.show(&trial, |trial| trial_text(trial, args.all));
    Ok(())
}

fn trial_text(trial: &RuleTrial, all: bool) -> String {
    let RuleTrial { surveyed, holds, changes, obstacles, rows } = trial;
    let shown: Vec<&RuleTrialRow> =
        rows.iter().filter(|row| all || row.holds || !row.effects.is_empty()).collect();
    let row = |row: &&RuleTrialRow| {
        let state = match (row.holds, row.effects.iter().any(|effect| effect.obstacle.is_some())) {
            (false, _) => "does not hold",
            (true, true) => "blocked",
            (true, false) if row.effects.is_empty() => "nothing to change",
            (true, false) => "changes",
        };
        let kept = row.kept.iter().map(|kept| format!("{} stays: {}", kept.what, kept.why));
        let told =
            row.effects.iter().map(effect_text).chain(row.failing.iter().map(failing_text)).chain(kept);
        [row.who.clone().into(), Cell::state(state), told.collect::<Vec<_>>().join("\n").into()]
    };
    let mut text = if shown.is_empty() {
        String::new()
    } else {
        columns(["machine", "rule", "what"], shown.iter().map(row)).text()
    };
    text.push_str(&format!(
        "{surveyed} surveyed: it holds of {holds}, would change {changes}, and is blocked on {obstacles}\n"
    ));
    if shown.len() < rows.len() {
        text.push_str("`--all` shows also where it does not hold, and why.\n");
    }
    text
}

/// What would change, or why it cannot.
pub(super) fn effect_text(effect: &EffectView) -> String {
    let place = match effect.what.strip_prefix("labels.") {
        Some(label) => format!("label {label}"),
        None => match &effect.before {
            Some(before) => format!("{}: {before} → {}", effect.what, effect.after),
            None => format!("{} = {}", effect.what, effect.after),
        },
    };
    match &effect.obstacle {
        Some(obstacle) => format!("{place}: not possible, {obstacle}"),
        None => place,
    }
}

/// A part of a condition that does not hold.
pub(super) fn failing_text(failing: &FailingPart) -> String {
    match &failing.why {
        Some(why) => format!("fails: {} ({why})", failing.part),
        None => format!("fails: {}", failing.part),
    }
}

/// What rules did, a line each machine of which there is something to say.
pub(super) fn ran_text(ran: &[RuleRun]) -> String {
    let told: Vec<&RuleRun> = ran
        .iter()
        .filter(|run| !run.effects.is_empty() || !run.proposed.is_empty() || !run.refused.is_empty())
        .collect();
    let row = |run: &&RuleRun| {
        let lines = |effects: &[EffectView]| effects.iter().map(effect_text).collect::<Vec<_>>().join("\n");
        let maybe = |text: String| Cell::maybe((!text.is_empty()).then_some(text));
        [
            run.who.clone().into(),
            maybe(lines(&run.effects)),
            maybe(lines(&run.proposed)),
            maybe(run.refused.join("\n")),
        ]
    };
    let head = ["machine", "changed", "proposed", "refused"];
    let mut text = if told.is_empty() { String::new() } else { columns(head, told.iter().map(row)).text() };
    let count = |is: &dyn Fn(&RuleRun) -> bool| ran.iter().filter(|run| is(run)).count();
    let (changed, proposed) = (count(&|run| !run.effects.is_empty()), count(&|run| !run.proposed.is_empty()));
    let machines = if ran.len() == 1 { "1 machine".into() } else { format!("{} machines", ran.len()) };
    text.push_str(&format!("{machines}: {changed} changed, for {proposed} something is proposed\n"));
    text
}

fn rows(rules: &[RuleView]) -> Table {
    let row = |rule: &RuleView| {
        [
            rule.name.clone().into(),
            Cell::state(rule.rule.mode.as_str()),
            rule.rule.rank.to_string().into(),
            rule.rule.condition.clone().into(),
            rule.holds.to_string().into(),
            rule.waiting.to_string().into(),
            rule.uses.to_string().into(),
            Cell::ago(rule.last_used),
        ]
    };
    let head = ["rule", "mode", "rank", "condition", "holds of", "proposals", "changed", "last"];
    columns(head, rules.iter().map(row))
}

pub(super) fn uses(uses: &[RuleUseView]) -> Table {
    let row = |used: &RuleUseView| {
        [
            Cell::clock(Some(used.at)),
            used.rule.clone().into(),
            used.machine.clone().into(),
            used.changes.join("\n").into(),
            Cell::maybe(used.by.as_ref()),
        ]
    };
    columns(["when", "rule", "machine", "changed", "accepted by"], uses.iter().map(row))
}
