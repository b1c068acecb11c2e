//! `lastmile settings …`

use clap::Subcommand;
use lastmile_api::SiteSettings;
use lastmile_client::{Client, ClientError, Edited};

use super::object::{self, How, Object};
use crate::output::{Failure, Output, or_dash, pairs};

/// `lastmile settings …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show the settings of the whole site.
    Show,
    /// Change them, as in --set menu=quay or --set limits.installing_minutes=60.
    Change(How),
    /// Change them in $EDITOR.
    Edit,
}

/// The settings of the whole site. There is one set of them.
struct TheSettings;

/// What a change of them is called.
const SITE: &str = "site";

impl Object for TheSettings {
    type Draft = SiteSettings;
    const NOUN: &'static str = "settings";
    const FIX: &'static str = "Fields are: menu, verify_hours, limits.loading_minutes, limits.starting_minutes, \
                               limits.installing_minutes, limits.whole_minutes.";

    async fn read(client: &Client, _: &str) -> Result<Edited<SiteSettings>, ClientError> {
        client.settings_read().await
    }

    async fn save(client: &Client, _: &str, draft: &SiteSettings) -> Result<(), ClientError> {
        client.settings_save(draft).await.map(drop)
    }
}

pub(crate) async fn run(command: Command, client: &Client, out: &Output) -> Result<(), Failure> {
    match command {
        Command::Show => out.show(&client.settings_read().await?.value, show),
        Command::Change(how) => object::change_named::<TheSettings>(&[SITE], &how, client, out).await?,
        Command::Edit => object::edit_named::<TheSettings>(SITE, client, out).await?,
    }
    Ok(())
}

fn show(settings: &SiteSettings) -> String {
    let every = match settings.verify_hours {
        0 => "never".into(),
        hours => format!("{hours} h"),
    };
    let minutes = |minutes| if minutes == 0 { "no limit".into() } else { format!("{minutes} min") };
    let limits = &settings.limits;
    pairs([
        ("menu", or_dash(settings.menu.as_ref())),
        ("images are verified every", every),
        ("stalled after, while loading", minutes(limits.loading_minutes)),
        ("stalled after, from kernel to answers", minutes(limits.starting_minutes)),
        ("stalled after, while installing", minutes(limits.installing_minutes)),
        ("failed after, from answers to end", minutes(limits.whole_minutes)),
    ])
}
