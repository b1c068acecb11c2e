//! From the boot plan to the screen of one machine.

use std::{collections::BTreeMap, net::Ipv4Addr, time::Duration};

use lastmile_formats::{architecture::Architecture, cpu::Cpu, mac::Mac};

use super::{
    Action, BootPlan, KernelBoot, LeftOut, Line, LineAction, Screen, boot_path, iso_path, merge,
    paths::path_mac, pick_path,
};
use crate::{
    model::{
        image::{Family, Image, ImageKind, Revision, Start},
        install::Install,
        job::BurnIn,
        machine::Machine,
        menu::{After, Menu, MenuAction, MenuEntry},
        parameter::{Origin, Parameter, Said},
        service::Service,
        subnet::Subnet,
        values::{Bound, Values},
    },
    site::Site,
};

/// Time to read what is about to happen, and to choose otherwise.
const READING_TIME: Duration = Duration::from_secs(5);
/// Between two questions whether what is waited for is there. Menus that wait start their first line after it, which in
/// most languages reads the menu anew.
pub(super) const AGAIN: Duration = Duration::from_secs(10);
/// Key of the line that waits for answers.
pub const WAIT_KEY: &str = "wait";
/// What stands for a secret where people look.
const HIDDEN: &str = "(given-at-boot)";
/// Menus within menus that are followed.
const MOST_DEPTH: usize = 6;

/// Who a screen is for.
#[derive(Debug, Clone, Copy)]
pub struct Viewer<'a> {
    /// The site it is of.
    pub site: &'a Site,
    /// The machine, if somebody registered it.
    pub machine: Option<&'a Machine>,
    /// The address it boots from.
    pub mac: Mac,
    /// The subnet it boots on.
    pub subnet: Option<&'a Subnet>,
    /// The address lent to it.
    pub address: Option<Ipv4Addr>,
    /// Its firmware, where that is known.
    pub architecture: Option<Architecture>,
    /// Where it reaches the service.
    pub service: Service,
    /// The token that the survey's agent is given; nothing where only people look.
    pub agent_token: Option<&'a str>,
}

impl Viewer<'_> {
    /// The address that stands in the paths it is given.
    fn path_mac(&self) -> Mac {
        path_mac(self.machine, self.mac)
    }

    /// The values that texts and conditions may name, on the way to `revision` if there is one.
    #[must_use]
    pub fn values(&self, revision: Option<&Revision>) -> Values {
        let url = |path: String| format!("{}/{path}", self.service.http_base());
        let mac = self.path_mac();
        let folder = |revision: &Revision| {
            url(boot_path(mac, &revision.image_name, revision.number, "")).trim_end_matches('/').to_owned()
        };
        Values {
            is_example: false,
            name: self.machine.map_or_else(|| self.mac.dashed(), |machine| machine.name.clone()),
            mac: Some(self.mac),
            address: self.address,
            netmask: self.subnet.map(|subnet| subnet.network.netmask()),
            router: self.subnet.and_then(|subnet| subnet.router),
            dns: self.subnet.and_then(|subnet| subnet.dns.first().copied()),
            domain: self.subnet.and_then(|subnet| subnet.domain.clone()),
            vlan: self.subnet.and_then(|subnet| subnet.vlan),
            architecture: self.architecture,
            labels: self.machine.map(|machine| machine.labels.clone()).unwrap_or_default(),
            details: self.machine.map(|machine| machine.details.clone()).unwrap_or_default(),
            service: self.service.address.to_string(),
            image_url: revision.map(folder),
            image_iso: revision
                .filter(|revision| revision.volume.is_some())
                .map(|revision| url(iso_path(mac, &revision.image_name, revision.number))),
            asked: Some(BTreeMap::new()),
        }
    }

    /// The parameters of a revision's kernel on this machine, merged in the order of [`Origin`].
    #[must_use]
    pub fn parameters(
        &self,
        revision: &Revision,
        install: Option<&Install>,
        entry: Said<'_>,
    ) -> Vec<Parameter> {
        let family = install
            .map(|install| family_words(revision, install, &self.host_name(install), self.service))
            .unwrap_or_default();
        let said = |words, without| Said { words, without };
        let mut levels = vec![
            (Origin::Family, said(&family, &[])),
            (Origin::Image, said(&revision.parameters, &revision.without_parameters)),
        ];
        let answers = install.and_then(|install| self.site.answers_version(install.answers));
        levels.extend(answers.map(|answers| {
            let settings = &answers.settings;
            (Origin::Answers, said(&settings.installer_parameters, &settings.without_installer_parameters))
        }));
        if let Some(machine) = self.machine {
            let labels = self.site.ranked(machine).into_iter().filter_map(|name| self.site.label(name));
            levels.extend(labels.map(|label| {
                (Origin::Label(label.name.clone()), said(&label.parameters, &label.without_parameters))
            }));
            levels.push((Origin::Machine, said(&machine.parameters, &machine.without_parameters)));
        }
        levels.push((Origin::Entry, entry));
        let of_agent = self.agent_words(revision);
        levels.push((Origin::Service, said(&of_agent, &[])));
        // A machine without values to put in is the common case, and the quick one.
        let templates = levels.iter().any(|(_, said)| said.words.iter().any(|word| word.contains('{')));
        let values = if templates { self.values(Some(revision)) } else { Values::default() };
        merge(levels, &values)
    }

    /// What the agent is told, if the revision is one of the survey.
    fn agent_words(&self, revision: &Revision) -> Vec<String> {
        if !self.site.image_by_id(revision.image).is_some_and(|image| image.kind == ImageKind::Survey) {
            return Vec::new();
        }
        let vlan = self.subnet.and_then(|subnet| subnet.vlan);
        let words = [
            Some(format!("lastmile.service={}", self.service.http_base())),
            Some(format!("lastmile.token={}", self.agent_token.unwrap_or(HIDDEN))),
            Some(format!("lastmile.mac={}", self.mac)),
            vlan.map(|vlan| format!("lastmile.vlan={vlan}")),
        ];
        words.into_iter().flatten().collect()
    }

    /// The host name that an install's answers give: an installer may need it before it reads them.
    fn host_name(&self, install: &Install) -> String {
        let layers = install.layers.iter().rev().filter_map(|id| self.site.answers_version(*id));
        let said = layers.filter_map(|layer| layer.settings.host_name.as_ref()).next();
        let filled = said.and_then(|text| {
            Values { asked: Some(install.asked.clone()), ..self.values(None) }.fill(text).ok()
        });
        filled.unwrap_or_else(|| install.machine_name.clone())
    }

    /// What starting a revision is.
    fn start(&self, revision: &Revision, install: Option<&Install>, entry: Said<'_>) -> LineAction {
        let mac = self.path_mac();
        let path = |file: &str| boot_path(mac, &revision.image_name, revision.number, file);
        match &revision.start {
            Start::Kernel { kernel, initrds } => LineAction::Kernel(KernelBoot {
                kernel: path(kernel),
                initrds: initrds.iter().map(|file| path(file)).collect(),
                parameters: self.parameters(revision, install, entry),
            }),
            Start::Program { path: program } => LineAction::Program(path(program)),
            Start::Disk { .. } => LineAction::Message(format!(
                "{} is a disk image: it is written, not started",
                revision.image_name
            )),
        }
    }

    /// Why a machine of this firmware cannot start a revision.
    fn unfit(&self, revision: &Revision) -> Option<String> {
        let architecture = self.architecture?;
        if !revision.runs_on(architecture.cpu()) {
            let cpu = revision.cpu.map(|cpu| cpu.as_str()).unwrap_or_default();
            return Some(format!("{} is for {cpu}, and the machine is {architecture}", revision.image_name));
        }
        let program = matches!(revision.start, Start::Program { .. });
        (program && !architecture.is_uefi()).then(|| {
            format!("{} is a UEFI application, and the machine is {architecture}", revision.image_name)
        })
    }
}

/// The screen of a machine under its plan.
#[must_use]
pub fn screen_for(plan: &BootPlan<'_>, viewer: &Viewer<'_>) -> Screen {
    let mut screen = Screen {
        why: plan.why.to_string(),
        title: String::new(),
        lines: Vec::new(),
        default: String::new(),
        timeout: Some(READING_TIME),
        silent: false,
        after: After::Menu,
        left_out: Vec::new(),
        architecture: viewer.architecture,
    };
    let mac = viewer.path_mac();
    let line = |key: &str, title: String, action| Line {
        key: key.into(),
        title,
        path: pick_path(mac, key),
        action,
        guard: None,
    };
    match &plan.action {
        Action::Install { install, revision, .. } => screen.lines.push(line(
            "install",
            format!(
                "{} {} on {}",
                if install.is_stateless { "Start" } else { "Install" },
                install.image_title,
                install.machine_name
            ),
            viewer.start(revision, Some(install), Said::default()),
        )),
        Action::Wait { install } => {
            let asks =
                install.open_questions.values().map(|question| question.text.as_str()).collect::<Vec<_>>();
            screen.title = format!("Install {} of {}", install.number, install.machine_name);
            screen.timeout = Some(AGAIN);
            screen.lines.push(line(
                WAIT_KEY,
                format!("Waiting for an answer to: {}", asks.join(" ")),
                LineAction::Again(mac),
            ));
        }
        Action::Live(image) => {
            screen.lines.push(line(
                "live",
                image.title.clone(),
                viewer.start(&image.current, None, Said::default()),
            ));
        }
        Action::Survey => screen.lines.push(match survey_line(viewer) {
            Ok(action) => line("survey", "Survey: measure this machine".into(), action),
            Err(why) => line("survey", "No survey for this machine".into(), LineAction::Message(why)),
        }),
        Action::Menu(Some(menu)) => {
            fill_from_menu(&mut screen, menu, viewer);
            return screen;
        }
        Action::Menu(None) => screen.timeout = None,
        Action::LocalDisk | Action::Nothing => {}
    }
    screen.lines.extend([
        line("local-disk", "Start from the local disk".into(), LineAction::LocalDisk),
        line("firmware-setup", "Firmware set-up".into(), LineAction::FirmwareSetup),
        line("restart", "Restart".into(), LineAction::Restart),
        line("power-off", "Power off".into(), LineAction::PowerOff),
    ]);
    screen.default = screen.lines[0].key.clone();
    screen
}

/// What starting the survey is on this machine.
///
/// # Errors
/// Why it cannot be started, in words.
pub fn survey_line(viewer: &Viewer<'_>) -> Result<LineAction, String> {
    let cpu = viewer.architecture.and_then(Architecture::cpu);
    let image = viewer.site.survey_image(cpu).ok_or_else(|| {
        let cpu = cpu.map_or("this", Cpu::as_str);
        format!("There is no image of kind survey for {cpu} processors: lastmile survey build makes one")
    })?;
    Ok(viewer.start(&image.current, None, Said::default()))
}

/// The screen of a machine that is shown `menu`, whatever its plan is: for previews.
#[must_use]
pub fn screen_of_menu(menu: &Menu, why: &str, viewer: &Viewer<'_>) -> Screen {
    let mut screen = Screen {
        why: why.into(),
        title: String::new(),
        lines: Vec::new(),
        default: String::new(),
        timeout: None,
        silent: false,
        after: menu.after,
        left_out: Vec::new(),
        architecture: viewer.architecture,
    };
    fill_from_menu(&mut screen, menu, viewer);
    screen
}

fn fill_from_menu(screen: &mut Screen, menu: &Menu, viewer: &Viewer<'_>) {
    let values = Bound::from(viewer.values(None));
    let title = menu.title.fill(&values);
    screen.title = title;
    screen.lines = lines(&menu.entries, &mut vec![&menu.name], "", viewer, &values, &mut screen.left_out);
    let there = |key: &&String| screen.lines.iter().any(|line| line.key == **key);
    let first_safe =
        || screen.lines.iter().find(|line| line.guard.is_none() && line.action != LineAction::Pick);
    let named = menu.default.as_ref().filter(there);
    // The named one may be left out on this machine: then nothing that erases takes its place.
    let default = named.cloned().or_else(|| first_safe().map(|line| line.key.clone()));
    let is_safe = default.is_some();
    screen.default = default.unwrap_or_default();
    screen.timeout = menu.timeout_secs.filter(|_| is_safe).map(|secs| Duration::from_secs(secs.into()));
    screen.silent = menu.silent && screen.timeout.is_some();
    screen.after = menu.after;
}

fn lines<'a>(
    entries: &'a [MenuEntry],
    above: &mut Vec<&'a str>,
    prefix: &str,
    viewer: &Viewer<'a>,
    values: &Bound,
    left_out: &mut Vec<LeftOut>,
) -> Vec<Line> {
    let mut shown = Vec::new();
    for entry in entries {
        let title = entry.title.fill(values);
        let key = if prefix.is_empty() { entry.key.clone() } else { format!("{prefix}.{}", entry.key) };
        if let Some(condition) = entry.shown_if.as_ref().filter(|condition| !condition.holds(values)) {
            left_out.push(LeftOut { title, why: format!("not so on this machine: {}", condition.as_str()) });
            continue;
        }
        let action = match &entry.action {
            MenuAction::Image { name, answers } => {
                match image_line(viewer, name, answers.as_deref(), entry.said()) {
                    Ok(action) => action,
                    Err(why) => {
                        left_out.push(LeftOut { title, why });
                        continue;
                    }
                }
            }
            MenuAction::NetworkDisk(root) => LineAction::NetworkDisk(root.clone()),
            MenuAction::LocalDisk => LineAction::LocalDisk,
            MenuAction::Survey | MenuAction::BurnIn(_) => match survey_line(viewer) {
                Ok(action) if entry.action == MenuAction::Survey => action,
                Ok(_) => LineAction::Pick,
                Err(why) => {
                    left_out.push(LeftOut { title, why });
                    continue;
                }
            },
            MenuAction::FirmwareSetup => LineAction::FirmwareSetup,
            MenuAction::Restart => LineAction::Restart,
            MenuAction::PowerOff => LineAction::PowerOff,
            MenuAction::Entries(inner) => {
                LineAction::Lines(lines(inner, above, &key, viewer, values, left_out))
            }
            MenuAction::Menu(name) => match viewer.site.menu(name) {
                Some(menu) if above.len() < MOST_DEPTH && !above.contains(&menu.name.as_str()) => {
                    above.push(&menu.name);
                    let inner = lines(&menu.entries, above, &key, viewer, values, left_out);
                    above.pop();
                    LineAction::Lines(inner)
                }
                _ => LineAction::Message(format!("menu {name} is gone")),
            },
        };
        if matches!(&action, LineAction::Lines(inner) if inner.is_empty()) {
            left_out.push(LeftOut { title, why: "none of its entries is for this machine".into() });
            continue;
        }
        let path = pick_path(viewer.path_mac(), &key);
        shown.push(Line { key, title, path, action, guard: entry.guard.clone() });
    }
    shown
}

/// What an entry that starts an image does on this machine; an error says why it is left out.
fn image_line(
    viewer: &Viewer<'_>,
    name: &str,
    answers: Option<&str>,
    parameters: Said<'_>,
) -> Result<LineAction, String> {
    let Some(image) = viewer.site.image(name) else {
        return Ok(LineAction::Message(format!("image {name} is gone")));
    };
    let revision = &image.current;
    if let Some(why) = viewer.unfit(revision) {
        return Err(why);
    }
    if !revision.is_ready() {
        return Ok(LineAction::Message(format!(
            "{} cannot start: {}",
            image.title,
            revision.lacking().join("; ")
        )));
    }
    match answers {
        Some(_) if viewer.machine.is_none() => {
            Ok(LineAction::Message("This machine is not registered: have it registered first".into()))
        }
        Some(_) => Ok(LineAction::Pick),
        None => Ok(viewer.start(revision, None, parameters)),
    }
}

/// What picking an entry asks for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Picked<'a> {
    /// An install of an image with answers.
    Install {
        /// The entry.
        entry: &'a MenuEntry,
        /// The image's name.
        image: &'a str,
        /// The answers' name.
        answers: &'a str,
    },
    /// A burn-in.
    BurnIn(&'a BurnIn),
}

/// What picking an entry asks for, if it asks for anything.
#[must_use]
pub fn picked<'a>(menu: &'a Menu, site: &'a Site, key: &str) -> Option<Picked<'a>> {
    fn find<'a>(site: &'a Site, entries: &'a [MenuEntry], path: &str, depth: usize) -> Option<&'a MenuEntry> {
        let (key, rest) = path.split_once('.').map_or((path, None), |(key, rest)| (key, Some(rest)));
        let entry = entries.iter().find(|entry| entry.key == key)?;
        match (rest, &entry.action) {
            (None, _) => Some(entry),
            (Some(rest), MenuAction::Entries(inner)) => find(site, inner, rest, depth),
            (Some(rest), MenuAction::Menu(name)) if depth < MOST_DEPTH => {
                find(site, &site.menu(name)?.entries, rest, depth + 1)
            }
            _ => None,
        }
    }
    let entry = find(site, &menu.entries, key, 0)?;
    match &entry.action {
        MenuAction::Image { name: image, answers: Some(answers) } => {
            Some(Picked::Install { entry, image, answers })
        }
        MenuAction::BurnIn(burn_in) => Some(Picked::BurnIn(burn_in)),
        _ => None,
    }
}

/// What is started when an install was armed by picking: that line alone.
#[must_use]
pub fn picked_line(viewer: &Viewer<'_>, image: &Image, install: &Install, entry: &MenuEntry) -> LineAction {
    debug_assert_eq!(image.kind, ImageKind::Installer);
    viewer.start(&image.current, Some(install), entry.said())
}

/// What is started when an install that waited for answers has them.
#[must_use]
pub fn answered_line(viewer: &Viewer<'_>, revision: &Revision, install: &Install) -> LineAction {
    viewer.start(revision, Some(install), Said::default())
}

/// The parameters that make an installer run without a person.
fn family_words(revision: &Revision, install: &Install, host_name: &str, service: Service) -> Vec<String> {
    let token = &install.token;
    match revision.family {
        // Debian installation guide, appendix B.2.2: `auto` puts off the questions that would come
        // before the network, so that the file can answer them.
        Family::Preseed => vec![
            "auto=true".into(),
            "priority=critical".into(),
            "interface=auto".into(),
            // A site without a way to the outside may have neither default route nor name server, and both are
            // asked about before the answer file can be fetched. What DHCP gives goes before these.
            "netcfg/no_default_route=true".into(),
            "netcfg/get_nameservers=".into(),
            format!("hostname={host_name}"),
            format!("url={}", service.answers_url(token, "preseed.cfg")),
        ],
        Family::Kickstart => vec![format!("inst.ks={}", service.answers_url(token, "ks.cfg"))],
        // The installer reads two files below this address (cloud-init, "NoCloud").
        Family::Autoinstall => {
            vec!["autoinstall".into(), format!("ds=nocloud-net;s={}", service.answers_url(token, ""))]
        }
        Family::CloudConfig => vec![format!("ds=nocloud-net;s={}", service.answers_url(token, ""))],
        // No kernel: the answers are found by the files that set-up loads.
        Family::UnattendedXml => Vec::new(),
        // An installer of a kind of its own: whoever made it reports below this address, `…/done` at the end.
        Family::None => vec![format!("lastmile.report={}", service.report_base(token))],
    }
}

impl BootPlan<'_> {
    /// Whether firmware is given a loader at all.
    #[must_use]
    pub const fn boots(&self) -> bool {
        !matches!(self.action, Action::Nothing)
    }
}
