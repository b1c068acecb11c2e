//! A module of the core uses the layers below its own and its own folder; the files and folders of one layer do not use each
//! other in a ring.

use std::{collections::BTreeMap, path::PathBuf};

use crate::modules::{ring, uses};

/// The layers, the lowest first.
const LAYERS: [&str; 5] = ["base", "model", "site", "decide", "report"];

#[test]
fn a_module_uses_only_the_layers_below_it() {
    let level = |part: &str| LAYERS.iter().position(|layer| part.split("::").next() == Some(*layer)).unwrap();
    let uses = uses("core", |module| {
        let layer = module.first().filter(|first| LAYERS.contains(&first.as_str()))?;
        // The snapshot is one part; of the others, each file or folder is one.
        if layer == "site" { Some(layer.clone()) } else { Some(module.get(..2)?.join("::")) }
    });
    assert!(uses.len() > 30, "nothing was looked at: {uses:?}");
    for (part, used) in &uses {
        for (other, file) in used {
            assert!(
                level(other) <= level(part),
                "{part} uses {other}, which is above it, in {}: see docs/architecture.md",
                file.display()
            );
        }
    }
    assert_eq!(ring(&uses), None, "these use each other in a ring");
}

#[test]
fn formats_are_usable_alone() {
    let uses = uses("formats", |module| module.first().cloned());
    assert!(uses.len() > 10, "nothing was looked at: {uses:?}");
    assert_eq!(ring(&uses), None, "these use each other in a ring");
}

#[test]
fn a_ring_is_found() {
    let arrow = |from: &str, to: &str| (from.to_owned(), BTreeMap::from([(to.to_owned(), PathBuf::new())]));
    let uses = BTreeMap::from([arrow("a", "b"), arrow("b", "c"), arrow("c", "b")]);
    assert_eq!(ring(&uses), Some(vec!["b".into(), "c".into()]));
}
