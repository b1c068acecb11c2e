//! What surveys measured, on record.

use lastmile_core::{
    model::{agent::Survey, facts::Nic, survey::SurveyRecord},
    site::Site,
};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use super::{
    tests::{change, filled, now},
    *,
};

/// A survey of a machine with so many cards, the first of which it was started from.
pub(super) fn survey(site: &Site, from: Mac, cards: u8) -> SurveyRecord {
    let [.., last] = from.octets();
    let card = |number: u8| Nic {
        permanent_mac: None,
        name: format!("eth{number}"),
        mac: if number == 0 { from } else { Mac::documentation(last + number) },
        driver: None,
        firmware: None,
        link_speed: None,
        link: false,
        pci: None,
        names: Vec::new(),
        neighbour: None,
    };
    let mut measured = Survey::default();
    measured.facts.nics = (0..cards).map(card).collect();
    let earlier = site.survey_at(from).map(AsRef::as_ref);
    SurveyRecord::of_report(Uuid::now_v7(), from, None, measured, earlier, now())
}

/// An agent says which cards its machine has. It cannot speak for a machine that somebody registered and that it is not on.
#[tokio::test]
async fn a_survey_that_claims_the_card_of_another_machine_is_not_that_machines() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    filled(&store).await;
    let machine = (**store.site().machine("auklet-gate").unwrap()).clone();
    let [.., last] = machine.macs[0].octets();
    // A newcomer whose second card is said to be the machine's.
    let hostile = Mac::documentation(last - 1);
    let mut record = survey(&store.site(), hostile, 2);
    record.survey.facts.nics[1].mac = machine.macs[0];
    change(&store, move |change| change.put_survey(record)).await.unwrap();
    assert!(store.site().survey_at(hostile).is_some());
    assert_eq!(store.site().survey_of(&machine), None);
    assert_eq!(*store.site(), store.load().unwrap().site);
    // Registered as cards of one machine, the two are.
    let both = lastmile_core::model::machine::Machine { macs: vec![machine.macs[0], hostile], ..machine };
    let kept = both.clone();
    change(&store, move |change| change.put_machine(both)).await.unwrap();
    assert_eq!(store.site().survey_of(&kept).map(|survey| survey.mac), Some(hostile));
}
