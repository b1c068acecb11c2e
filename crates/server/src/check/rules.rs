//! Rules: those that have done as much as they may, and what stands in their way.

use std::collections::BTreeMap;

use lastmile_api::Severity;
use lastmile_core::decide::rule::Previewed;
use lastmile_store::{StoreError, Tx};

use super::{Findings, Topic};
use crate::{app::App, clock, rules::spent};

pub(super) async fn look(findings: &mut Findings, app: &App) {
    let (site, now) = (app.records.site(), clock::now());
    if site.rules().next().is_none() {
        return;
    }
    let rules: Vec<_> = site.rules().cloned().collect();
    let read = move |tx: &mut Tx<'_>| spent(tx, &rules, now);
    let Ok(spent) = app.records.store.read(read).await else { return };
    for rule in site.rules().filter(|rule| spent.contains(&rule.name)) {
        findings.add(
            Severity::Warning,
            Topic::Rules,
            &rule.name,
            format!(
                "it changed {} machines within an hour, as many as it may: for further ones it proposes",
                rule.hourly_limit
            ),
            format!(
                "If that is right, accept them (`lastmile proposal list`) or raise its hourly_limit; else \
                 `lastmile rule change {} --set mode=propose`.",
                rule.name
            ),
        );
    }
    let macs = site.proposals().map(|proposal| proposal.mac).collect();
    let said: Result<Vec<Previewed>, StoreError> = app.records.outcomes(&site, macs).await;
    let mut obstacles: BTreeMap<(String, String), usize> = BTreeMap::new();
    for one in said.unwrap_or_default() {
        for effect in one.outcome.effects {
            if let Some(obstacle) = effect.obstacle {
                *obstacles.entry((effect.rule, format!("{}: {obstacle}", effect.what))).or_default() += 1;
            }
        }
    }
    if spent.is_empty() && obstacles.is_empty() {
        let count = site.rules().count();
        findings.good(Topic::Rules, "rules", format!("nothing stands in the way of {count}"));
    }
    for ((rule, obstacle), count) in obstacles {
        let machines = if count == 1 { "1 machine".into() } else { format!("{count} machines") };
        let fix =
            format!("`lastmile rule try {rule}` shows where; change its patterns, or name them by hand.");
        findings.add(Severity::Warning, Topic::Rules, &rule, format!("of {machines}, {obstacle}"), fix);
    }
}
