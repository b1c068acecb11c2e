//! What rules did, on record.

use jiff::Timestamp;
use lastmile_core::{decide::rule::RuleDraft, model::rule::RuleUse};
use lastmile_formats::mac::Mac;

use super::{
    tests::{change, now},
    *,
};

#[tokio::test]
async fn what_rules_did_is_counted_and_keeps_its_rule() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let start = now();
    let used = |rule: &str, last: u8, counter: Option<i64>, by: Option<&str>| RuleUse {
        at: start + jiff::SignedDuration::from_secs(last.into()),
        rule: rule.into(),
        machine: format!("tern-kiosk-{last}"),
        mac: Mac::documentation(last),
        counter,
        changes: vec!["labels: kiosk".into()],
        by: by.map(str::to_owned),
    };
    let all = [
        used("kiosks", 1, Some(4), None),
        used("kiosks", 2, Some(5), Some("purser")),
        used("locations", 3, None, None),
    ];
    change(&store, move |change| {
        all.iter().try_for_each(|used| change.add_rule_use(used))?;
        let rule =
            RuleDraft { condition: "surveyed".into(), labels: vec!["kiosk".into()], ..RuleDraft::default() };
        let rule = rule.check("kiosks", change.site()).unwrap();
        change.put_rule(rule.clone())?;
        change.rename_rule(&rule, "quay-kiosks")
    })
    .await
    .unwrap();
    let read = |filter: RuleUseFilter| {
        let store = store.clone();
        async move { store.read(move |tx| tx.rule_uses(&filter)).await.unwrap() }
    };
    let its =
        read(RuleUseFilter { rule: Some("quay-kiosks".into()), limit: 10, ..RuleUseFilter::default() }).await;
    let machines: Vec<_> = its.iter().map(|used| used.machine.as_str()).collect();
    assert_eq!(machines, ["tern-kiosk-2", "tern-kiosk-1"]);
    let macs = Some(vec![Mac::documentation(3)]);
    assert_eq!(
        read(RuleUseFilter { macs, limit: 10, ..RuleUseFilter::default() }).await[0].rule,
        "locations"
    );
    // Only what it did by itself counts for its limit, and only what was done since.
    let since = |at: Timestamp| {
        let store = store.clone();
        async move { store.read(move |tx| tx.rule_uses_since("quay-kiosks", at)).await.unwrap() }
    };
    assert_eq!(since(start).await, 1);
    assert_eq!(since(start + jiff::SignedDuration::from_secs(2)).await, 0);
    assert_eq!(store.read(|tx| tx.rule_counter("quay-kiosks")).await.unwrap(), Some(5));
    assert_eq!(store.read(|tx| tx.rule_counter("locations")).await.unwrap(), None);
    assert_eq!(store.read(|tx| tx.rule_totals()).await.unwrap()["quay-kiosks"].0, 2);
    // What turned out otherwise is corrected where it stands, and nowhere else.
    let corrected = RuleUse { changes: vec!["install refused".into()], ..its[0].clone() };
    change(&store, move |change| change.set_rule_changes(&corrected)).await.unwrap();
    let now = read(RuleUseFilter { limit: 10, ..RuleUseFilter::default() }).await;
    let changes: Vec<_> = now.iter().map(|used| used.changes[0].as_str()).collect();
    assert_eq!(changes, ["labels: kiosk", "install refused", "labels: kiosk"]);
}
