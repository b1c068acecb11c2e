//! `lastmile machine rules`: what rules say of a machine.

use lastmile_api::{MachineRules, VerdictView};

use crate::{
    commands::rule::{effect_text, failing_text, uses},
    output::{Cell, clock, columns},
};

/// Which hold and why the others do not, what would change, what they gave.
pub(super) fn text(said: &MachineRules) -> String {
    let MachineRules { who, rules, effects, kept, lacks_name, given, .. } = said;
    if rules.is_empty() {
        return format!("{who}: there are no rules\n");
    }
    let row = |verdict: &VerdictView| {
        let failing = verdict.failing.iter().map(failing_text).collect::<Vec<_>>().join("\n");
        [
            verdict.rule.clone().into(),
            verdict.mode.as_str().into(),
            if verdict.holds { "holds".into() } else { "does not hold".into() },
            Cell::maybe((!failing.is_empty()).then_some(failing)),
        ]
    };
    let mut text = columns(["rule", "mode", "condition", "which part fails"], rules.iter().map(row)).text();
    if !effects.is_empty() {
        let row = |effect: &lastmile_api::EffectView| {
            let when = if effect.is_immediate { "at the next survey" } else { "once accepted" };
            [effect.rule.clone().into(), effect_text(effect).into(), when.into()]
        };
        text.push('\n');
        text.push_str(&columns(["rule", "would change", "when"], effects.iter().map(row)).text());
    }
    if *lacks_name {
        text.push_str("No rule gives it a name: adopt it first.\n");
    }
    for kept in kept {
        text.push_str(&format!("\n{} stays (rule {}): {}\n", kept.what, kept.rule, kept.why));
    }
    if !given.is_empty() {
        let row = |(what, given): (&String, &lastmile_api::Given)| {
            [
                what.clone().into(),
                given.value.clone().into(),
                given.rule.clone().into(),
                clock(given.at).into(),
            ]
        };
        text.push('\n');
        text.push_str(&columns(["given", "value", "by rule", "when"], given.iter().map(row)).text());
    }
    if !said.uses.is_empty() {
        text.push('\n');
        text.push_str(&uses(&said.uses).text());
    }
    text
}
