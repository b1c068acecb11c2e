//! `lastmile serve`.

use std::path::PathBuf;

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
        crate::output::Output::new(false).line(Config::EXAMPLE.trim_end());
        return Ok(());
    }
    let config = Config::read(&arguments.config)?;
    start_log(&config.log)?;
    // Taken before anything listens: a signal during the start ends it as cleanly as one later.
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    let running = lastmile_server::start(&config).await?;
    for line in running.listening().lines() {
        tracing::info!("{line}");
    }
    tell_systemd(&[sd_notify::NotifyState::Ready]);
    tokio::select! {
        _ = terminate.recv() => tracing::info!("told to end"),
        _ = interrupt.recv() => tracing::info!("interrupted"),
    }
    tell_systemd(&[sd_notify::NotifyState::Stopping]);
    running.stop().await;
    tracing::info!("ended");
    Ok(())
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
        mend: "Write error, warn, info, debug or trace, or a filter such as info,lastmile_server::dhcp=debug.",
    })?;
    let lines = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    match log.format {
        LogFormat::Text => lines.with_target(false).init(),
        LogFormat::Json => lines.json().init(),
    }
    Ok(())
}
