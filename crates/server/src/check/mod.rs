//! Looks for what stands in the way of a boot, before a machine has to find it.

mod firewall;
mod host;
mod rules;
mod self_test;
mod servers;
mod site;
mod survey;

use std::time::Instant;

use lastmile_api::{CheckReport, Finding, Severity};
pub(crate) use servers::other_servers;

use crate::{app::App, clock, start::Listening};

/// The findings of a check in the making.
#[derive(Debug, Default)]
struct Findings(Vec<Finding>);

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Topic {
    Interface,
    Ports,
    Rights,
    OtherServers,
    Firewall,
    Subnets,
    Pools,
    Loaders,
    Files,
    Disk,
    Clock,
    Machines,
    Survey,
    Rules,
    SelfTest,
}

impl Topic {
    const fn as_str(self) -> &'static str {
        match self {
            Self::Interface => "interface",
            Self::Ports => "ports",
            Self::Rights => "rights",
            Self::OtherServers => "other servers",
            Self::Firewall => "firewall",
            Self::Subnets => "subnets",
            Self::Pools => "pools",
            Self::Loaders => "loaders",
            Self::Files => "files",
            Self::Disk => "disk",
            Self::Clock => "clock",
            Self::Machines => "machines",
            Self::Survey => "survey",
            Self::Rules => "rules",
            Self::SelfTest => "self-test",
        }
    }
}

impl Findings {
    fn add(
        &mut self,
        severity: Severity,
        topic: Topic,
        place: impl Into<String>,
        what: impl Into<String>,
        fix: impl Into<String>,
    ) {
        let (place, what, fix) = (place.into(), what.into(), fix.into());
        self.0.push(Finding { severity, topic: topic.as_str().into(), place, what, fix });
    }

    fn good(&mut self, topic: Topic, place: impl Into<String>, what: impl Into<String>) {
        self.add(Severity::Good, topic, place, what, "");
    }
}

/// Looks at everything.
pub(crate) async fn run(app: &App, listening: &Listening) -> CheckReport {
    let (at, began) = (clock::now(), Instant::now());
    let mut findings = Findings::default();
    host::interfaces(&mut findings, listening).await;
    host::ports(&mut findings, listening).await;
    host::rights(&mut findings, listening);
    firewall::look(&mut findings, listening).await;
    host::disk(&mut findings, app);
    host::clock(&mut findings, app).await;
    site::subnets(&mut findings, app, listening);
    site::pools(&mut findings, app);
    site::loaders(&mut findings, app);
    site::files(&mut findings, app).await;
    site::machines(&mut findings, app);
    site::references(&mut findings, app);
    survey::look(&mut findings, app);
    rules::look(&mut findings, app).await;
    let answered = servers::ask(&mut findings, app, listening).await;
    self_test::run(&mut findings, app, listening, &answered).await;
    // The heaviest first; within a weight in the order in which they were looked at.
    findings.0.sort_by_key(|finding| finding.severity);
    let took_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    CheckReport { at, took_ms, findings: findings.0 }
}
