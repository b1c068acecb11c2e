//! The site: subnets, pools, loaders, files, machines.

use std::{collections::BTreeSet, sync::Arc};

use jiff::SignedDuration;
use lastmile_api::Severity;
use lastmile_core::{
    model::{
        image::FileEntry,
        lease::LeaseState,
        loader::Loader,
        subnet::{Identify, Mode},
    },
    report::trace::{TraceEvent, diagnose},
};

use super::{Findings, Topic};
use crate::{app::App, clock, start::Listening};

/// Share of a pool from which it counts as nearly full.
const NEARLY_FULL: f64 = 0.85;
/// How long ago a machine's trouble may be to be worth telling.
const RECENT: SignedDuration = SignedDuration::from_hours(2);
/// Machines in trouble that are told one by one.
const TOLD: usize = 50;

pub(super) fn subnets(findings: &mut Findings, app: &App, listening: &Listening) {
    let site = app.records.site();
    if site.subnets().next().is_none() {
        let fix = "`lastmile subnet suggest INTERFACE` proposes one.";
        findings.add(
            Severity::Fault,
            Topic::Subnets,
            "site",
            "there is no subnet, so no machine is answered",
            fix,
        );
        return;
    }
    let named: BTreeSet<&str> = listening.dhcp.iter().map(|(name, _)| name.as_str()).collect();
    for subnet in site.subnets().filter(|subnet| subnet.mode != Mode::Off) {
        match &subnet.interface {
            Some(interface) if !named.contains(interface.as_str()) => findings.add(
                Severity::Fault,
                Topic::Subnets,
                &subnet.name,
                format!("it is on {interface}, which the service does not answer on"),
                format!(
                    "Add {interface} to [boot] interfaces and restart the service, or correct the subnet."
                ),
            ),
            _ => findings.good(
                Topic::Subnets,
                &subnet.name,
                format!("{}, mode {}", subnet.network, subnet.mode.as_str()),
            ),
        }
        if subnet.http_boot == lastmile_core::model::subnet::HttpBoot::Https && listening.https.is_empty() {
            findings.add(
                Severity::Warning,
                Topic::Subnets,
                &subnet.name,
                "machines are to boot by HTTPS, but no HTTPS listener is there: they are told plain HTTP",
                "Set [boot] https_port = 443 and restart the service.",
            );
        }
        if subnet.probe
            && subnet.interface.is_none()
            && !app.wire.prober.reaches_relays()
            && subnet.mode == Mode::Lease
            && subnet.relays.iter().any(|relay| !relay.is_loopback())
        {
            findings.add(
                Severity::Note,
                Topic::Subnets,
                &subnet.name,
                "addresses behind its relays are not tried for: this takes the right CAP_NET_RAW",
                "Give the service the right, or switch the probe off.",
            );
        }
    }
    for subnet in site.subnets().filter(|subnet| subnet.mode == Mode::Off) {
        match subnet.identify {
            Identify::FirstClaim => findings.good(
                Topic::Subnets,
                &subnet.name,
                format!("{}, mode off; its machines are known by the first claim of a boot", subnet.network),
            ),
            Identify::Address => findings.add(
                Severity::Warning,
                Topic::Subnets,
                &subnet.name,
                "its machines are to be known by their addresses (identify = \"address\"), but in mode off none is known here: \
                 they get what an unknown machine gets, unless their address is reserved",
                "`lastmile subnet change NAME --set identify=first-claim`, or reserve their addresses.",
            ),
        }
    }
    for (name, _) in &listening.dhcp {
        if !site.subnets().any(|subnet| subnet.interface.as_ref() == Some(name)) {
            let fix = format!("`lastmile subnet suggest {name}` proposes one.");
            findings.add(Severity::Warning, Topic::Subnets, name, "no subnet is on this interface", fix);
        }
    }
}

pub(super) fn pools(findings: &mut Findings, app: &App) {
    let (site, now) = (app.records.site(), clock::now());
    for subnet in site.subnets().filter(|subnet| subnet.mode == Mode::Lease) {
        let (mut held, mut quarantined) = (0_u64, 0_u64);
        for record in
            app.wire.book().iter().filter(|record| record.subnet == subnet.id && record.is_held(now))
        {
            held += u64::from(subnet.lends(record.address));
            quarantined += u64::from(record.state == LeaseState::Quarantined);
        }
        let size = subnet.capacity();
        let share = held as f64 / size.max(1) as f64;
        let text = format!("{held} of {size} addresses are held");
        let fix = "Widen the pools or shorten the lease time; `lastmile subnet picture` shows who has what.";
        if held >= size {
            let what = format!("{text}: the next machine gets none");
            findings.add(Severity::Fault, Topic::Pools, &subnet.name, what, fix);
        } else if share > NEARLY_FULL {
            findings.add(Severity::Warning, Topic::Pools, &subnet.name, text, fix);
        } else {
            findings.good(Topic::Pools, &subnet.name, text);
        }
        if quarantined > 0 {
            findings.add(
                Severity::Warning,
                Topic::Pools,
                &subnet.name,
                format!("{quarantined} of them left alone: somebody answers there without a lease"),
                "Exclude those addresses, or set the machines that use them to DHCP; `lastmile subnet leases` lists them.",
            );
        }
    }
}

pub(super) fn loaders(findings: &mut Findings, app: &App) {
    let site = app.records.site();
    for (architecture, at) in app.wire.missing_loaders() {
        // Added since?
        if site.loaders().any(|loader| loader.architecture == architecture) {
            continue;
        }
        findings.add(
            Severity::Fault,
            Topic::Loaders,
            architecture.to_string(),
            format!("a machine of this architecture asked at {at:.0}, and no loader is there for it"),
            format!("`lastmile loader add NAME --architecture {architecture} --boot-file FILE`."),
        );
    }
    let there: Vec<String> =
        site.loaders().map(|loader| format!("{} for {}", loader.name, loader.architecture)).collect();
    if there.is_empty() {
        let fix = "`lastmile loader add NAME --architecture uefi-x64 --boot-file FILE`.";
        findings.add(
            Severity::Fault,
            Topic::Loaders,
            "site",
            "there is no loader, so no machine can boot",
            fix,
        );
    } else {
        findings.good(Topic::Loaders, "site", there.join(", "));
    }
}

pub(super) async fn files(findings: &mut Findings, app: &App) {
    let site = app.records.site();
    let library = app.library.clone();
    let looked = tokio::task::spawn_blocking(move || {
        let revisions: Vec<_> =
            site.revisions().map(|revision| (revision.clone(), library.missing(revision))).collect();
        let lacks = |file: &&FileEntry| !file.sha256.is_some_and(|sha256| library.has(&sha256, file.size));
        let of_loader = |loader: &Arc<Loader>| {
            let missing: Vec<String> =
                loader.manifest.files().iter().filter(lacks).map(|file| file.path.clone()).collect();
            (loader.name.clone(), missing)
        };
        (revisions, site.loaders().map(of_loader).collect::<Vec<_>>())
    });
    let Ok((revisions, loaders)) = looked.await else { return };
    let mut whole = 0;
    for (revision, mut missing) in revisions.into_iter().filter(|(revision, _)| revision.retired.is_none()) {
        let place = format!("image {} r{}", revision.image_name, revision.number);
        missing.extend(
            revision.damaged.iter().filter(|path| !missing.contains(path)).cloned().collect::<Vec<_>>(),
        );
        if !missing.is_empty() {
            findings.add(
                Severity::Fault,
                Topic::Files,
                &place,
                format!("missing or changed on the disk: {}", missing.join(", ")),
                format!(
                    "Put it back and run `lastmile image verify {}`, or import it again.",
                    revision.image_name
                ),
            );
        }
        for fault in &revision.lacks {
            let what = format!("{}: {}", fault.place, fault.what);
            findings.add(Severity::Fault, Topic::Files, &place, what, fault.fix.clone());
        }
        let title = app
            .records
            .site()
            .image(&revision.image_name)
            .map(|image| image.title.clone())
            .unwrap_or_default();
        for what in revision.disagreements(&title) {
            let fix = "Import it under a name that fits, or correct the title.";
            findings.add(Severity::Warning, Topic::Files, &place, what, fix);
        }
        whole += usize::from(missing.is_empty() && revision.is_ready());
        if revision.is_ready() && revision.verified.is_none() {
            let fix = "It is being done; `lastmile image show` tells when it was.";
            findings.add(Severity::Note, Topic::Files, place, "not every file of it was read yet", fix);
        }
    }
    for (name, missing) in loaders {
        whole += usize::from(missing.is_empty());
        if !missing.is_empty() {
            findings.add(
                Severity::Fault,
                Topic::Files,
                format!("loader {name}"),
                format!("missing or changed on the disk: {}", missing.join(", ")),
                "Add it again: the same content is put back in its place.",
            );
        }
    }
    if whole > 0 {
        let every = app.records.site().settings().verify_hours;
        let text = match every {
            0 => format!("{whole} images and loaders are whole; nothing is read again by itself"),
            hours => {
                format!("{whole} images and loaders are whole; every file is read again each {hours} hours")
            }
        };
        findings.good(Topic::Files, "library", text);
    }
}

pub(super) fn machines(findings: &mut Findings, app: &App) {
    let (site, now) = (app.records.site(), clock::now());
    let mut troubled = 0;
    let recent =
        |events: &[Arc<TraceEvent>]| events.last().is_some_and(|last| now.duration_since(last.at) < RECENT);
    let known = site.machines().map(|machine| (machine.name.clone(), machine.macs.clone()));
    let newcomers: Vec<_> = {
        let traces = app.wire.traces();
        let newcomers = traces.newcomers(|mac| site.machine_by_mac(mac).is_some()).take(TOLD);
        newcomers.map(|mac| (mac.to_string(), vec![mac])).collect()
    };
    for (name, macs) in known.chain(newcomers) {
        let events = app.wire.traces().of(&macs);
        if !recent(&events) {
            continue;
        }
        let Some(first) = diagnose(&events, now).into_iter().next() else { continue };
        troubled += 1;
        if troubled <= TOLD {
            findings.add(Severity::Warning, Topic::Machines, name, first.seen, first.fix);
        }
    }
    match troubled {
        0 => findings.good(Topic::Machines, "traces", "no boot of the last two hours is in trouble"),
        all if all > TOLD => {
            let what = format!("{} more machines are in trouble", all - TOLD);
            findings.add(Severity::Warning, Topic::Machines, "traces", what, "See `lastmile machine list`.");
        }
        _ => {}
    }
}

/// What names something that is not there: a machine boots without it, and nothing else says so.
pub(super) fn references(findings: &mut Findings, app: &App) {
    let site = app.records.site();
    let mut missing = |place: String, kind: &str, name: &str| {
        findings.add(
            Severity::Fault,
            Topic::Machines,
            place,
            format!("no {kind} is named '{name}'"),
            format!("Save the {kind} again under that name, or take the name out."),
        );
    };
    let no_menu = |menu: &Option<String>| menu.clone().filter(|menu| site.menu(menu).is_none());
    if let Some(menu) = no_menu(&site.settings().menu) {
        missing("site".into(), "menu", &menu);
    }
    for subnet in site.subnets() {
        if let Some(menu) = no_menu(&subnet.menu) {
            missing(format!("subnet {}", subnet.name), "menu", &menu);
        }
    }
    for label in site.labels() {
        let place = || format!("label {}", label.name);
        if let Some(menu) = no_menu(&label.menu) {
            missing(place(), "menu", &menu);
        }
        if let Some(image) = label.image.as_ref().filter(|name| site.image(name).is_none()) {
            missing(place(), "image", image);
        }
        if let Some(answers) = label.answers.as_ref().filter(|name| site.answers(name).is_none()) {
            missing(place(), "answers", answers);
        }
    }
    for machine in site.machines() {
        let place = || format!("machine {}", machine.name);
        if let Some(menu) = no_menu(&machine.menu) {
            missing(place(), "menu", &menu);
        }
        if let Some(answers) = machine.live_answers.as_ref().filter(|name| site.answers(name).is_none()) {
            missing(place(), "answers", answers);
        }
    }
    for menu in site.menus() {
        let place = || format!("menu {}", menu.name);
        menu.images()
            .filter(|name| site.image(name).is_none())
            .for_each(|name| missing(place(), "image", name));
        menu.answers()
            .filter(|name| site.answers(name).is_none())
            .for_each(|name| missing(place(), "answers", name));
        menu.menus().filter(|name| site.menu(name).is_none()).for_each(|name| missing(place(), "menu", name));
    }
}
