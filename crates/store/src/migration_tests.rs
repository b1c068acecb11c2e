//! Databases of earlier versions, brought to the form of this one.

use lastmile_core::{
    base::Id,
    model::{answers::AnswersVersion, lease::LeaseState},
};

use super::*;

/// Takes back a migration and all that came after it.
fn back_before(connection: &mut SqliteConnection, migration: &str) {
    let version = migration.replace('-', "");
    while connection.applied_migrations().unwrap().iter().any(|applied| applied.to_string() >= version) {
        connection.revert_last_migration(MIGRATIONS).unwrap();
    }
}

/// Settings as the first version of the service kept them.
const FIRST_SETTINGS: &str = r#"{"locale":"en_GB.UTF-8","keyboard":"gb","time_zone":"Europe/London",
    "ntp":"time.gannet.example","root_password":"$6$root","user":{"name":"purser","full_name":"Ship's \"Purser\"",
    "password":"$6$purser"},"disk":{"device":"/dev/sda","layout":"lvm","file_system":"xfs"},"packages":["chrony"],
    "mirror":{"host":"mirror.gannet.example:8080","directory":"/debian","proxy":"http://p.gannet.example/"},
    "at_end":"power-off","parameters":["quiet"]}"#;

#[test]
fn settings_of_the_first_form_are_read_in_the_second() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    drop(Store::open(&path).unwrap());
    let mut connection = SqliteConnection::establish(path.to_str().unwrap()).unwrap();
    // The writer of the store may not have closed yet.
    connection.batch_execute("PRAGMA busy_timeout = 5000").unwrap();
    // The one that gave settings their second form.
    back_before(&mut connection, "2026-11-23-130000");
    let insert = "INSERT INTO answers_version (id, name, number, created, settings, removed) VALUES (?, 'old', 1, 0, ?, 0)";
    let insert = diesel::sql_query(insert)
        .bind::<diesel::sql_types::Text, _>(Id::<AnswersVersion>::generate().to_string())
        .bind::<diesel::sql_types::Text, _>(FIRST_SETTINGS);
    diesel::RunQueryDsl::execute(insert, &mut connection).unwrap();
    drop(connection);
    let loaded = Store::open(&path).unwrap().load().unwrap();
    let read = serde_json::to_value(&loaded.site.answers("old").unwrap().settings).unwrap();
    let expected = serde_json::json!({
        "locale": "en_GB.UTF-8", "keyboard": "gb", "time_zone": "Europe/London", "ntp": ["time.gannet.example"],
        "proxy": "http://p.gannet.example/", "root": { "password": { "hash": "$6$root" } },
        "users": { "purser": {
            "full_name": "Ship's \"Purser\"", "password": { "hash": "$6$purser" }, "sudo": "password",
        } },
        "storage": {
            "logical_volumes": true, "disks": { "system": { "device": "/dev/sda" } },
            "volumes": [{ "mount": "/", "size": "rest", "file_system": "xfs" }],
        },
        "software": { "packages": ["chrony"], "source": "http://mirror.gannet.example:8080/debian" },
        "at_end": "power-off", "installer_parameters": ["quiet"],
    });
    assert_eq!(read, expected);
}

/// What the version before plain words kept, in every form that has changed.
const BEFORE_PLAIN_WORDS: &str = r#"
    INSERT INTO subnet (id, name, network, mode, dns, ntp, lease_secs, pools, relays, newcomers, response_delay_ms)
        VALUES ('01939a3c-0000-7000-8000-000000000001', 'quay', '192.0.2.0/24', 'lease', '[]', '[]', 3600, '[]', '[]', 'nothing', 700);
    INSERT INTO machine (id, name, standing, created, labels, facts, parameters)
        VALUES ('01939a3c-0000-7000-8000-000000000002', 'auklet-gate', 'menu', 0, '["b","a","c"]', '{"rack":"r7"}',
                '["ip={{ facts.rack }}","!quiet"]');
    INSERT INTO nic (mac, machine_id, place) VALUES ('02:00:5e:00:53:01', '01939a3c-0000-7000-8000-000000000002', 0);
    INSERT INTO label (name, parameters) VALUES ('b', '["console=ttyS0"]'), ('a', '["!console","quiet"]');
    INSERT INTO answers_version (id, name, number, created, settings, removed, scope) VALUES
        ('01939a3c-0000-7000-8000-000000000003', 'quay', 1, 0, '{"host_name":"{{ facts.rack }}-{{ name }}",
            "storage":{"layout":"plain","disks":{"system":{"size":"largest","model":"Puffin*"}},
            "volumes":[{"mount":"/","size":"rest"}]},
            "questions":{"berth":{"ask":"Which berth? These are facts.","kind":"text"}},
            "installer_parameters":["!vga","quiet"]}', 0, 'answers'),
        ('01939a3c-0000-7000-8000-000000000004', 'c', 1, 0, '{"locale":"en_GB.UTF-8"}', 0, 'label');
    INSERT INTO menu (id, name, draft, guards) VALUES ('01939a3c-0000-7000-8000-000000000005', 'workshop',
        '{"title":"At {{ facts.rack }}","silent":false,"after":"menu","entries":[{"key":"more","title":"More","when":"facts.rack == ''r7''",
          "action":{"entries":[{"key":"disk","title":"Disk","when":"''a'' in labels","parameters":["!quiet","x"],"action":"local-disk"}]}}]}', '{}');
    INSERT INTO lease (address, subnet_id, client, state, since, until, version) VALUES
        ('192.0.2.50', '01939a3c-0000-7000-8000-000000000001', '02:00:5e:00:53:01', 'bound', 0, 1, 1),
        ('192.0.2.51', '01939a3c-0000-7000-8000-000000000001', '02:00:5e:00:53:02', 'bound', 0, 1, 2);
    INSERT INTO lease_journal (address, subnet_id, client, state, since, until, version) VALUES
        ('192.0.2.50', '01939a3c-0000-7000-8000-000000000001', '02:00:5e:00:53:01', 'released', 0, 9, 3);
    INSERT INTO handover (name, draft, signing_key) VALUES ('records', '{"url":"http://192.0.2.9/","events":["failed"]}', '"00"');
    INSERT INTO delivery (handover, install_number, event, body, created) VALUES ('records', 1, 'failed', '{}', 0);
"#;

#[tokio::test]
async fn what_had_other_names_before_is_read_by_those_of_now() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lastmile.sqlite");
    drop(Store::open(&path).unwrap());
    let mut connection = SqliteConnection::establish(path.to_str().unwrap()).unwrap();
    connection.batch_execute("PRAGMA busy_timeout = 5000").unwrap();
    back_before(&mut connection, "2026-11-30-100000");
    connection.batch_execute(BEFORE_PLAIN_WORDS).unwrap();
    drop(connection);
    let store = Store::open(&path).unwrap();
    let site = store.site();
    assert_eq!(site.subnet("quay").unwrap().head_start, jiff::SignedDuration::from_millis(700));
    let machine = site.machine("auklet-gate").unwrap();
    assert_eq!(machine.default_boot, lastmile_core::model::machine::DefaultBoot::Menu);
    assert_eq!(
        (machine.details["rack"].as_str(), &machine.parameters[0]),
        ("r7", &"ip={{ details.rack }}".to_owned())
    );
    assert_eq!((machine.parameters.len(), &machine.without_parameters), (1, &vec!["quiet".to_owned()]));
    // Labels applied in the order of their names, and still do; one with settings alone has a rank as well.
    assert_eq!(site.ranked(machine), ["a", "b", "c"]);
    assert_eq!(site.labels().map(|label| label.rank).collect::<Vec<_>>(), [10, 20, 30]);
    assert_eq!(site.label("a").unwrap().without_parameters, ["console"]);
    let settings = serde_json::to_value(&site.answers("quay").unwrap().settings).unwrap();
    let expected = serde_json::json!({
        "host_name": "{{ details.rack }}-{{ name }}",
        "storage": {
            "logical_volumes": false,
            "disks": { "system": { "model": "Puffin*", "prefer": "large" } },
            "volumes": [{ "mount": "/", "size": "rest" }],
        },
        "questions": { "berth": { "text": "Which berth? These are facts.", "kind": "text" } },
        "installer_parameters": ["quiet"],
        "without_installer_parameters": ["vga"],
    });
    assert_eq!(settings, expected);
    let menu = site.menu("workshop").unwrap();
    assert_eq!(menu.title.as_str(), "At {{ details.rack }}");
    let entries = menu.all_entries();
    let conditions: Vec<_> =
        entries.iter().filter_map(|entry| Some(entry.shown_if.as_ref()?.as_str())).collect();
    assert_eq!(conditions, ["details.rack == 'r7'", "'a' in labels"]);
    let disk = entries.iter().find(|entry| entry.key == "disk").unwrap();
    assert_eq!(
        (&disk.parameters[..], &disk.without_parameters[..]),
        (&["x".to_owned()][..], &["quiet".to_owned()][..])
    );
    assert!(site.webhook("records").is_some());
    let filter = crate::DeliveryFilter { webhook: Some("records".into()), limit: 9, ..Default::default() };
    assert_eq!(store.read(move |tx| tx.deliveries(&filter)).await.unwrap().len(), 1);
    // Leases have moved to a database of their own, the last word on each first.
    let mut leases = store.load().unwrap().leases;
    leases.sort_by_key(|lease| lease.address);
    let states: Vec<_> = leases.iter().map(|lease| (lease.state, lease.version)).collect();
    assert_eq!(states, [(LeaseState::Released, 3), (LeaseState::Bound, 2)]);
    store.fold_leases().await.unwrap();
    assert_eq!(store.load().unwrap().leases.len(), 2);
    // Converted once: what is saved afterwards as `facts` in a text stays.
    drop(store);
    assert_eq!(*Store::open(&path).unwrap().site(), *site);
}
