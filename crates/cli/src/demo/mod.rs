//! `lastmile demo`: a service of its own, an invented ferry line, and machines that boot over its real sockets.

mod rounds;
mod rules;
mod scenario;
mod story;
mod surveyed;

use std::{
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpListener},
    process::ExitCode,
    sync::Arc,
    time::Duration,
};

use lastmile_api::{InstallState, InstallsListQuery, MachinesListQuery};
use lastmile_client::Client;
use lastmile_formats::{architecture::Architecture, mac::Mac};
use lastmile_server::{Config, Running};
use lastmile_sim::{Beat, Booted, Identity, Machine, Pace, Reached, Receiver, SimError};
use scenario::{FLEET, STUCK, Site, Terminal, UNEXPECTED};
use story::Story;
use tokio::signal::unix::{SignalKind, signal};

use crate::{
    commands::{install, machine},
    output::{Failure, Output},
};

/// The port of the console, where it is free.
const CONSOLE_PORT: u16 = 8480;

/// How quickly everything happens.
#[derive(Debug, Clone, Copy)]
struct Tempo {
    machines: Pace,
    /// Between the power buttons of two machines.
    stagger: Duration,
    /// Between two things that happen once all is installed.
    round: Duration,
    /// How long a person takes to decide something.
    thought: Duration,
}

impl Tempo {
    /// As slow as a person can follow.
    const HUMAN: Self = Self {
        machines: Pace {
            firmware: Duration::from_millis(900),
            install: Duration::from_secs(9),
            again: Duration::from_secs(10),
        },
        stagger: Duration::from_millis(1700),
        round: Duration::from_secs(30),
        thought: Duration::from_secs(10),
    };
    /// As quickly as machines are answered; what goes on after that, with a second in between.
    const FULL: Self = Self {
        machines: Pace::FULL,
        stagger: Duration::ZERO,
        round: Duration::from_secs(1),
        thought: Duration::from_millis(500),
    };
}

/// How the demo is run.
#[derive(Debug, clap::Args)]
pub(crate) struct DemoArguments {
    /// Run it through once at full speed, print the story and the tables, and end. Exit code 0 only if every
    /// machine reached `installed`.
    #[arg(long)]
    once: bool,
    /// Go on at full speed: machines take no longer than their answers do, and something new happens every second.
    #[arg(long, conflicts_with = "once")]
    fast: bool,
    /// Port of the API and the console; another if it is taken.
    #[arg(long, default_value_t = CONSOLE_PORT)]
    port: u16,
}

pub(crate) async fn run(arguments: &DemoArguments, out: &Output) -> Result<ExitCode, Failure> {
    let folder = tempfile::Builder::new().prefix("lastmile-demo-").tempdir()?;
    let running = start(folder.path(), arguments.port).await?;
    let console = format!("http://{}", running.listening().admin);
    let client = Client::new(&console, "demo")?;
    scenario::fill(&client).await?;
    rules::fill(&client).await?;
    // One takes what it is told at once, the other is away for a while.
    let told = [Receiver::start(&[]).await?, Receiver::start(&["503 Service Unavailable"; 3]).await?];
    scenario::fill_webhooks(&client, told.each_ref().map(Receiver::address)).await?;
    let story = Arc::new(Story::new(*out));
    story.tell(&format!("Last Mile for Gannet Sound Ferries. Console: {console}"));
    let tempo = if arguments.once || arguments.fast { Tempo::FULL } else { Tempo::HUMAN };
    let stage = Stage { reached: reached(&running), tempo, client, story };

    let code = if arguments.once {
        let all_good = stage.install_fleet().await;
        stage.print_tables(out).await?;
        if all_good { ExitCode::SUCCESS } else { ExitCode::FAILURE }
    } else {
        stage.story.tell("Open the console in a browser; Ctrl-C ends the demo and removes all it made.");
        // Told to end by whatever means, it removes what it made.
        let mut terminate = signal(SignalKind::terminate())?;
        tokio::select! {
            () = stage.play() => {}
            ended = tokio::signal::ctrl_c() => ended?,
            _ = terminate.recv() => {}
        }
        ExitCode::SUCCESS
    };
    running.stop().await;
    Ok(code)
}

/// A service on the loopback alone, on whatever ports are free: no right is needed, no monitor, no network.
async fn start(folder: &std::path::Path, port: u16) -> Result<Running, Failure> {
    let free = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).is_ok();
    let mut config: Config = toml::from_str("").map_err(|error| Failure::Input {
        place: "demo".into(),
        what: error.to_string(),
        fix: "This is a defect of the program.",
    })?;
    config.data_dir = folder.into();
    config.boot.address = Some(Ipv4Addr::LOCALHOST);
    config.boot.relay_listen = Some(SocketAddrV4::new(Ipv4Addr::LOCALHOST, 0));
    config.boot.tftp_port = 0;
    config.boot.http_port = 0;
    config.admin.listen = SocketAddr::from((Ipv4Addr::LOCALHOST, if free { port } else { 0 }));
    Ok(lastmile_server::start(&config).await?)
}

fn reached(running: &Running) -> Reached {
    let listening = running.listening();
    let dhcp = match listening.relays {
        Some(SocketAddr::V4(relays)) => relays,
        _ => SocketAddrV4::new(Ipv4Addr::LOCALHOST, 67),
    };
    Reached {
        dhcp,
        tftp_port: listening.tftp.first().map_or(69, SocketAddr::port),
        http_port: listening.http.first().map_or(80, SocketAddr::port),
        link: Ipv4Addr::UNSPECIFIED,
    }
}

/// What every simulated machine needs.
#[derive(Clone)]
struct Stage {
    reached: Reached,
    tempo: Tempo,
    client: Client,
    story: Arc<Story>,
}

impl Stage {
    /// Installs all machines, one power button after another; then it goes on for ever.
    async fn play(&self) {
        self.survey_newcomers();
        for (name, site, architecture, number) in STUCK {
            self.get_stuck(name, site, architecture, number).await;
        }
        self.install_fleet().await;
        self.go_on().await;
    }

    /// Arms and installs every machine; gives whether all reached `installed`.
    async fn install_fleet(&self) -> bool {
        for terminal in &FLEET {
            if let Err(error) = self.arm(terminal, &[]).await {
                self.story.tell(&format!("{}: {error}", terminal.machine));
            }
        }
        let mut machines = tokio::task::JoinSet::new();
        for terminal in &FLEET {
            let stage = self.clone();
            machines.spawn(async move { stage.power_on(terminal).await });
            tokio::time::sleep(self.tempo.stagger).await;
        }
        machines.join_all().await;
        let filter =
            InstallsListQuery { state: Some(InstallState::Installed.as_str().into()), ..Default::default() };
        let installed = self.client.installs_list(&filter).await;
        installed.is_ok_and(|list| usize::try_from(list.total) == Ok(FLEET.len()))
    }

    /// Presses the power button: network boot, install, and the boot after it.
    async fn power_on(&self, terminal: &Terminal) {
        if let Err(error) = self.boot_and_install(terminal, self.watch(terminal)).await {
            self.story.tell(&format!("{}: stopped: {error}", terminal.machine));
        }
    }

    fn machine(&self, terminal: &Terminal) -> Result<Machine, SimError> {
        let identity = Identity { mac: terminal.mac()?, architecture: terminal.architecture };
        let reached = Reached { link: terminal.subnet.router(), ..self.reached };
        Machine::new(identity, reached, self.tempo.machines)
    }

    /// Tells what a machine does.
    fn watch(&self, terminal: &Terminal) -> impl FnMut(Beat) + Send {
        let (story, name) = (self.story.clone(), terminal.machine);
        move |beat| story.tell(&format!("{name}: {}", story::beat(&beat)))
    }

    /// Switches on a machine that boots nothing: its trace says why.
    async fn get_stuck(&self, name: &str, site: Site, architecture: Architecture, number: u8) {
        let Ok(mac) = Mac::new([0x00, 0x00, 0x5e, 0x00, 0x53, number]) else { return };
        let reached = Reached { link: site.router(), ..self.reached };
        let booted = match Machine::new(Identity { mac, architecture }, reached, Pace::FULL) {
            Ok(machine) => machine.boot(&mut |_| {}).await,
            Err(error) => Err(error),
        };
        let told = match booted {
            Ok(booted) => format!("{}: `lastmile trace {mac}` tells why", story::ending(&booted)),
            Err(error) => error.to_string(),
        };
        self.story.tell(&format!("{name} ({mac}): {told}"));
    }

    async fn boot_and_install(
        &self,
        terminal: &Terminal,
        mut watch: impl FnMut(Beat) + Send,
    ) -> Result<(), SimError> {
        let machine = self.machine(terminal)?;
        let tell = |text: String| self.story.tell(&format!("{}: {text}", terminal.machine));
        tell("power on".into());
        let mut system = match machine.boot(&mut watch).await? {
            Booted::Kernel { address, parameters } => {
                Some(machine.install(address, &parameters, &mut watch).await?)
            }
            other => {
                tell(format!("{}, and no installer", story::ending(&other)));
                None
            }
        };
        tell("restarts".into());
        match (machine.boot(&mut watch).await?, &mut system) {
            (Booted::LocalDisk, Some(system)) => {
                tell("starts from its own disk".into());
                system.first_boot_ends_well = terminal.machine != UNEXPECTED;
                machine.start(system, &mut watch).await?;
            }
            (Booted::LocalDisk, None) => tell("starts from its own disk".into()),
            (other, _) => tell(format!("should have started from its disk, but {}", story::ending(&other))),
        }
        Ok(())
    }

    async fn print_tables(&self, out: &Output) -> Result<(), Failure> {
        let machines = self.client.machines_list(&MachinesListQuery::default()).await?.machines;
        let installs = self.client.installs_list(&InstallsListQuery::default()).await?.installs;
        out.show(&(machines, installs), |(machines, installs)| {
            format!("\n{}\n{}", machine::rows(machines).text(), install::rows(installs).text())
        });
        Ok(())
    }
}
