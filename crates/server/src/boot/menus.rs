//! The menu of the machine that asks, and what follows when somebody picked a line of it.

use std::{collections::BTreeMap, net::IpAddr, sync::Arc};

use lastmile_core::{
    decide::{
        boot::{
            Action, Picked, Screen, Viewer, WAIT_KEY, Why, answered_line, menu_shown, picked as picked_entry,
            picked_line, plan, plan_for_newcomer, render, render_picked, screen_for, screen_of_menu,
            survey_line,
        },
        install::{ArmRequest, Evidence},
        subnet::Identity,
    },
    model::{
        agent::AgentToken,
        install::Install,
        job::Task,
        loader::{HttpReach, Language, Reader},
        machine::Machine,
        menu::After,
        service::Service,
        subnet::Subnet,
    },
    report::trace::{Decision, Role},
    site::Site,
};
use lastmile_formats::mac::Mac;

use super::{
    Parts, Refusal, Served,
    files::{Follows, Media, RequestKind},
};
use crate::{clock, installs::ArmError, library::Content};

/// Everything that is known of who asks.
struct Asking<'a> {
    site: &'a Site,
    mac: Mac,
    /// Whether it is the machine that has that MAC address, if one is registered.
    is_known: bool,
    subnet: Option<Arc<Subnet>>,
    address: Option<std::net::Ipv4Addr>,
    service: Service,
    /// What the survey's agent shows itself by; nothing where only people look.
    agent_token: Option<String>,
}

impl<'a> Asking<'a> {
    fn new(parts: &Parts, site: &'a Site, mac: Mac, address: IpAddr) -> Self {
        let from = match address {
            IpAddr::V4(v4) => Some(v4),
            IpAddr::V6(_) => None,
        };
        let macs = site.machine_by_mac(mac).map_or_else(|| vec![mac], |machine| machine.macs.clone());
        let subnet = parts.wire.subnet_of(site, &macs, from);
        let service = parts.wire.service_for(subnet.as_deref());
        let address = match address {
            IpAddr::V4(v4) if !v4.is_loopback() => Some(v4),
            _ => parts.wire.address_of_macs(site, &macs),
        };
        Self { site, mac, is_known: true, subnet, address, service, agent_token: None }
    }

    /// Who asks is the machine itself: it gets what people do not see.
    fn by_machine(self, parts: &Parts) -> Self {
        let token = AgentToken { mac: self.mac, given: clock::now() };
        Self { agent_token: Some(token.write(&parts.records.agent_key)), ..self }
    }

    fn viewer<'b>(&'b self, parts: &Parts) -> Viewer<'b>
    where
        'a: 'b,
    {
        Viewer {
            site: self.site,
            machine: self.site.machine_by_mac(self.mac).filter(|_| self.is_known).map(AsRef::as_ref),
            mac: self.mac,
            subnet: self.subnet.as_deref(),
            address: self.address,
            architecture: parts.wire.architecture_of(self.site, self.mac),
            service: self.service,
            agent_token: self.agent_token.as_deref(),
        }
    }
}

/// The menu of a machine in a loader's language; that of an unknown machine for whoever asks in the name of another.
pub(super) async fn menu(
    parts: &Parts,
    mac: Mac,
    address: IpAddr,
    language: Language,
    request_kind: RequestKind<'_>,
) -> Served {
    let identity = parts.wire.identify(&parts.records.site(), mac, address);
    if !identity.is_own() {
        return menu_of_stranger(parts, mac, address, language, identity);
    }
    // A start of a live host begins its record here: what is decided below gives its token away.
    if !request_kind.head {
        parts.records.begin_start(mac).await;
    }
    let site = &*parts.records.site();
    let asking = Asking::new(parts, site, mac, address).by_machine(parts);
    let plan = plan(site, mac, asking.subnet.as_deref());
    let screen = screen_for(&plan, &asking.viewer(parts));
    let reader = Reader { language, ..reader(parts, site, mac) };
    let text = render(&screen, asking.service, reader);
    let follows = match plan.why {
        Why::Armed(install) => Some(Follows::Evidence(install.machine, Evidence::Menu)),
        Why::Unanswered(install) => Some(Follows::Evidence(install.machine, Evidence::Waits)),
        Why::Looping(install) => Some(Follows::Stall(install.machine)),
        Why::JobLooping(job) => Some(Follows::StallJob(job.number)),
        _ => None,
    };
    Served { follows, decision: Some(Decision::from(&plan)), ..served(text, mac, "menu".into()) }
}

/// What an unknown machine gets on the subnet of `address`, noted in the traces of both machines.
fn menu_of_stranger(
    parts: &Parts,
    mac: Mac,
    address: IpAddr,
    language: Language,
    identity: Identity,
) -> Served {
    let site = &*parts.records.site();
    let asking = Asking { is_known: false, ..Asking::new(parts, site, mac, address) };
    let plan = plan_for_newcomer(site, mac, asking.subnet.as_deref());
    let screen = screen_for(&plan, &asking.viewer(parts));
    let text = render(&screen, asking.service, Reader { language, ..reader(parts, site, mac) });
    let (whose, owner) = whose(site, identity);
    let name = site.machine_by_mac(mac).map_or_else(|| mac.to_string(), |machine| machine.name.clone());
    let what = format!("menu of an unknown machine: {address} asked in the name of {name}, {whose}");
    tracing::debug!(%mac, %address, "{what}");
    Served { also: owner, decision: Some(Decision::from(&plan)), ..served(text, mac, what) }
}

/// Why a request is not taken for a machine's own, and whose address it came from.
pub(super) fn whose(site: &Site, identity: Identity) -> (String, Option<Mac>) {
    match identity {
        Identity::Own | Identity::Claims => ("which it is".into(), None),
        Identity::Others { owner } => {
            let other = site.machine_by_mac(owner);
            (format!("and is {}", other.map_or_else(|| owner.to_string(), |other| other.name.clone())), Some(owner))
        }
        Identity::ClaimedBy { first } => (format!("which {first} did first in this boot"), None),
        Identity::Unknown => (
            "and is not known to be its address; where addresses cannot be known, set the subnet's identify to first-claim"
                .into(),
            None,
        ),
    }
}

fn served(text: String, mac: Mac, what: String) -> Served {
    Served {
        content: Content::Made(text.into()),
        media: Media::Text,
        revision: None,
        mac: Some(mac),
        also: None,
        follows: None,
        role: Role::Menu,
        what,
        decision: None,
    }
}

/// A line that somebody picked at the machine.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pick<'a> {
    pub(super) mac: Mac,
    pub(super) address: IpAddr,
    pub(super) key: &'a str,
    pub(super) language: Language,
}

/// What a line starts that somebody picked at the machine. It may arm an install: so only the machine itself may ask,
/// and only for the whole of it.
pub(super) async fn picked(
    parts: &Parts,
    site: &Site,
    pick: Pick<'_>,
    request_kind: RequestKind<'_>,
) -> Result<Served, Refusal> {
    let Pick { mac, address, key, language } = pick;
    if !parts.wire.identify(site, mac, address).is_own() {
        return Err(Refusal::OtherMachine { address });
    }
    let asking = Asking::new(parts, site, mac, address).by_machine(parts);
    let viewer = asking.viewer(parts);
    if key == WAIT_KEY {
        return Ok(waited(parts, site, &asking, pick));
    }
    let nothing = || Refusal::NotFound { path: key.into(), nearest: None, optional: false };
    let menu = menu_shown(site, mac, asking.subnet.as_deref()).ok_or_else(nothing)?;
    let screen = screen_of_menu(menu, "picked", &viewer);
    let line = screen.line(key).ok_or_else(nothing)?;
    // The loaders of the other languages ask for the phrase themselves, and for this path only after.
    if let Some(guard) = line.guard.as_ref().filter(|_| language == Language::Script)
        && !request_kind.phrase.is_some_and(|phrase| guard.opens(phrase))
    {
        return Err(Refusal::Phrase);
    }
    let reader = Reader { language, ..reader(parts, site, mac) };
    let what = format!("what '{}' starts", line.title);
    let (entry, image, answers) = match picked_entry(menu, site, key) {
        Some(Picked::Install { entry, image, answers }) => (entry, image, answers),
        Some(Picked::BurnIn(burn_in)) => {
            if request_kind.head {
                return Err(Refusal::NotArmed("only its size was asked for".into()));
            }
            survey_line(&viewer).map_err(Refusal::NotArmed)?;
            let job = parts.records.arm_picked(mac, Task::BurnIn(burn_in.clone())).await;
            let job = job.map_err(|error| Refusal::NotArmed(error.to_string()))?;
            // A token that is given after the job was armed: the machine is started for it.
            let asking = Asking::new(parts, site, mac, address).by_machine(parts);
            let action = survey_line(&asking.viewer(parts)).map_err(Refusal::NotArmed)?;
            let text = render_picked(&action, screen.after, asking.service, reader);
            return Ok(served(text, mac, format!("{what}: {}", job.title())));
        }
        None => {
            let text = render_picked(&line.action, screen.after, asking.service, reader);
            return Ok(served(text, mac, what));
        }
    };
    let (Some(machine), Some(image)) = (viewer.machine, site.image(image)) else { return Err(nothing()) };
    if request_kind.head {
        return Err(Refusal::NotArmed("only its size was asked for".into()));
    }
    let install = armed(parts, machine, &image.name, answers).await?;
    let action = picked_line(&viewer, image, &install, entry);
    let text = render_picked(&action, screen.after, asking.service, reader);
    let follows = Some(Follows::Evidence(machine.id, Evidence::Menu));
    Ok(Served { follows, ..served(text, mac, what) })
}

/// What a machine that waits gets each time that it asks: nothing to do, or what it waited for.
fn waited(parts: &Parts, site: &Site, asking: &Asking<'_>, pick: Pick<'_>) -> Served {
    let Pick { mac, language, .. } = pick;
    let viewer = asking.viewer(parts);
    let decided = plan(site, mac, asking.subnet.as_deref());
    let text = match &decided.action {
        Action::Install { install, revision, .. } => {
            let action = answered_line(&viewer, revision, install);
            let reader = Reader { language, ..reader(parts, site, mac) };
            render_picked(&action, After::Menu, asking.service, reader)
        }
        _ => format!("# {}\n", decided.why),
    };
    let machine = site.machine_by_mac(mac).filter(|_| matches!(decided.action, Action::Install { .. }));
    let follows = machine.map(|machine| Follows::Evidence(machine.id, Evidence::Menu));
    Served { follows, ..served(text, mac, "whether there is more to wait for".into()) }
}

/// The install that picking a line leads to: the one that is armed already, if it is of the same image and answers.
async fn armed(parts: &Parts, machine: &Machine, image: &str, answers: &str) -> Result<Install, Refusal> {
    let site = parts.records.site();
    if let Some(open) =
        site.open_install(machine.id).filter(|open| open.image == image && open.answers_name == answers)
    {
        return Ok((**open).clone());
    }
    let request = ArmRequest {
        machine: machine.name.clone(),
        image: image.into(),
        answers: answers.into(),
        asked: BTreeMap::new(),
    };
    parts.records.arm(request, "somebody at the machine").await.map_err(|error| match error {
        ArmError::Faults(faults) => {
            Refusal::NotArmed(faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "))
        }
        ArmError::Store(error) => Refusal::NotArmed(error.to_string()),
    })
}

/// How texts must be written for the loader of a machine. While it is not known what firmware the machine has, the
/// weakest of the loaders counts.
pub(crate) fn reader(parts: &Parts, site: &Site, mac: Mac) -> Reader {
    if let Some(loader) = parts.wire.loader_of(site, mac) {
        return loader.reader();
    }
    let strength = |reader: &Reader| match reader.http {
        HttpReach::None => 0,
        HttpReach::Port80 => 1,
        HttpReach::AnyPort => 2,
    };
    let weakest = site.loaders().map(|loader| loader.reader()).min_by_key(strength);
    weakest.unwrap_or(Reader { language: Language::Grub, http: HttpReach::None, boxed: false })
}

/// What a machine would see, and how it is written for its loader: for those who ask before it boots.
pub(crate) fn preview(parts: &Parts, site: &Site, machine: &Machine, mac: Mac) -> (Screen, String) {
    let address = parts.wire.address_of(site, machine).map_or(IpAddr::from([0, 0, 0, 0]), IpAddr::V4);
    let asking = Asking::new(parts, site, mac, address);
    let plan = plan(site, mac, asking.subnet.as_deref());
    let screen = screen_for(&plan, &asking.viewer(parts));
    let text = render(&screen, asking.service, reader(parts, site, mac));
    (screen, text)
}
