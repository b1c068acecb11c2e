//! `lastmile machine facts`: what surveys measured of a machine.

use clap::Args;
use lastmile_api::{Facts, FactsCompareQuery, FactsComparison, FactsDifference, FactsView, SurveyRow};
use lastmile_client::Client;

use crate::{
    complete,
    output::{Cell, Failure, Output, Table, clock, columns, or_dash, pairs, size},
};

/// `lastmile machine facts …`
#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// A machine's name or MAC address, or a newcomer's MAC address.
    #[arg(value_name = "MACHINE", add = complete::machines())]
    who: String,
    /// What this survey measured, in place of the latest: its boot, as `machine surveys` lists it.
    #[arg(long, value_name = "BOOT", conflicts_with = "against")]
    survey: Option<String>,
    /// In what another machine's hardware differs from it.
    #[arg(long, value_name = "MACHINE", add = complete::machines())]
    against: Option<String>,
}

pub(crate) async fn run(arguments: &Arguments, client: &Client, out: &Output) -> Result<(), Failure> {
    let who = &arguments.who;
    if let Some(other) = &arguments.against {
        out.show(&client.facts_compare(who, &FactsCompareQuery { with: other.clone() }).await?, compared);
    } else if let Some(boot) = &arguments.survey {
        out.show(&client.facts_survey(who, boot).await?, text);
    } else {
        out.show(&client.facts_read(who).await?, text);
    }
    Ok(())
}

/// Every survey, each with what was different from the one before.
pub(super) fn surveys(all: &[SurveyRow]) -> Table {
    let row = |survey: &SurveyRow| {
        let changes = survey.changes.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
        [
            survey.boot.to_string().into(),
            Cell::ago(Some(survey.began)),
            survey.summary.clone().into(),
            Cell::maybe((!changes.is_empty()).then_some(changes)),
        ]
    };
    let table = columns(["boot", "surveyed", "machine", "different since"], all.iter().map(row));
    if all.is_empty() { table.note("It was never surveyed.") } else { table }
}

fn compared(comparison: &FactsComparison) -> String {
    let FactsComparison { left, right, differences } = comparison;
    if differences.is_empty() {
        return format!("{left} and {right} are alike.\n");
    }
    let row = |one: &FactsDifference| {
        [one.place.clone().into(), Cell::maybe(one.before.as_ref()), Cell::maybe(one.now.as_ref())]
    };
    columns(["fact", left, right], differences.iter().map(row)).text()
}

fn text(view: &FactsView) -> String {
    let facts = &view.facts;
    let mut text = pairs(head(view));
    for change in &view.survey.changes {
        text.push_str(&format!("different: {change}\n"));
    }
    for table in
        [memory(facts), disks(facts), volumes(facts), nics(facts), devices(facts)].into_iter().flatten()
    {
        text.push('\n');
        text.push_str(&table.text());
    }
    for fault in &view.faults {
        text.push_str(&format!("\nnot measured: {fault}\n"));
    }
    for (name, value) in &view.found {
        text.push_str(&format!("\n{name}: {value}\n"));
    }
    text
}

fn head(view: &FactsView) -> Vec<(&'static str, String)> {
    let facts = &view.facts;
    let words = |words: &[&Option<String>]| {
        let all: Vec<&str> = words.iter().filter_map(|word| word.as_deref()).collect();
        or_dash((!all.is_empty()).then(|| all.join(" ")))
    };
    let (system, cpu, start) = (&facts.system, &facts.cpu, &facts.start);
    let count =
        |count: u32, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
    let secure = start.secure_boot.map_or("", |on| if on { ", Secure Boot on" } else { ", Secure Boot off" });
    let mut rows = vec![
        ("machine", view.who.clone()),
        ("surveyed", clock(view.survey.at)),
        ("product", words(&[&system.vendor, &system.product, &system.version])),
        ("serial", or_dash(system.serial.as_ref())),
        ("UUID", or_dash(system.uuid)),
        ("board", words(&[&facts.board.vendor, &facts.board.product, &facts.board.serial])),
        ("firmware", words(&[&facts.firmware.vendor, &facts.firmware.version, &facts.firmware.date])),
        ("started by", format!("{}{secure}", or_dash(start.mode))),
        (
            "processors",
            format!(
                "{}: {}, {}, {}",
                or_dash(cpu.model.as_ref()),
                count(cpu.sockets, "socket"),
                count(cpu.cores, "core"),
                count(cpu.threads, "thread")
            ),
        ),
        ("memory", size(facts.memory.mib << 20)),
        ("TPM", facts.tpm.as_ref().map_or_else(|| "-".into(), |tpm| or_dash(tpm.version))),
        (
            "BMC",
            match &facts.bmc {
                Some(bmc) => bmc.summary(),
                None if facts.has_bmc => "IPMI".into(),
                None => "-".to_owned(),
            },
        ),
    ];
    if let Some(agent) = &view.agent {
        let doing = if agent.doing.is_empty() { "waits" } else { &agent.doing };
        rows.push(("agent", format!("connected since {} from {}: {doing}", clock(agent.since), agent.from)));
    }
    rows
}

fn memory(facts: &Facts) -> Option<Table> {
    let slots = &facts.memory.slots;
    let row = |slot: &lastmile_api::MemorySlot| {
        [
            Cell::maybe(slot.slot.as_ref()),
            if slot.mib == 0 { "empty".into() } else { Cell::size(slot.mib << 20) },
            Cell::maybe(slot.vendor.as_ref()),
            Cell::maybe(slot.part.as_ref()),
            Cell::maybe(slot.serial.as_ref()),
        ]
    };
    (!slots.is_empty())
        .then(|| columns(["slot", "memory", "vendor", "part", "serial"], slots.iter().map(row)))
}

fn disks(facts: &Facts) -> Option<Table> {
    let row = |disk: &lastmile_api::FactsDisk| {
        [
            disk.name.clone().into(),
            Cell::size(disk.size),
            Cell::maybe(disk.model.as_ref()),
            Cell::maybe(disk.serial.as_ref()),
            Cell::maybe(disk.transport.as_ref()),
            if disk.rotational { "turns".into() } else { "flash".into() },
            Cell::maybe(disk.health.as_ref().map(lastmile_api::DiskHealth::summary)),
        ]
    };
    let head = ["disk", "size", "model", "serial", "on", "kind", "health"];
    (!facts.disks.is_empty()).then(|| columns(head, facts.disks.iter().map(row)))
}

/// How disks are divided, and what is on them.
fn volumes(facts: &Facts) -> Option<Table> {
    let volume = |volume: Option<&lastmile_api::DiskVolume>| {
        let label = volume.and_then(|volume| volume.label.as_ref());
        [Cell::maybe(volume.map(|volume| &volume.kind)), Cell::maybe(label)]
    };
    let mut rows = Vec::new();
    for disk in &facts.disks {
        let layout = &disk.layout;
        if let Some(whole) = &layout.volume {
            let [kind, label] = volume(Some(whole));
            rows.push([
                disk.name.clone().into(),
                "no table".into(),
                Cell::size(disk.size),
                "-".into(),
                kind,
                label,
            ]);
        }
        let table = layout.table.as_deref().unwrap_or_default().to_uppercase();
        for part in &layout.partitions {
            let [kind, label] = volume(part.volume.as_ref());
            let name = part.name.as_ref().filter(|name| **name != part.kind);
            let is_for = name.map_or_else(|| part.kind.clone(), |name| format!("{}, {name}", part.kind));
            let number = format!("{table} {}", part.number);
            rows.push([
                disk.name.clone().into(),
                number.into(),
                Cell::size(part.size),
                is_for.into(),
                kind,
                label,
            ]);
        }
    }
    (!rows.is_empty()).then(|| columns(["disk", "partition", "size", "for", "holds", "label"], rows))
}

fn nics(facts: &Facts) -> Option<Table> {
    let row = |nic: &lastmile_api::FactsNic| {
        let speed = nic.link_speed.map(|speed| format!("{speed} Mbit/s"));
        let link = if nic.link { speed.unwrap_or_else(|| "up".into()) } else { "none".into() };
        let neighbour = nic.neighbour.as_ref().map(|other| {
            let switch = other.system_name.clone().unwrap_or_else(|| other.chassis.to_string());
            format!("{switch} {}", other.port)
        });
        [
            match nic.permanent_mac.filter(|permanent| *permanent != nic.mac) {
                Some(permanent) => format!("{} (permanent {permanent})", nic.mac).into(),
                None => nic.mac.to_string().into(),
            },
            Cell::maybe(nic.names.first()),
            Cell::maybe(nic.driver.as_ref()),
            Cell::maybe(nic.firmware.as_ref()),
            link.into(),
            Cell::maybe(nic.pci.as_ref()),
            Cell::maybe(neighbour),
        ]
    };
    let head = ["network card", "will be named", "driver", "firmware", "link", "PCI", "neighbour"];
    (!facts.nics.is_empty()).then(|| columns(head, facts.nics.iter().map(row)))
}

fn devices(facts: &Facts) -> Option<Table> {
    let row = |device: &lastmile_api::PciDevice| {
        [
            device.address.clone().into(),
            Cell::maybe(device.name.as_ref()),
            Cell::maybe(device.kind.as_ref()),
            format!("{:04x}:{:04x}", device.vendor, device.device).into(),
            Cell::maybe(device.driver.as_ref()),
        ]
    };
    let head = ["PCI device", "name", "kind", "vendor:device", "driver"];
    (!facts.devices.is_empty()).then(|| columns(head, facts.devices.iter().map(row)))
}
