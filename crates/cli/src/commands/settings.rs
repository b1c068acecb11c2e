use clap::Subcommand;
use lastmile_api::SiteSettings;
use lastmile_client::Client;

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
    },
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    let settings = match command {
        Command::Show => client.settings().await?,
        Command::Change { menu, verify_hours } => {
            let now = client.settings().await?;
            let menu = menu.or(now.menu).filter(|menu| !menu.is_empty());
            let verify_hours = verify_hours.unwrap_or(now.verify_hours);
            client.save_settings(&SiteSettings { menu, verify_hours }).await?
        }
    };
    out.show(&settings, |settings| {
        let every = match settings.verify_hours {
            0 => "never".into(),
            hours => format!("every {hours} hours"),
        };
        pairs([("menu", or_dash(settings.menu.as_ref())), ("images are read again", every)])
    });
    Ok(())
}
