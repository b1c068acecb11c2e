//! `lastmile`: the service, the demo, and the client's commands.

mod commands;
mod complete;
mod confirm;
mod demo;
mod output;
mod serve;

use std::process::ExitCode;

use clap::{ArgMatches, CommandFactory, FromArgMatches, Parser, Subcommand};
use clap_complete::CompleteEnv;
use lastmile_client::{Client, DEFAULT_SERVER};

use crate::{
    commands::{
        answers, check, export, history, image, install, job, label, loader, location, machine, menu,
        overview, proposal, rule, settings, status, subnet, survey, webhook,
    },
    output::{Failure, Format, Output},
};

/// Takes bare machines to working, recorded hosts.
#[derive(Debug, Parser)]
#[command(name = "lastmile", version, propagate_version = true, arg_required_else_help = true)]
struct Arguments {
    /// The service to talk to.
    #[arg(long, global = true, env = "LASTMILE_SERVER", default_value = DEFAULT_SERVER, value_name = "URL")]
    server: String,
    /// The form of what is written.
    #[arg(long, global = true, value_enum, default_value_t)]
    output: Format,
    /// Short for --output json.
    #[arg(long, global = true, conflicts_with = "output")]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the service.
    Serve(serve::ServeArguments),
    /// Run a demonstration on this computer: an invented ferry line with simulated machines. Needs no rights and no network.
    Demo(demo::DemoArguments),
    /// Show what needs attention, what is in progress, and what happened today.
    Overview,
    /// Show the state of the service.
    Status,
    /// Subnets: networks that machines boot on.
    #[command(subcommand)]
    Subnet(subnet::Command),
    /// Loaders: network boot programs, one for each kind of firmware.
    #[command(subcommand)]
    Loader(loader::Command),
    /// Images: what machines boot.
    #[command(subcommand)]
    Image(image::Command),
    /// The survey: what measures machines' hardware.
    #[command(subcommand)]
    Survey(survey::Command),
    /// Menus: what people see at the machine.
    #[command(subcommand)]
    Menu(menu::Command),
    /// Labels: what groups machines.
    #[command(subcommand)]
    Label(label::Command),
    /// Settings of the whole site.
    #[command(subcommand)]
    Settings(settings::Command),
    /// Answers: install settings, from which each machine's answer file is made.
    #[command(subcommand)]
    Answers(answers::Command),
    /// Machines.
    #[command(subcommand)]
    Machine(machine::Command),
    /// Rules: what follows for machines of what surveys measured.
    #[command(subcommand)]
    Rule(rule::Command),
    /// Proposals: what rules would do, and a person accepts or declines.
    #[command(subcommand)]
    Proposal(proposal::Command),
    /// Locations: in which rack the cable of each switch port ends.
    #[command(subcommand)]
    Location(location::Command),
    /// Racks: what stands where, what is empty, what is expected.
    #[command(subcommand)]
    Rack(location::RackCommand),
    /// Installs: put an image on a machine, and the record of it.
    #[command(subcommand)]
    Install(install::Command),
    /// Jobs: work that is done on machines by the survey's system, and the record of it.
    #[command(subcommand)]
    Job(job::Command),
    /// Reports over the record: which host has which image, success rates and durations.
    #[command(subcommand)]
    History(history::Command),
    /// Webhooks: signed messages that are sent when installs end.
    #[command(subcommand)]
    Webhook(webhook::Command),
    /// Write machines for other programs: hosts file, zone files, inventory, CSV.
    #[command(subcommand)]
    Export(export::Command),
    /// Check what would keep machines from booting, and boot a simulated machine.
    Check(check::Arguments),
    /// Short for `machine plan`: what machines get if they boot now, and why.
    Plan(machine::Plan),
    /// Short for `machine trace`: what a machine did on the wire, and what it means.
    Trace(machine::trace::Arguments),
    /// Short for `install wait`: wait until installs have ended.
    Wait(install::wait::Arguments),
    /// Write the completion script for a shell. It completes the names of machines, images and answers, too.
    Completion {
        /// The shell: bash, elvish, fish, powershell or zsh.
        shell: String,
    },
    /// Write the manual pages into a folder.
    #[command(hide = true)]
    ManualPages {
        /// The folder.
        folder: std::path::PathBuf,
    },
    /// Write the command reference as Markdown.
    #[command(hide = true)]
    Reference {
        /// That of the API in its place.
        #[arg(long)]
        api: bool,
    },
}

/// Commands that list something, and so have a form as comma-separated values.
const LISTS: [&str; 13] = [
    "list",
    "leases",
    "reservations",
    "newcomers",
    "surveys",
    "uses",
    "versions",
    "deliveries",
    "hosts",
    "rates",
    "inventory",
    "import",
    "machines",
];

/// Longest wait at the end for threads that are still at something.
const GRACE: std::time::Duration = std::time::Duration::from_secs(2);

fn main() -> ExitCode {
    // Called by a shell that completes a line: writes what it asks for, and ends.
    CompleteEnv::with_factory(Arguments::command).complete();
    let matches = Arguments::command().get_matches();
    let arguments = match Arguments::from_arg_matches(&matches) {
        Ok(arguments) => arguments,
        Err(error) => error.exit(),
    };
    if let Err(failure) = has_form(arguments.output, &matches) {
        return ended(&failure);
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return ended(&Failure::Io(error)),
    };
    let code = runtime.block_on(run(arguments)).unwrap_or_else(|failure| ended(&failure));
    // A thread that hangs must not keep a service from being started anew.
    runtime.shutdown_timeout(GRACE);
    code
}

/// Says why a command failed, and which exit code that is.
fn ended(failure: &Failure) -> ExitCode {
    failure.print();
    ExitCode::from(failure.status() as u8)
}

/// That the command has the form that is wanted, before it does anything.
fn has_form(format: Format, matches: &ArgMatches) -> Result<(), Failure> {
    if format != Format::Csv {
        return Ok(());
    }
    let (mut name, mut inner) = ("lastmile", matches);
    while let Some((next, matches)) = inner.subcommand() {
        (name, inner) = (next, matches);
    }
    if LISTS.contains(&name) {
        return Ok(());
    }
    Err(Failure::usage("--output csv", format!("`{name}` does not list anything"), "Use table or json."))
}

async fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    let out = Output::new(if arguments.json { Format::Json } else { arguments.output });
    let user = std::env::var("USER").unwrap_or_else(|_| "unnamed".into());
    let client = Client::new(&arguments.server, &user)?;
    match arguments.command {
        Command::Serve(serve) => serve::run(&serve).await?,
        Command::Demo(demo) => return demo::run(&demo, &out).await,
        Command::Overview => overview::run(&client, &out).await?,
        Command::Status => status::run(&client, &out).await?,
        Command::Subnet(command) => subnet::run(command, &client, &out).await?,
        Command::Loader(command) => loader::run(command, &client, &out).await?,
        Command::Image(command) => image::run(command, &client, &out).await?,
        Command::Survey(command) => survey::run(command, &client, &out).await?,
        Command::Menu(command) => menu::run(command, &client, &out).await?,
        Command::Label(command) => label::run(command, &client, &out).await?,
        Command::Settings(command) => settings::run(command, &client, &out).await?,
        Command::Answers(command) => return answers::run(command, &client, &out).await,
        Command::Machine(command) => return machine::run(command, &client, &out).await,
        Command::Rule(command) => rule::run(command, &client, &out).await?,
        Command::Proposal(command) => proposal::run(command, &client, &out).await?,
        Command::Location(command) => location::run(command, &client, &out).await?,
        Command::Rack(command) => location::run_rack(command, &client, &out).await?,
        Command::Install(command) => return install::run(command, &client, &out).await,
        Command::Job(command) => return job::run(command, &client, &out).await,
        Command::History(command) => history::run(command, &client, &out).await?,
        Command::Webhook(command) => return webhook::run(command, &client, &out).await,
        Command::Export(command) => export::run(command, &client, &out).await?,
        Command::Plan(arguments) => machine::plan(&arguments, &client, &out).await?,
        Command::Trace(arguments) => machine::trace::run(&arguments, &client, &out).await?,
        Command::Wait(arguments) => return install::wait::run(&arguments, &client, &out).await,
        Command::Check(arguments) => return check::run(&arguments, &client, &out).await,
        Command::Completion { shell } => {
            completion(&shell)?;
        }
        Command::ManualPages { folder } => clap_mangen::generate_to(Arguments::command(), folder)?,
        Command::Reference { api: false } => commands::reference::print(&mut Arguments::command(), &out),
        Command::Reference { api: true } => commands::api_reference::print(&out)?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Writes the script that has a shell ask this program what can come next.
fn completion(shell: &str) -> Result<(), Failure> {
    let shells = clap_complete::env::Shells::builtins();
    let completer = shells.completer(shell).ok_or_else(|| {
        let known = shells.names().collect::<Vec<_>>().join(", ");
        Failure::usage("SHELL", format!("'{shell}' is not one of {known}"), "Name your shell, as in bash.")
    })?;
    let mut script = Vec::new();
    completer.write_registration("COMPLETE", "lastmile", "lastmile", "lastmile", &mut script)?;
    std::io::Write::write_all(&mut std::io::stdout(), &script)?;
    Ok(())
}
