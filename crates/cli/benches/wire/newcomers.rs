//! A delivery of machines that nobody registered is switched on at once: each is surveyed, named by a rule once, and listed once, while
//! somebody works in the console.

use std::{
    collections::HashSet,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use lastmile_api::{Cpu, ImageKind, MachinesListQuery, Newcomers, RevisionDraft, RuleDraft, RuleMode};
use lastmile_client::Client;
use lastmile_formats::architecture::Architecture;
use lastmile_sim::{Beat, Booted, Card, HardDisk, Hardware, Identity, Machine, Pace, Reached};
use lastmile_survey::facts::Facts;
use uuid::Uuid;

use super::{MIB, fill, hall::Served, mac, p99};

/// Machines that are registered before, and newcomers that come at once.
const REGISTERED: u32 = 8000;
const NEWCOMERS: u32 = 2000;
const PORTS: u16 = 25_110;

pub(super) async fn measure() {
    let service = Served::start(PORTS).await;
    let (client, reached) = (service.client.clone(), service.reached);
    fill(&client, REGISTERED, MIB, 256 * 1024).await;
    prepare(&client).await;
    let (stop, began) = (Arc::new(AtomicBool::new(false)), Instant::now());
    let person = tokio::spawn(work(client.clone(), stop.clone()));
    let mut machines = tokio::task::JoinSet::new();
    for number in REGISTERED..REGISTERED + NEWCOMERS {
        machines.spawn(async move {
            for _ in 0..5 {
                if let Some(named) = survey(reached, number).await {
                    return Some(named);
                }
            }
            None
        });
    }
    let named: Vec<(String, Duration)> = machines.join_all().await.into_iter().flatten().collect();
    let took = began.elapsed();
    stop.store(true, Ordering::Relaxed);
    let mut calls = person.await.unwrap();
    let names: HashSet<&String> = named.iter().map(|(name, _)| name).collect();
    let query = MachinesListQuery { limit: Some(1), ..MachinesListQuery::default() };
    let listed = client.machines_list(&query).await.unwrap().total;
    let uses = client.rules_list().await.unwrap()[0].uses;
    let (alone, mut times) = (survey(reached, REGISTERED + NEWCOMERS).await.unwrap().1, Vec::new());
    times.extend(named.iter().map(|(_, time)| *time));
    println!(
        "{NEWCOMERS} newcomers at once, {REGISTERED} machines registered: {} named, {} names, {} listed, {uses} uses of the rule, in {:.1} s; \
         memory of the service {} MiB at most",
        named.len(),
        names.len(),
        listed - REGISTERED as usize,
        took.as_secs_f64(),
        service.memory("VmHWM:")
    );
    println!(
        "from an agent's connection to its machine's name: p99 {:.0} ms among them, {:.1} ms for one alone (aim: at most 50 ms)",
        p99(&mut times).as_secs_f64() * 1e3,
        alone.as_secs_f64() * 1e3
    );
    println!(
        "calls of the API meanwhile: {} of them, p99 {:.0} ms",
        calls.len(),
        p99(&mut calls).as_secs_f64() * 1e3
    );
    assert!(names.len() == named.len(), "a name was given twice");
}

/// A system to survey by, and a rule that names what is surveyed.
async fn prepare(client: &Client) {
    let files = vec![
        client.upload_bytes("linux", vec![3; MIB / 4]).await.unwrap(),
        client.upload_bytes("survey.cpio", vec![4; MIB / 4]).await.unwrap(),
    ];
    let system = RevisionDraft {
        name: "survey".into(),
        kind: Some(ImageKind::Survey),
        cpu: Some(Cpu::X64),
        kernel: Some("linux".into()),
        initrds: Some(vec!["survey.cpio".into()]),
        files,
        ..RevisionDraft::default()
    };
    client.images_create(&system).await.unwrap();
    let subnet = client.subnets_read("hall").await.unwrap().value.subnet;
    client
        .subnets_replace("hall", &lastmile_api::SubnetDraft { newcomers: Newcomers::Survey, ..subnet })
        .await
        .unwrap();
    let rule = RuleDraft {
        mode: RuleMode::Apply,
        condition: "product == 'MK-8' and memory_gib >= 8".into(),
        labels: vec!["kiosk".into()],
        name: Some("kiosk-{{ counter | pad(4) }}".into()),
        hourly_limit: 100_000,
        ..RuleDraft::default()
    };
    client.rules_save("kiosks", &rule).await.unwrap();
}

/// What the agent measures of one of them.
fn facts(number: u32) -> Facts {
    let hardware = Hardware {
        vendor: "Marram Systems".into(),
        product: "MK-8".into(),
        serial: format!("MS-26-{number}"),
        uuid: Uuid::from_u128(u128::from(number)),
        cpu: "Marram Shore 4".into(),
        cores: 4,
        memory: vec![4096; 2],
        disks: vec![HardDisk {
            model: "Tideline 240".into(),
            serial: format!("TL-{number}"),
            size: 240_057_409_536,
        }],
        nics: vec![Card { mac: mac(number), neighbour: None }],
    };
    hardware.facts().unwrap()
}

/// Boots one and has it surveyed; gives its name, and how long that took from its agent's start on. Nothing, if it was not answered.
async fn survey(reached: Reached, number: u32) -> Option<(String, Duration)> {
    let identity = Identity { mac: mac(number), architecture: Architecture::UefiX64 };
    let machine = Machine::new(identity, reached, Pace::FULL).unwrap();
    let Booted::Kernel { address, parameters } = machine.boot(&mut |_| {}).await.ok()? else { return None };
    let facts = tokio::task::spawn_blocking(move || facts(number)).await.unwrap();
    let (say, mut heard) = tokio::sync::mpsc::unbounded_channel();
    let began = Instant::now();
    let mut watch = move |beat: Beat| {
        if let Beat::Surveyed { machine: Some(name), .. } = beat {
            let _ = say.send(name);
        }
    };
    tokio::select! {
        name = heard.recv() => Some((name?, began.elapsed())),
        _ = machine.survey(address, &parameters, &facts, &mut watch) => None,
    }
}

/// What the console asks for while somebody looks at it, one call after another.
async fn work(client: Client, stop: Arc<AtomicBool>) -> Vec<Duration> {
    let mut calls = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        for call in 0..4 {
            let asked = Instant::now();
            match call {
                0 => drop(client.machines_list(&MachinesListQuery::default()).await.unwrap()),
                1 => drop(client.traces_newcomers().await.unwrap()),
                2 => drop(client.overview_read().await.unwrap()),
                _ => drop(client.rules_list().await.unwrap()),
            }
            calls.push(asked.elapsed());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    calls
}
