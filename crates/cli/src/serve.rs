//! `lastmile serve`.

use std::{io::IsTerminal, path::PathBuf, time::Duration};

use lastmile_server::{
    Config,
    config::{LogConfig, LogFormat},
};
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::EnvFilter;

use crate::output::Failure;

/// How the service is run.
#[derive(Debug, clap::Args)]
pub(crate) struct ServeArguments {
    /// The configuration file.
    #[arg(long, default_value = "/etc/lastmile/lastmile.toml", value_name = "FILE")]
    config: PathBuf,
    /// Write an example of the configuration file and end.
    #[arg(long)]
    example_config: bool,
}

pub(crate) async fn run(arguments: &ServeArguments) -> Result<(), Failure> {
    if arguments.example_config {
        crate::output::Output::new(crate::output::Format::Table).line(Config::EXAMPLE.trim_end());
        return Ok(());
    }
    let config = Config::read(&arguments.config)?;
    start_log(&config.log)?;
    // Taken before anything listens: a signal during the start ends it as cleanly as one later.
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut running = lastmile_server::start(&config).await?;
    for line in running.listening().lines() {
        tracing::info!("{line}");
    }
    tell_systemd(&[sd_notify::NotifyState::Ready]);
    let mut watchdog = watchdog();
    let failure = loop {
        tokio::select! {
            _ = terminate.recv() => break None,
            _ = interrupt.recv() => break None,
            what = running.failed() => break Some(what),
            () = watchdog.tick() => {
                if running.answers_within(watchdog.every).await {
                    tell_systemd(&[sd_notify::NotifyState::Watchdog]);
                } else {
                    tracing::error!("the records do not answer: systemd is not told that the service is alive");
                }
            }
        }
    };
    tell_systemd(&[sd_notify::NotifyState::Stopping]);
    match failure {
        None => tracing::info!("told to end"),
        Some(what) => {
            // What is under way is cut off: nothing of it could be recorded.
            tracing::error!("{what}: the service ends, to be started anew");
            return Err(Failure::Broken(what));
        }
    }
    running.stop().await;
    tracing::info!("ended");
    Ok(())
}

/// How often systemd is told that the service is alive: three times as often as it asks for (sd_watchdog_enabled(3)), so that one
/// answer may be late.
fn watchdog() -> Watchdog {
    let mut micros = 0;
    let is_wanted = sd_notify::watchdog_enabled(false, &mut micros);
    // Outside of systemd it is never time.
    let every = if is_wanted { Duration::from_micros(micros / 3) } else { Duration::MAX };
    Watchdog { every }
}

struct Watchdog {
    every: Duration,
}

impl Watchdog {
    async fn tick(&mut self) {
        if self.every == Duration::MAX {
            return std::future::pending().await;
        }
        tokio::time::sleep(self.every).await;
    }
}

/// Speaks systemd's readiness protocol (sd_notify(3)); outside of it nobody listens.
fn tell_systemd(states: &[sd_notify::NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(false, states) {
        tracing::warn!("systemd was not told: {error}");
    }
}

fn start_log(log: &LogConfig) -> Result<(), Failure> {
    let filter = EnvFilter::try_new(&log.level).map_err(|error| Failure::Input {
        place: "[log] level".into(),
        what: error.to_string(),
        fix: "Write error, warn, info, debug or trace, or a filter such as info,lastmile_server::dhcp=debug.",
    })?;
    let lines = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    // A log that goes to a file or the journal has no colours in it.
    let lines = lines.with_ansi(std::io::stderr().is_terminal());
    match log.format {
        LogFormat::Text => lines.with_target(false).init(),
        LogFormat::Json => lines.json().init(),
    }
    Ok(())
}
