use clap::Subcommand;
use lastmile_api::{SiteSettings, StageLimits};
use lastmile_client::Client;

use super::edited;
use crate::output::{Failure, Output, or_dash, pairs};

/// `lastmile settings …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show what holds for the whole site.
    Show,
    /// Change it: what is not named stays as it is.
    Change {
        /// The menu of machines that nothing closer gives one; an empty name for the one that is built in.
        #[arg(long)]
        menu: Option<String>,
        /// How often every file of every image is read again, in hours; 0 for never.
        #[arg(long, value_name = "HOURS")]
        verify_hours: Option<u32>,
        /// Minutes without any sign from one step of a boot to the next before an install counts as stalled; 0 for no
        /// limit, here and below.
        #[arg(long, value_name = "MINUTES")]
        loading_minutes: Option<u32>,
        /// The same from the kernel to the answer file.
        #[arg(long, value_name = "MINUTES")]
        starting_minutes: Option<u32>,
        /// The same while the installer works.
        #[arg(long, value_name = "MINUTES")]
        installing_minutes: Option<u32>,
        /// Minutes from the answer file to the end, whatever is heard meanwhile, before an install counts as failed.
        #[arg(long, value_name = "MINUTES")]
        whole_minutes: Option<u32>,
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    let settings = match command {
        Command::Show => client.settings_read().await?.value,
        Command::Change {
            menu,
            verify_hours,
            loading_minutes,
            starting_minutes,
            installing_minutes,
            whole_minutes,
        } => {
            let read = async || client.settings_read().await;
            let change = async |client: &Client, now: SiteSettings| {
                let menu = menu.clone().or(now.menu).filter(|menu| !menu.is_empty());
                let verify_hours = verify_hours.unwrap_or(now.verify_hours);
                let limits = StageLimits {
                    loading_minutes: loading_minutes.unwrap_or(now.limits.loading_minutes),
                    starting_minutes: starting_minutes.unwrap_or(now.limits.starting_minutes),
                    installing_minutes: installing_minutes.unwrap_or(now.limits.installing_minutes),
                    whole_minutes: whole_minutes.unwrap_or(now.limits.whole_minutes),
                };
                Ok(client.settings_save(&SiteSettings { menu, verify_hours, limits }).await?)
            };
            edited::change(client, read, change).await?
        }
    };
    out.show(&settings, |settings| {
        let every = match settings.verify_hours {
            0 => "never".into(),
            hours => format!("every {hours} hours"),
        };
        let minutes = |minutes| if minutes == 0 { "no limit".into() } else { format!("{minutes} minutes") };
        let limits = &settings.limits;
        pairs([
            ("menu", or_dash(settings.menu.as_ref())),
            ("images are read again", every),
            ("stalled, between the steps of a boot", minutes(limits.loading_minutes)),
            ("stalled, from kernel to answers", minutes(limits.starting_minutes)),
            ("stalled, while installing", minutes(limits.installing_minutes)),
            ("failed, from answers to end", minutes(limits.whole_minutes)),
        ])
    });
    Ok(())
}
