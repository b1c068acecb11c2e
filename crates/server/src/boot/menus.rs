//! The menu of the machine that asks, and what follows when somebody picked a line of it.

use std::{collections::BTreeMap, net::IpAddr, sync::Arc};

use lastmile_core::{
    boot::{
        Action, After, HttpReach, Language, Reader, Screen, Service, Viewer, WAIT_KEY, Why, answered_line,
        menu_shown, picked as picked_entry, picked_line, plan, render, render_picked, screen_for,
        screen_of_menu,
    },
    dhcp::ClientKey,
    install::{ArmRequest, Evidence, Install},
    machine::Machine,
    net::{Mac, Subnet},
    site::Site,
    trace::{Decision, Role},
};

use super::{
    Refusal, Served,
    files::{Manner, Media},
};
use crate::{content::Content, installs::ArmError, state::App};

/// Everything that is known of who asks.
struct Asking<'a> {
    site: &'a Site,
    mac: Mac,
    subnet: Option<Arc<Subnet>>,
    address: Option<std::net::Ipv4Addr>,
    service: Service,
}

impl<'a> Asking<'a> {
    fn new(app: &App, site: &'a Site, mac: Mac, address: IpAddr) -> Self {
        let subnet = subnet_of(app, site, mac, address);
        let service = app.service_for(subnet.as_deref());
        let address = match address {
            IpAddr::V4(v4) if !v4.is_loopback() => Some(v4),
            _ => lease_of(app, site, mac),
        };
        Self { site, mac, subnet, address, service }
    }

    fn viewer<'b>(&'b self, app: &App) -> Viewer<'b>
    where
        'a: 'b,
    {
        Viewer {
            site: self.site,
            machine: self.site.machine_by_mac(self.mac).map(AsRef::as_ref),
            mac: self.mac,
            subnet: self.subnet.as_deref(),
            address: self.address,
            architecture: app.architecture_of(self.site, self.mac),
            service: self.service,
        }
    }
}

/// The menu of a machine in a loader's language.
pub(super) async fn menu(app: &App, mac: Mac, address: IpAddr, language: Language) -> Served {
    app.begin_start(mac).await;
    let site = &*app.site();
    let asking = Asking::new(app, site, mac, address);
    let plan = plan(site, mac, asking.subnet.as_deref());
    if let Why::Looping(install) = plan.why {
        app.stall(install.machine).await;
    }
    let screen = screen_for(&plan, &asking.viewer(app));
    let reader = Reader { language, ..reader(app, site, mac) };
    let text = render(&screen, asking.service, reader);
    let evidence = match plan.why {
        Why::Armed(_) => Some(Evidence::Menu),
        Why::Unanswered(_) => Some(Evidence::Waits),
        _ => None,
    };
    let machine = site.machine_by_mac(mac);
    Served {
        evidence: machine.and_then(|machine| Some((machine.id, evidence?))),
        decision: Some(Decision::from(&plan)),
        ..served(text, mac, "menu".into())
    }
}

fn served(text: String, mac: Mac, what: String) -> Served {
    Served {
        content: Content::Made(text.into()),
        media: Media::Text,
        revision: None,
        mac: Some(mac),
        evidence: None,
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
    app: &App,
    site: &Site,
    pick: Pick<'_>,
    manner: Manner<'_>,
) -> Result<Served, Refusal> {
    let Pick { mac, address, key, language } = pick;
    if !is_own(app, site, mac, address) {
        return Err(Refusal::OtherMachine { address });
    }
    let asking = Asking::new(app, site, mac, address);
    let viewer = asking.viewer(app);
    if key == WAIT_KEY {
        return Ok(waited(app, site, &asking, pick));
    }
    let nothing = || Refusal::NotFound { path: key.into(), nearest: None, optional: false };
    let menu = menu_shown(site, mac, asking.subnet.as_deref()).ok_or_else(nothing)?;
    let screen = screen_of_menu(menu, "picked", &viewer);
    let line = screen.line(key).ok_or_else(nothing)?;
    // The loaders of the other languages ask for the phrase themselves, and for this path only after.
    if let Some(guard) = line.guard.as_ref().filter(|_| language == Language::Script)
        && !manner.phrase.is_some_and(|phrase| guard.opens(phrase))
    {
        return Err(Refusal::Phrase);
    }
    let reader = Reader { language, ..reader(app, site, mac) };
    let what = format!("what '{}' starts", line.title);
    let Some((entry, image, answers)) = picked_entry(menu, site, key) else {
        let text = render_picked(&line.action, screen.after, asking.service, reader);
        return Ok(served(text, mac, what));
    };
    let (Some(machine), Some(image)) = (viewer.machine, site.image(image)) else { return Err(nothing()) };
    if manner.head {
        return Err(Refusal::NotArmed("only its size was asked for".into()));
    }
    let install = armed(app, machine, &image.name, answers).await?;
    let action = picked_line(&viewer, image, &install, entry);
    let text = render_picked(&action, screen.after, asking.service, reader);
    Ok(Served { evidence: Some((machine.id, Evidence::Menu)), ..served(text, mac, what) })
}

/// What a machine that waits gets each time that it asks: nothing to do, or what it waited for.
fn waited(app: &App, site: &Site, asking: &Asking<'_>, pick: Pick<'_>) -> Served {
    let Pick { mac, language, .. } = pick;
    let viewer = asking.viewer(app);
    let decided = plan(site, mac, asking.subnet.as_deref());
    let text = match &decided.action {
        Action::Install { install, revision, .. } => {
            let action = answered_line(&viewer, revision, install);
            let reader = Reader { language, ..reader(app, site, mac) };
            render_picked(&action, After::Menu, asking.service, reader)
        }
        _ => format!("# {}\n", decided.why),
    };
    let machine = site.machine_by_mac(mac).filter(|_| matches!(decided.action, Action::Install { .. }));
    let evidence = machine.map(|machine| (machine.id, Evidence::Menu));
    Served { evidence, ..served(text, mac, "whether there is more to wait for".into()) }
}

/// Whether the machine with `mac` has that address. The service's own host is let through: simulated machines speak
/// from the loopback, and whoever is on this host can write the database anyway.
pub(super) fn is_own(app: &App, site: &Site, mac: Mac, address: IpAddr) -> bool {
    if address.is_loopback() {
        return true;
    }
    let IpAddr::V4(v4) = address else { return false };
    let machine = site.machine_by_mac(mac).map(|machine| machine.id);
    app.mac_of(v4).is_some_and(|holder| {
        holder == mac || machine.is_some() && site.machine_by_mac(holder).map(|machine| machine.id) == machine
    })
}

/// The install that picking a line leads to: the one that is armed already, if it is of the same image and answers.
async fn armed(app: &App, machine: &Machine, image: &str, answers: &str) -> Result<Install, Refusal> {
    let site = app.site();
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
    app.arm(&request, "somebody at the machine").await.map_err(|error| match error {
        ArmError::Faults(faults) => {
            Refusal::NotArmed(faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "))
        }
        ArmError::Store(error) => Refusal::NotArmed(error.to_string()),
    })
}

/// The subnet that a machine boots on: where it has or had an address of ours, else the one that holds the address
/// it asks from.
fn subnet_of(app: &App, site: &Site, mac: Mac, address: IpAddr) -> Option<Arc<Subnet>> {
    let of_lease = {
        let book = app.book();
        let key = ClientKey::Mac(mac);
        site.subnets().find(|subnet| book.of_client(subnet.id, &key).is_some()).cloned()
    };
    let IpAddr::V4(address) = address else { return of_lease };
    of_lease.or_else(|| site.subnets().find(|subnet| subnet.network.contains(&address)).cloned())
}

/// The address that a machine was lent.
pub(crate) fn lease_of(app: &App, site: &Site, mac: Mac) -> Option<std::net::Ipv4Addr> {
    let book = app.book();
    let key = ClientKey::Mac(mac);
    site.subnets().find_map(|subnet| book.of_client(subnet.id, &key)).map(|record| record.address)
}

/// How texts must be written for the loader of a machine. While it is not known what firmware the machine has, the
/// weakest of the loaders counts.
pub(crate) fn reader(app: &App, site: &Site, mac: Mac) -> Reader {
    if let Some(loader) = app.loader_of(site, mac) {
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
pub(crate) fn preview(app: &App, site: &Site, machine: &Machine, mac: Mac) -> (Screen, String) {
    let address = lease_of(app, site, mac).map_or(IpAddr::from([0, 0, 0, 0]), IpAddr::V4);
    let asking = Asking::new(app, site, mac, address);
    let subnet = app.subnet_of(site, machine);
    let plan = plan(site, mac, subnet.as_deref());
    let screen = screen_for(&plan, &asking.viewer(app));
    let text = render(&screen, asking.service, reader(app, site, mac));
    (screen, text)
}
