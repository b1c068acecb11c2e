//! What the person at the machine sees, before it is written in a loader's language.

use std::{net::Ipv4Addr, time::Duration};

use super::{Action, BootPlan, boot_path, paths::path_mac};
use crate::{
    image::{Family, Revision},
    install::{ReportStage, Token},
    machine::Machine,
    net::{HttpBoot, Mac},
};

/// Time to read what is about to happen, and to choose otherwise.
const READING_TIME: Duration = Duration::from_secs(5);

/// Where machines reach the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Service {
    /// Its address.
    pub address: Ipv4Addr,
    /// Port of the boot listener.
    pub http_port: u16,
    /// Port of the boot listener by HTTPS, if there is one.
    pub https_port: Option<u16>,
}

impl Service {
    /// The boot listener's URL without a closing `/`; port 80 is left out.
    #[must_use]
    pub fn http_base(&self) -> String {
        match self.http_port {
            80 => format!("http://{}", self.address),
            port => format!("http://{}:{port}", self.address),
        }
    }

    /// The URL of a path below the boot listener; by plain HTTP where no HTTPS is there.
    #[must_use]
    pub fn url(&self, scheme: HttpBoot, path: &str) -> String {
        match (scheme, self.https_port) {
            (HttpBoot::Https, Some(443)) => format!("https://{}/{path}", self.address),
            (HttpBoot::Https, Some(port)) => format!("https://{}:{port}/{path}", self.address),
            _ => format!("{}/{path}", self.http_base()),
        }
    }

    /// Where the installer fetches its answer file.
    #[must_use]
    pub fn answers_url(&self, token: &Token, file: &str) -> String {
        format!("{}/answers/{}/{file}", self.http_base(), token.reveal())
    }

    /// Where the machine reports by a plain GET.
    #[must_use]
    pub fn report_url(&self, token: &Token, stage: ReportStage) -> String {
        format!("{}/{stage}", self.report_base(token))
    }

    /// The folder of its reports, without a closing `/`.
    #[must_use]
    pub fn report_base(&self, token: &Token) -> String {
        format!("{}/report/{}", self.http_base(), token.reveal())
    }
}

/// A kernel to start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KernelBoot {
    /// Path of the kernel on the service.
    pub kernel: String,
    /// Paths of the initrds.
    pub initrds: Vec<String>,
    /// The kernel's parameters, word by word.
    pub parameters: Vec<String>,
}

/// What choosing an entry does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryAction {
    /// Starts a kernel.
    Kernel(KernelBoot),
    /// Starts from the machine's disk.
    LocalDisk,
    /// Opens the firmware's set-up.
    FirmwareSetup,
    /// Restarts.
    Restart,
    /// Switches off.
    PowerOff,
}

/// One line of the menu.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What the line says.
    pub title: String,
    /// What choosing it does.
    pub action: EntryAction,
}

/// A menu.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Menu {
    /// Why this machine gets it: shown as a comment in the loader's text.
    pub why: String,
    /// The lines. The first is the default.
    pub entries: Vec<Entry>,
    /// Time until the default starts; `None` waits for a person.
    pub timeout: Option<Duration>,
}

/// The menu of a machine under its plan.
#[must_use]
pub fn menu_for(plan: &BootPlan<'_>, machine: Option<&Machine>, mac: Mac, service: Service) -> Menu {
    let mac = path_mac(machine, mac);
    let mut entries = Vec::new();
    let mut timeout = Some(READING_TIME);
    let entry = |title: &str, action| Entry { title: title.into(), action };
    match &plan.action {
        Action::Install { install, revision, .. } => entries.push(Entry {
            title: format!("Install {} on {}", install.image_title, install.machine_name),
            action: EntryAction::Kernel(KernelBoot {
                parameters: installer_parameters(revision, &install.machine_name, &install.token, service),
                ..kernel_boot(revision, mac)
            }),
        }),
        Action::Live(image) => entries.push(Entry {
            title: image.title.clone(),
            action: EntryAction::Kernel(kernel_boot(&image.current, mac)),
        }),
        Action::Menu => timeout = None,
        Action::LocalDisk | Action::Nothing => {}
    }
    entries.push(entry("Start from the local disk", EntryAction::LocalDisk));
    entries.push(entry("Firmware set-up", EntryAction::FirmwareSetup));
    entries.push(entry("Restart", EntryAction::Restart));
    entries.push(entry("Power off", EntryAction::PowerOff));
    Menu { why: plan.why.to_string(), entries, timeout }
}

fn kernel_boot(revision: &Revision, mac: Mac) -> KernelBoot {
    let path = |file: &str| boot_path(mac, &revision.image_name, revision.number, file);
    KernelBoot {
        kernel: path(&revision.kernel),
        initrds: revision.initrds.iter().map(|file| path(file)).collect(),
        parameters: revision.parameters.clone(),
    }
}

/// The parameters that make an installer run without a person, then the image's own: the image's come
/// last because of two values of one parameter the last counts.
fn installer_parameters(
    revision: &Revision,
    host_name: &str,
    token: &Token,
    service: Service,
) -> Vec<String> {
    let mut words = match revision.family {
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
        // An installer of a kind of its own: whoever made it reports below this address, `…/done` at the end.
        Family::None => vec![format!("lastmile.report={}", service.report_base(token))],
    };
    words.extend(revision.parameters.iter().cloned());
    words
}

impl BootPlan<'_> {
    /// Whether firmware is given a loader at all.
    #[must_use]
    pub const fn boots(&self) -> bool {
        !matches!(self.action, Action::Nothing)
    }
}
