//! Redfish (DSP0266, and the schema of ComputerSystem, DSP8010).
//!
//! A controller is known by its certificate, not by who signed that: most have one of their own making. [`Trust`] says which is taken.

mod tls;
mod web;

use std::net::SocketAddr;

use serde_json::{Value, json};
pub use tls::{Fingerprint, Trust};
use web::Web;

use crate::{Account, Driver, Failure, NextBoot, Power, Switch};

/// Where the service's root is (DSP0266, section 7.2), and the collection of systems within it.
const ROOT: &str = "/redfish/v1/";

/// A controller that speaks Redfish.
#[derive(Debug, Clone)]
pub struct Redfish {
    web: Web,
    /// Which of its systems, where it has several: by its identifier.
    system: Option<String>,
}

/// A system's resource: where it is, what it says, and which state of it that is.
struct System {
    path: String,
    body: Value,
    tag: Option<String>,
}

impl Redfish {
    /// The controller at an address, by one of its accounts. `is_plain` speaks HTTP, which sends passwords in clear: for tests, and for
    /// a network of their own.
    ///
    /// # Errors
    /// [`Failure::Unreachable`], where this host's TLS cannot be set up.
    pub fn new(
        address: SocketAddr,
        account: Account,
        trust: Trust,
        system: Option<String>,
        is_plain: bool,
    ) -> Result<Self, Failure> {
        Ok(Self { web: Web::new(address, account, trust, is_plain)?, system })
    }

    /// The certificate that it shows, to be looked at by whoever is to trust it.
    #[must_use]
    pub fn shown(&self) -> Option<Fingerprint> {
        self.web.shown()
    }

    async fn system(&self) -> Result<System, Failure> {
        let root = self.web.get(ROOT).await?.body;
        let systems =
            link(&root["Systems"]).ok_or_else(|| Failure::Unsupported("it has no systems".into()))?;
        let all = self.web.get(&systems).await?.body;
        let members: Vec<String> = all["Members"].as_array().into_iter().flatten().filter_map(link).collect();
        let is_it = |path: &&String| match &self.system {
            Some(name) => path.trim_end_matches('/').rsplit('/').next() == Some(name),
            None => true,
        };
        let mut fitting = members.iter().filter(is_it);
        let path = match (fitting.next(), fitting.next()) {
            (Some(path), None) => path.clone(),
            (Some(_), Some(_)) => {
                let names: Vec<&str> = members.iter().filter_map(|path| path.rsplit('/').next()).collect();
                let why = format!("it has several systems, and none is named: {}", names.join(", "));
                return Err(Failure::Unsupported(why));
            }
            (None, _) => return Err(Failure::Unsupported("it has no such system".into())),
        };
        let found = self.web.get(&path).await?;
        Ok(System { path, body: found.body, tag: found.tag })
    }
}

/// The path that a link leads to.
fn link(value: &Value) -> Option<String> {
    value["@odata.id"].as_str().filter(|path| path.starts_with('/')).map(str::to_owned)
}

impl System {
    fn power(&self) -> Result<Power, Failure> {
        // What is on its way to off is still on, and the other way round.
        match self.body["PowerState"].as_str() {
            Some("On" | "PoweringOff" | "Paused") => Ok(Power::On),
            Some("Off" | "PoweringOn") => Ok(Power::Off),
            other => Err(Failure::Garbled(format!("PowerState is {other:?}"))),
        }
    }

    /// Whether one of a property's values is allowed, as far as the controller says which are.
    fn allows(&self, place: &Value, property: &str, value: &str) -> bool {
        match place[format!("{property}@Redfish.AllowableValues")].as_array() {
            Some(all) => all.iter().any(|one| one == value),
            None => true,
        }
    }
}

/// What is booted, in Redfish's words (ComputerSystem, BootSource).
const TARGETS: [(NextBoot, &str); 5] = [
    (NextBoot::Network, "Pxe"),
    (NextBoot::Http, "UefiHttp"),
    (NextBoot::Disk, "Hdd"),
    (NextBoot::Disc, "Cd"),
    (NextBoot::Setup, "BiosSetup"),
];

impl Driver for Redfish {
    async fn power(&self) -> Result<Power, Failure> {
        self.system().await?.power()
    }

    async fn switch(&self, switch: Switch) -> Result<(), Failure> {
        let system = self.system().await?;
        let reset = &system.body["Actions"]["#ComputerSystem.Reset"];
        let target = reset["target"].as_str().filter(|path| path.starts_with('/'));
        let target = target.ok_or_else(|| Failure::Unsupported("it has no action to switch by".into()))?;
        let wished: &[&str] = match switch {
            Switch::On => &["On", "ForceOn"],
            Switch::Off => &["ForceOff"],
            Switch::ShutDown => &["GracefulShutdown", "PushPowerButton"],
            Switch::Cycle if system.power()? == Power::Off => &["On", "ForceOn"],
            Switch::Cycle => &["PowerCycle", "ForceRestart"],
        };
        let kind = wished.iter().find(|kind| system.allows(reset, "ResetType", kind));
        let kind =
            kind.ok_or_else(|| Failure::Unsupported(format!("it has none of {}", wished.join(", "))))?;
        self.web.post(target, &json!({ "ResetType": kind })).await
    }

    async fn boot_next(&self, next: Option<NextBoot>, is_uefi: bool) -> Result<(), Failure> {
        let system = self.system().await?;
        let boot = &system.body["Boot"];
        let Some(next) = next else {
            let nothing =
                json!({ "BootSourceOverrideEnabled": "Disabled", "BootSourceOverrideTarget": "None" });
            return self.web.patch(&system.path, system.tag.as_deref(), &json!({ "Boot": nothing })).await;
        };
        let target = TARGETS.iter().find(|(known, _)| *known == next).map_or("None", |(_, target)| target);
        if !system.allows(boot, "BootSourceOverrideTarget", target) {
            let all = boot["BootSourceOverrideTarget@Redfish.AllowableValues"].to_string();
            return Err(Failure::Unsupported(format!("it boots {all}, and not {target}")));
        }
        let mut wanted = json!({ "BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": target });
        // Some have one mode only, and refuse to be told of it.
        if boot["BootSourceOverrideMode"].is_string() {
            wanted["BootSourceOverrideMode"] = if is_uefi { "UEFI" } else { "Legacy" }.into();
        }
        self.web.patch(&system.path, system.tag.as_deref(), &json!({ "Boot": wanted })).await
    }

    async fn next_boot(&self) -> Result<Option<NextBoot>, Failure> {
        let system = self.system().await?;
        let boot = &system.body["Boot"];
        if boot["BootSourceOverrideEnabled"] == "Disabled" {
            return Ok(None);
        }
        let target = boot["BootSourceOverrideTarget"].as_str();
        Ok(TARGETS.iter().find(|(_, known)| Some(*known) == target).map(|(next, _)| *next))
    }
}
