//! Any JSON where something is entered: refused with its faults, or taken.
#![no_main]

use jiff::Timestamp;
use lastmile_core::{
    base::Id,
    decide::{
        image::RevisionDraft,
        loader::LoaderDraft,
        machine::{LabelDraft, MachineDraft},
        menu::MenuDraft,
        subnet::{Picture, ReservationDraft, SubnetDraft},
    },
    model::{image::Holding, loader::LoaderFacts},
    site::Site,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let site = Site::default();
    if let Ok(draft) = serde_json::from_slice::<SubnetDraft>(bytes) {
        match draft.check(Id::generate(), &site, &[]) {
            Ok(subnet) => {
                let again = SubnetDraft::from(&subnet).check(subnet.id, &site, &[]);
                assert_eq!(again.as_ref(), Ok(&subnet), "what was taken is taken again");
                if subnet.network.prefix_len() >= 16 {
                    let picture = Picture::of(&subnet, []);
                    assert_eq!(picture.counts.values().sum::<u64>(), 1 << (32 - subnet.network.prefix_len()));
                }
            }
            Err(faults) => assert!(faults.iter().all(|fault| !fault.fix.is_empty())),
        }
    }
    if let Ok(draft) = serde_json::from_slice::<MachineDraft>(bytes) {
        let _ = draft.check(&site, None, Timestamp::UNIX_EPOCH);
    }
    if let Ok(draft) = serde_json::from_slice::<LoaderDraft>(bytes) {
        let _ = draft.check(Id::generate(), LoaderFacts::default(), [], |_, _| true);
    }
    if let Ok(draft) = serde_json::from_slice::<MenuDraft>(bytes) {
        match draft.check("quay", &site, None, || [0; 12]) {
            Ok(menu) => {
                let again = MenuDraft::from(&menu).check("quay", &site, Some(&menu), || [0; 12]);
                assert_eq!(again.as_ref(), Ok(&menu), "what was taken is taken again");
            }
            Err(faults) => assert!(faults.iter().all(|fault| !fault.fix.is_empty())),
        }
    }
    if let Ok(draft) = serde_json::from_slice::<RevisionDraft>(bytes) {
        let _ = draft.check(None, 0, Holding::default(), Timestamp::UNIX_EPOCH, |_, _| true);
    }
    if let Ok(draft) = serde_json::from_slice::<LabelDraft>(bytes) {
        let _ = draft.check("kiosk", &site);
    }
    let _ = serde_json::from_slice::<ReservationDraft>(bytes);
});
