use super::*;
use crate::{base::Id, decide::subnet::SubnetDraft};

fn at() -> Timestamp {
    Timestamp::from_second(1_764_000_000).unwrap()
}

/// A site with one subnet and two machines.
fn site() -> Site {
    let draft = SubnetDraft {
        pools: vec!["192.0.2.100-192.0.2.200".into()],
        interface: Some("eno1".into()),
        ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
    };
    let site = Site::default();
    let site = site.with_subnet(draft.check(Id::generate(), &site, &[]).unwrap());
    let all = read(
        "name,mac,labels,detail.rack\nkiosk-1,00:00:5e:00:53:01,kiosk spare,r1\nkiosk-2,00:00:5e:00:53:02,kiosk,r1\n",
        &site,
    );
    all.unwrap().into_iter().fold(site, |site, row| site.with_machine(row.machine))
}

fn read(text: &str, site: &Site) -> Result<Vec<Row>, Vec<Fault>> {
    import(text, site, &["192.0.2.2".parse().unwrap()], at())
}

#[test]
fn rows_are_new_changed_or_unchanged() {
    let site = site();
    let text = "\u{feff}Name;MAC;mac;labels;address;detail.rack\n\
                kiosk-1;;;-;;r2\n\
                kiosk-2;00-00-5E-00-53-02;;kiosk;;\n\
                \n\
                gate-7;00:00:5e:00:53:07;0000.5e00.5308;gate;192.0.2.7;r9\n";
    let rows = read(text, &site).unwrap();
    let said: Vec<_> = rows.iter().map(|row| (row.line, row.former.is_some(), row.is_changed())).collect();
    assert_eq!(said, [(2, true, true), (3, true, false), (5, false, true)]);
    let kiosk = &rows[0].machine;
    assert!(kiosk.labels.is_empty() && kiosk.details["rack"] == "r2" && kiosk.macs.len() == 1);
    let gate = &rows[2];
    assert_eq!(gate.machine.macs.len(), 2);
    assert_eq!(gate.reservation.as_ref().unwrap().address.to_string(), "192.0.2.7");
}

#[test]
fn everything_wrong_is_named_with_line_and_column() {
    let text = "name,mac,address,default_boot,detail.rack\n\
                kiosk-3,zz,,,\n\
                ,00:00:5e:00:53:09,,,\n\
                kiosk-4,00:00:5e:00:53:01,,,\n\
                kiosk-5,00:00:5e:00:53:05,192.0.2.150,,\n\
                kiosk-6,00:00:5e:00:53:06,,disk,\n\
                kiosk-7,00:00:5e:00:53:05,,,,too many\n\
                kiosk-8,00:00:5e:00:53:0a,,,\n\
                KIOSK-8,00:00:5e:00:53:0b,,,\n";
    let faults = read(text, &site()).unwrap_err();
    let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
    assert_eq!(
        places,
        [
            "line 2, column mac",
            "line 3, column name",
            "line 4, column mac",
            "line 5, column address",
            "line 6, column default_boot",
            "line 7",
            "line 9, column name",
        ]
    );
}

#[test]
fn a_head_that_names_something_else_is_refused() {
    let place = |text: &str| read(text, &site()).unwrap_err()[0].place.clone();
    assert_eq!(place("name,mac,rack\nkiosk-1,,r1\n"), "line 1, column 3");
    assert_eq!(place("mac\n00:00:5e:00:53:01\n"), "line 1");
    assert_eq!(place("name,name\n"), "line 1, column 2");
    assert_eq!(place("name,mac\n"), "line 2");
    assert_eq!(place(""), "line 1");
}

#[test]
fn what_is_written_is_read_as_unchanged() {
    let site = site();
    let text = export(&site, site.machines());
    assert!(text.starts_with("name,mac,labels,address,default_boot,"), "{text}");
    let rows = read(&text, &site).unwrap();
    assert!(rows.len() == 2 && rows.iter().all(|row| !row.is_changed()), "{rows:?}");
}
