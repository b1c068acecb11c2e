use std::{collections::BTreeMap, path::PathBuf, process::Command};

use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    decide::{
        answers::Subject,
        dhcp::{LeaseBook, Wanting},
        image::RevisionDraft,
        install::{ArmRequest, Evidence},
        loader::LoaderDraft,
        machine::{DefaultBootDraft, MachineDraft},
        rule::RuleDraft,
        subnet::SubnetDraft,
    },
    model::{
        answers::{AnswersVersion, Scope},
        image::{Family, FileEntry, Holding, ImageKind, Sha256},
        install::{InstallState, ReportStage, Step, StepKind, Token},
        label::Label,
        lease::LeaseState,
        location::Location,
        machine::Given,
        rule::Proposal,
        subnet::Subnet,
    },
    site::Site,
};

use super::{survey_tests::survey, *};

const MAC: &str = "02:00:5e:00:53:01";

fn file(path: &str) -> FileEntry {
    FileEntry::new(path, 1, Sha256::of(path.as_bytes()))
}

fn subnet() -> Subnet {
    let mut draft = SubnetDraft::new("skerry-point", "192.0.2.0/24");
    draft.pools = vec!["192.0.2.50-192.0.2.250".into()];
    draft.dns = vec!["192.0.2.53".into()];
    draft.relays = vec!["127.0.0.1".into()];
    draft.check(Id::generate(), &Site::default(), &[]).unwrap()
}

fn settings(scope: Scope) -> AnswersVersion {
    let settings = serde_json::from_value(serde_json::json!({
        "locale": "en_GB.UTF-8",
        "users": { "purser": { "password": { "hash": "$6$saltsalt$0123456789abcdef" } } },
        "installer_parameters": ["quiet"],
    }));
    AnswersVersion { id: Id::generate(), scope, number: 1, created: now(), settings: settings.unwrap() }
}

fn answers() -> AnswersVersion {
    settings(Scope::Answers("quay-server".into()))
}

/// The store keeps milliseconds.
pub(super) fn now() -> Timestamp {
    Timestamp::from_millisecond(Timestamp::now().as_millisecond()).unwrap()
}

fn step(kind: StepKind) -> Step {
    Step { at: now(), kind, detail: "it".into() }
}

pub(super) async fn filled(store: &Store) -> Site {
    let image_draft = RevisionDraft {
        name: "tidewrack-12".into(),
        kind: Some(ImageKind::Installer),
        family: Some(Family::Preseed),
        kernel: Some("linux".into()),
        initrds: Some(vec!["initrd.gz".into()]),
        parameters: Some(vec!["quiet".into()]),
        files: vec![file("linux"), file("initrd.gz")],
        ..RevisionDraft::default()
    };
    let holding = |draft: &RevisionDraft| Holding::of(&draft.files);
    let first = image_draft.check(None, 0, holding(&image_draft), now(), |_, _| true).unwrap();
    let mut second = image_draft.clone();
    second.files.push(file("extra.gz"));
    let second = second.check(Some(&first), 1, holding(&second), now(), |_, _| true).unwrap();
    let loader = LoaderDraft {
        class: Some("PXEClient".into()),
        ..LoaderDraft::new("signed-x64", "uefi-x64", "shimx64.efi", vec![file("shimx64.efi")])
    };
    let loader = loader
        .check(Id::generate(), lastmile_core::model::loader::LoaderFacts::default(), [], |_, _| true)
        .unwrap();
    let answers = answers();
    let site =
        Site::default().with_subnet(subnet()).with_loader(loader.clone()).with_answers(answers.clone());
    let site = site.with_revision((*first.current).clone()).with_image(second.clone());
    let draft = MachineDraft {
        default_boot: DefaultBootDraft::Menu,
        ..MachineDraft::new("auklet-gate", vec![MAC.into()])
    };
    let machine = draft.check(&site, None, now()).unwrap();
    let site = site.with_machine(machine.clone());
    let arm = ArmRequest {
        machine: "auklet-gate".into(),
        image: "tidewrack-12".into(),
        answers: "quay-server".into(),
        asked: BTreeMap::new(),
    };
    let install =
        arm.check(&site, &|_, _| Subject::example(), 1, Token::new("secret".into()), "ada", now()).unwrap();
    let subnet = (**site.subnets().next().unwrap()).clone();
    let kept = install.clone();
    let fill = move |change: &mut Change<'_>| {
        change.put_subnet(subnet)?;
        change.put_loader(loader)?;
        change.add_revision(first)?;
        change.add_revision(second)?;
        change.add_answers(answers)?;
        change.put_machine(machine)?;
        change.put_install(kept, step(StepKind::Armed))
    };
    change(store, fill).await.unwrap();
    site.with_install(install)
}

pub(super) fn change(
    store: &Store,
    job: impl FnOnce(&mut Change<'_>) -> Result<(), StoreError> + Send + 'static,
) -> impl Future<Output = Result<(), StoreError>> {
    store.change(job)
}

fn same(one: &Site, other: &Site) {
    let machine = one.machine("auklet-gate").unwrap();
    assert_eq!(other.machine("auklet-gate"), Some(machine));
    assert_eq!(one.subnets().collect::<Vec<_>>(), other.subnets().collect::<Vec<_>>());
    assert_eq!(one.loaders().collect::<Vec<_>>(), other.loaders().collect::<Vec<_>>());
    assert_eq!(one.images().collect::<Vec<_>>(), other.images().collect::<Vec<_>>());
    assert_eq!(one.all_answers().collect::<Vec<_>>(), other.all_answers().collect::<Vec<_>>());
    assert_eq!(one.revision_of("tidewrack-12", 1), other.revision_of("tidewrack-12", 1));
    assert_eq!(one.open_install(machine.id), other.open_install(machine.id));
    assert_eq!(one.last_installed(machine.id), other.last_installed(machine.id));
}

pub(super) fn label(name: String) -> Label {
    let (parameters, without_parameters) = (Vec::new(), Vec::new());
    let (image, answers) = (Some("tidewrack-12".into()), Some("kiosk".into()));
    Label { name, rank: 100, parameters, without_parameters, menu: None, image, answers }
}

#[tokio::test]
async fn everything_is_read_back_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    let store = Store::open(&path).unwrap();
    let site = filled(&store).await;
    for file in std::fs::read_dir(folder.path()).unwrap().map(|file| file.unwrap()) {
        let mode = std::os::unix::fs::PermissionsExt::mode(&file.metadata().unwrap().permissions());
        assert_eq!(mode & 0o077, 0, "{} is open to others", file.path().display());
    }
    drop(store);
    let loaded = Store::open(&path).unwrap().load().unwrap();
    same(&site, &loaded.site);
}

#[tokio::test]
async fn an_install_is_kept_step_by_step() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let site = filled(&store).await;
    let machine = site.machine("auklet-gate").unwrap().id;
    let mut install = (**site.open_install(machine).unwrap()).clone();
    for evidence in [Evidence::Menu, Evidence::Report(ReportStage::Done, None)] {
        let (next, step) = install.see(&evidence, now()).unwrap();
        install = next.clone();
        change(&store, move |change| change.put_install(next, step)).await.unwrap();
    }
    let (read, steps) = store.read(|tx| tx.install(1)).await.unwrap().unwrap();
    assert_eq!(read, install);
    let kinds: Vec<_> = steps.iter().map(|step| step.kind).collect();
    assert_eq!(kinds, [StepKind::Armed, StepKind::Menu, StepKind::Done]);
    let filter = InstallFilter { states: vec![InstallState::Installed], limit: 10, ..Default::default() };
    let (found, total) = store.read(move |tx| tx.installs(&filter)).await.unwrap();
    assert_eq!((found.len(), total), (1, 1));
    assert_eq!(store.load().unwrap().site.last_installed(machine).unwrap().number, 1);
}

#[tokio::test]
async fn one_bad_job_undoes_itself_only() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let site = filled(&store).await;
    let machine = site.machine("auklet-gate").unwrap().id;
    let open = (**site.open_install(machine).unwrap()).clone();
    // A second open install of one machine: refused by the table itself, with all its job did before.
    let mut second = open.clone();
    second.number = 2;
    second.token = Token::new("other".into());
    let mut other = subnet();
    other.name = "never".into();
    other.network = "198.51.100.0/24".parse().unwrap();
    let before = store.site();
    let bad = change(&store, move |change| {
        change.put_subnet(other)?;
        change.put_install(second, step(StepKind::Armed))
    });
    let lease = lease(&site, 1);
    let kept = lease.clone();
    let good = store.put_lease(kept);
    let (bad, good) = tokio::join!(bad, good);
    assert!(matches!(bad, Err(StoreError::Database(_))), "{bad:?}");
    good.unwrap();
    let loaded = store.load().unwrap();
    assert_eq!(loaded.leases, [lease]);
    assert!(loaded.site.subnet("never").is_none());
    assert_eq!(store.site(), before, "nothing of it is shown");
    let next = store.change(|change| change.next_install_number()).await;
    assert_eq!(next.unwrap(), 2);
}

#[tokio::test]
async fn the_last_word_on_an_address_counts_before_and_after_tidying_up() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let site = filled(&store).await;
    let first = lease(&site, 1);
    let renewed = lastmile_core::model::lease::LeaseRecord {
        until: first.until + jiff::SignedDuration::from_hours(1),
        ..first.clone()
    };
    store.put_leases(vec![first.clone(), lease(&site, 2)]).await.unwrap();
    store.fold_leases().await.unwrap();
    store.put_lease(renewed.clone()).await.unwrap();
    let at =
        |store: &Store| store.load().unwrap().leases.into_iter().find(|found| found.address == first.address);
    assert_eq!(at(&store), Some(renewed.clone()));
    store.fold_leases().await.unwrap();
    assert_eq!(at(&store), Some(renewed));
    assert_eq!(store.load().unwrap().leases.len(), 2);
    // In whatever order they come to the disk, the later one counts.
    let (earlier, later) = (
        lastmile_core::model::lease::LeaseRecord { version: 7, ..first.clone() },
        lastmile_core::model::lease::LeaseRecord { version: 8, state: LeaseState::Released, ..first.clone() },
    );
    store.put_leases(vec![later.clone(), earlier]).await.unwrap();
    assert_eq!(at(&store), Some(later.clone()));
    store.fold_leases().await.unwrap();
    assert_eq!(at(&store), Some(later.clone()));
    store.put_lease(first.clone()).await.unwrap();
    store.fold_leases().await.unwrap();
    assert_eq!(at(&store), Some(later), "an earlier one that comes after tidying up changes nothing");
}

fn lease(site: &Site, number: u8) -> lastmile_core::model::lease::LeaseRecord {
    let subnet = site.subnets().next().unwrap();
    let mac = lastmile_formats::mac::Mac::new([2, 0, 0x5e, 0, 0x53, number]).unwrap();
    let client = lastmile_core::model::lease::ClientKey::Mac(mac);
    let mut book = LeaseBook::default();
    let wish = Some(std::net::Ipv4Addr::new(192, 0, 2, 49 + number));
    let wanting = Wanting { client: &client, registered: true, wish, reserved: None };
    let address = book.offer(subnet, wanting, now()).unwrap().address;
    book.bind(subnet, &client, address, None, now()).unwrap()
}

#[tokio::test]
async fn a_file_that_is_no_database_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    std::fs::write(&path, "not a database, but long enough to look at".repeat(40)).unwrap();
    let error = Store::open(&path).unwrap_err().to_string();
    assert!(error.contains("lastmile.sqlite") && error.contains("not a database"), "{error}");
}

/// The writer killed in mid-work, again and again: what it acknowledged is there.
#[test]
fn what_was_acknowledged_survives_a_kill() {
    if let Ok(path) = std::env::var("LASTMILE_KILL_TEST") {
        acknowledge_for_ever(PathBuf::from(path));
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    let site = tokio::runtime::Runtime::new()
        .unwrap()
        .block_on(async { filled(&Store::open(&path).unwrap()).await });
    for round in 0..4 {
        let acknowledged = folder.path().join(format!("acknowledged-{round}"));
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(["tests::what_was_acknowledged_survives_a_kill", "--exact", "--nocapture"])
            .env("LASTMILE_KILL_TEST", &path)
            .env("LASTMILE_KILL_LOG", &acknowledged)
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        // Long enough for some commits, whatever the disk; the moment itself is arbitrary.
        let count = || std::fs::read(&acknowledged).map_or(0, |log| log.len());
        while count() < 40 + round * 13 {
            std::thread::sleep(std::time::Duration::from_millis(5));
            assert!(child.try_wait().unwrap().is_none(), "the writer ended by itself");
        }
        child.kill().unwrap();
        child.wait().unwrap();
        let log = std::fs::read(&acknowledged).unwrap();
        let loaded = Store::open(&path).unwrap().load().unwrap();
        for number in log {
            let lease = lease(&site, number);
            let found = loaded.leases.iter().find(|found| found.address == lease.address);
            assert_eq!(
                found.map(|found| &found.client),
                Some(&lease.client),
                "round {round}, lease {number}"
            );
            assert_eq!(found.unwrap().state, LeaseState::Bound);
        }
    }
}

fn acknowledge_for_ever(path: PathBuf) -> ! {
    use std::io::Write;
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let store = Store::open(&path).unwrap();
        let site = store.load().unwrap().site;
        let mut log = std::fs::File::create(std::env::var("LASTMILE_KILL_LOG").unwrap()).unwrap();
        loop {
            for number in 1..200 {
                let lease = lease(&site, number);
                store.put_lease(lease).await.unwrap();
                log.write_all(&[number]).unwrap();
            }
        }
    })
}

#[tokio::test]
async fn layers_are_kept_each_with_its_versions() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    let store = Store::open(&path).unwrap();
    let machine = Id::generate();
    let scopes = [Scope::Site, Scope::Label("quay-server".into()), Scope::Machine(machine)];
    let all = scopes.clone().map(settings).into_iter().chain([answers()]).collect::<Vec<_>>();
    let newer = AnswersVersion { id: Id::generate(), number: 2, ..all[1].clone() };
    let kept = [all, vec![newer]].concat();
    let add = move |change: &mut Change<'_>| {
        kept.into_iter().try_for_each(|version| change.add_answers(version).map(drop))
    };
    change(&store, add).await.unwrap();
    let label = Scope::Label("quay-server".into());
    let (asked, other) = (label.clone(), Scope::Answers("quay-server".into()));
    let counted =
        store.read(move |tx| Ok((tx.answers_versions(&asked)?.len(), tx.answers_versions(&other)?.len())));
    assert_eq!(counted.await.unwrap(), (2, 1), "a label and answers of one name are two things");
    drop(store);
    let store = Store::open(&path).unwrap();
    let site = store.load().unwrap().site;
    assert_eq!(site.settings_of(&label).unwrap().number, 2);
    assert!(scopes.iter().all(|scope| site.settings_of(scope).is_some()));
    let gone = label.clone();
    change(&store, move |change| change.remove_answers(&gone)).await.unwrap();
    let site = store.load().unwrap().site;
    assert!(site.settings_of(&label).is_none() && site.answers("quay-server").is_some());
}

/// The snapshot is what a restart would load, whatever is changed, kept or refused; and what is told is told in order.
#[tokio::test]
async fn the_snapshot_is_what_a_restart_would_load() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let told = Arc::new(std::sync::Mutex::new(Vec::new()));
    let (telling, watching) = (told.clone(), store.clone());
    store.observe(move |site, recorded| {
        assert_eq!(watching.site(), *site, "the snapshot is shown before anybody is told");
        telling.lock().unwrap().extend(recorded.into_iter().map(|recorded| format!("{recorded:?}")));
    });
    filled(&store).await;
    let same = || assert_eq!(*store.site(), store.load().unwrap().site);
    same();
    let machine = (**store.site().machine("auklet-gate").unwrap()).clone();
    let renamed = lastmile_core::model::machine::Machine { name: "auklet-bridge".into(), ..machine.clone() };
    change(&store, move |change| change.put_machine(renamed)).await.unwrap();
    same();
    change(&store, |change| change.put_label(label("kiosk".into()))).await.unwrap();
    change(&store, |change| change.remove_label("kiosk")).await.unwrap();
    same();
    // Rules, of whom they propose something, and where ports are.
    let kiosks = RuleDraft {
        condition: "surveyed and location.rack == 'r12'".into(),
        labels: vec!["kiosk".into()],
        details: BTreeMap::from([("port".into(), "{{ port }}".into())]),
        default_boot: Some("menu".parse().unwrap()),
        ..RuleDraft::default()
    };
    let from = machine.macs[0];
    change(&store, move |change| {
        let rule = kiosks.check("kiosks", change.site()).unwrap();
        change.put_rule(rule.clone())?;
        change.rename_rule(&rule, "quay-kiosks")?;
        change.put_proposal(Proposal { mac: from, since: now(), declined: Some("abc".into()) })?;
        let location = |port: &str| Location {
            switch: "sw-tern-1".into(),
            port: port.into(),
            hall: String::new(),
            row: String::new(),
            rack: "r12".into(),
            unit: "4".into(),
        };
        change.put_locations(vec![location("1"), location("2")])?;
        change.put_locations(vec![location("2")])
    })
    .await
    .unwrap();
    same();
    assert!(store.site().rule("quay-kiosks").is_some() && store.site().rule("kiosks").is_none());
    assert_eq!(store.site().locations().count(), 1);
    let mut given = (**store.site().machine_by_id(machine.id).unwrap()).clone();
    given.given.insert(
        "labels.kiosk".into(),
        Given { rule: "quay-kiosks".into(), value: "kiosk".into(), at: now() },
    );
    change(&store, move |change| change.put_machine(given)).await.unwrap();
    same();
    // A second survey of another boot takes the place of the first, and finds a card less.
    for cards in [3, 2] {
        let from = machine.macs[0];
        change(&store, move |change| {
            let record = survey(change.site(), from, cards);
            change.put_survey(record)
        })
        .await
        .unwrap();
        same();
    }
    let open = (**store.site().open_install(machine.id).unwrap()).clone();
    let (ended, done) = open.see(&Evidence::Report(ReportStage::Done, None), now()).unwrap();
    change(&store, move |change| change.put_install(ended, done)).await.unwrap();
    same();
    // What comes late to an install is in the record, and does not hide what came after it.
    let refused = change(&store, |change| {
        let subnet = change.site().subnets().next().unwrap().clone();
        change.remove_subnet(&subnet)?;
        Err(StoreError::Closed)
    });
    assert!(matches!(refused.await, Err(StoreError::Closed)));
    same();
    change(&store, |change| {
        let subnet = change.site().subnets().next().unwrap().clone();
        change.remove_subnet(&subnet)
    })
    .await
    .unwrap();
    let gone = (**store.site().machine_by_id(machine.id).unwrap()).clone();
    change(&store, move |change| change.remove_machine(&gone, now())).await.unwrap();
    same();
    let told = told.lock().unwrap().join("\n");
    let at = |what: &str| told.find(what).unwrap_or_else(|| panic!("{what} was not told: {told}"));
    assert!(at("MachineGone { name: \"auklet-gate\" }") < at("MachineGone { name: \"auklet-bridge\" }"));
    assert!(!told.contains("Closed"));
}
