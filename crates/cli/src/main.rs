//! `lastmile`: the service, the demo, and the client's commands.

mod commands;
mod demo;
mod output;
mod serve;

use std::process::ExitCode;

use clap::{CommandFactory, Parser, Subcommand};
use lastmile_client::{Client, DEFAULT_SERVER};

use crate::{
    commands::{
        answers, check, export, handover, history, image, install, label, loader, machine, menu, settings,
        status, subnet, trace, wait,
    },
    output::{Failure, Output},
};

/// Takes bare machines to working, recorded hosts.
#[derive(Debug, Parser)]
#[command(name = "lastmile", version, propagate_version = true, arg_required_else_help = true)]
struct Arguments {
    /// The service to talk to.
    #[arg(long, global = true, env = "LASTMILE_SERVER", default_value = DEFAULT_SERVER, value_name = "URL")]
    server: String,
    /// Write JSON for programs instead of tables for people.
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the service.
    Serve(serve::ServeArguments),
    /// Show it all on this computer: an invented ferry line, simulated machines, no rights, no network.
    Demo(demo::DemoArguments),
    /// How the service stands.
    Status,
    /// Networks that machines boot on.
    #[command(subcommand)]
    Subnet(subnet::Command),
    /// Network boot programs, one for each kind of firmware.
    #[command(subcommand)]
    Loader(loader::Command),
    /// What is booted.
    #[command(subcommand)]
    Image(image::Command),
    /// What the person at a machine sees.
    #[command(subcommand)]
    Menu(menu::Command),
    /// What machines of a group have in common.
    #[command(subcommand)]
    Label(label::Command),
    /// What holds for the whole site.
    #[command(subcommand)]
    Settings(settings::Command),
    /// Install settings, from which each machine's answer file is made.
    #[command(subcommand)]
    Answers(answers::Command),
    /// Machines, and what they hold.
    #[command(subcommand)]
    Machine(machine::Command),
    /// Put an image on a machine, and the record of it.
    #[command(subcommand)]
    Install(install::Command),
    /// Wait until installs have ended: exits with 0 if all of them are installed, else with 1.
    Wait(wait::Arguments),
    /// Reports over the record: which host has what, and how installs went.
    #[command(subcommand)]
    History(history::Command),
    /// Tell others when installs end, by signed webhooks.
    #[command(subcommand)]
    Handover(handover::Command),
    /// What other programs read of the machines: hosts file, zone files, inventory.
    #[command(subcommand)]
    Export(export::Command),
    /// What a machine gets if it boots now, and why.
    Plan {
        /// The machine's name.
        machine: String,
        /// Show the text that its loader reads, too.
        #[arg(long)]
        menu: bool,
    },
    /// What a machine did on the wire, and what it means.
    Trace(trace::Arguments),
    /// Look for what stands in the way of a boot, and boot a machine of the service's own.
    Check(check::Arguments),
    /// Write the completion script for a shell.
    Completion {
        /// The shell.
        shell: clap_complete::Shell,
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

/// Longest wait at the end for threads that are still at something.
const GRACE: std::time::Duration = std::time::Duration::from_secs(2);

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            Failure::Io(error).print();
            return ExitCode::FAILURE;
        }
    };
    let code = runtime.block_on(run(arguments)).unwrap_or_else(|failure| {
        failure.print();
        ExitCode::FAILURE
    });
    // A thread that hangs must not keep a service from being started anew.
    runtime.shutdown_timeout(GRACE);
    code
}

async fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    let out = Output::new(arguments.json);
    let user = std::env::var("USER").unwrap_or_else(|_| "unnamed".into());
    let client = Client::new(&arguments.server, &user)?;
    match arguments.command {
        Command::Serve(serve) => serve::run(&serve).await?,
        Command::Demo(demo) => return demo::run(&demo, &out).await,
        Command::Status => status::run(&client, &out).await?,
        Command::Subnet(command) => subnet::run(command, &client, &out).await?,
        Command::Loader(command) => loader::run(command, &client, &out).await?,
        Command::Image(command) => image::run(command, &client, &out).await?,
        Command::Menu(command) => menu::run(command, &client, &out).await?,
        Command::Label(command) => label::run(command, &client, &out).await?,
        Command::Settings(command) => settings::run(command, &client, &out).await?,
        Command::Answers(command) => return answers::run(command, &client, &out).await,
        Command::Machine(command) => return machine::run(command, &client, &out).await,
        Command::Install(command) => return install::run(command, &client, &out).await,
        Command::Wait(arguments) => return wait::run(&arguments, &client, &out).await,
        Command::History(command) => history::run(command, &client, &out).await?,
        Command::Handover(command) => return handover::run(command, &client, &out).await,
        Command::Export(command) => export::run(command, &client, &out).await?,
        Command::Plan { machine, menu } => machine::plan(&machine, menu, &client, &out).await?,
        Command::Trace(arguments) => trace::run(&arguments, &client, &out).await?,
        Command::Check(arguments) => return check::run(&arguments, &client, &out).await,
        Command::Completion { shell } => {
            clap_complete::generate(shell, &mut Arguments::command(), "lastmile", &mut std::io::stdout());
        }
        Command::ManualPages { folder } => clap_mangen::generate_to(Arguments::command(), folder)?,
        Command::Reference { api: false } => commands::reference::print(&mut Arguments::command(), &out),
        Command::Reference { api: true } => commands::api_reference::print(&out)?,
    }
    Ok(ExitCode::SUCCESS)
}
