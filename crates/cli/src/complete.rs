//! Names that a shell completes: asked of the service at the moment of completion.

use std::{ffi::OsStr, time::Duration};

use clap_complete::{ArgValueCompleter, CompletionCandidate};
use lastmile_api::{MachineSort, MachinesListQuery};
use lastmile_client::{Client, ClientError, DEFAULT_SERVER};

/// How long a shell waits for names.
const PATIENCE: Duration = Duration::from_millis(1500);
/// Names that are offered.
const MOST: u32 = 1000;

/// What names are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Noun {
    Answers,
    Image,
    Label,
    Loader,
    Machine,
    Menu,
    Newcomer,
    Proposal,
    Rack,
    Rule,
    Subnet,
    Webhook,
}

impl Noun {
    /// The noun of the command that is being completed.
    fn of_command() -> Option<Self> {
        let words: Vec<String> = std::env::args().skip_while(|word| word != "--").skip(2).collect();
        let verb = words.get(1).map(String::as_str);
        Some(match words.iter().find(|word| !word.starts_with('-'))?.as_str() {
            "machine" if verb == Some("adopt") => Self::Newcomer,
            "machine" | "install" | "plan" | "trace" | "wait" => Self::Machine,
            "answers" => Self::Answers,
            "image" => Self::Image,
            "label" => Self::Label,
            "loader" => Self::Loader,
            "menu" => Self::Menu,
            "proposal" => Self::Proposal,
            "rack" => Self::Rack,
            "rule" => Self::Rule,
            "subnet" => Self::Subnet,
            "webhook" => Self::Webhook,
            _ => return None,
        })
    }

    async fn names(self, client: &Client, begin: &str) -> Result<Vec<String>, ClientError> {
        Ok(match self {
            Self::Answers => client.answers_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Image => client.images_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Label => client.labels_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Loader => client.loaders_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Menu => client.menus_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Newcomer => client.traces_newcomers().await?.into_iter().map(|one| one.mac).collect(),
            Self::Proposal => client.proposals_list().await?.into_iter().map(|one| one.who).collect(),
            Self::Rack => client.racks_list().await?.into_iter().map(|one| one.rack).collect(),
            Self::Rule => client.rules_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Subnet => client.subnets_list().await?.into_iter().map(|one| one.subnet.name).collect(),
            Self::Webhook => client.webhooks_list().await?.into_iter().map(|one| one.name).collect(),
            Self::Machine => {
                let text = (!begin.is_empty()).then(|| begin.to_owned());
                let query = MachinesListQuery {
                    text,
                    limit: Some(MOST),
                    sort: Some(MachineSort::Name),
                    ..MachinesListQuery::default()
                };
                client.machines_list(&query).await?.machines.into_iter().map(|one| one.name).collect()
            }
        })
    }
}

fn candidates(noun: Option<Noun>, begin: &OsStr) -> Vec<CompletionCandidate> {
    let (Some(noun), Some(begin)) = (noun, begin.to_str()) else { return Vec::new() };
    let server = std::env::var("LASTMILE_SERVER").unwrap_or_else(|_| DEFAULT_SERVER.into());
    let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else {
        return Vec::new();
    };
    let names = runtime.block_on(async {
        let client = Client::new(&server, "completion").ok()?;
        tokio::time::timeout(PATIENCE, noun.names(&client, begin)).await.ok()?.ok()
    });
    let names = names.unwrap_or_default().into_iter().filter(|name| name.starts_with(begin));
    names.map(CompletionCandidate::new).collect()
}

/// Names of what the command is about.
pub(crate) fn names() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Noun::of_command(), begin))
}

/// Names of images.
pub(crate) fn images() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Some(Noun::Image), begin))
}

/// Names of answers.
pub(crate) fn answers() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Some(Noun::Answers), begin))
}

/// Names of labels.
pub(crate) fn labels() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Some(Noun::Label), begin))
}

/// Names of machines.
pub(crate) fn machines() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Some(Noun::Machine), begin))
}

/// Names of menus.
pub(crate) fn menus() -> ArgValueCompleter {
    ArgValueCompleter::new(|begin: &OsStr| candidates(Some(Noun::Menu), begin))
}
