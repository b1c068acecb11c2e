//! The files as a person has read them, and what none of them may show.

use super::*;

#[test]
fn files_are_as_they_were_read() {
    let accept = std::env::var_os("LASTMILE_ACCEPT").is_some();
    for (case, families) in MATRIX {
        for family in FAMILIES {
            let files = written(case, family);
            assert_eq!(
                files.is_ok(),
                families.contains(&family),
                "{case} as {}: {:#?}",
                family.as_str(),
                files.as_ref().err()
            );
            for file in files.into_iter().flatten().filter(|file| !file.text.is_empty()) {
                let path = folder().join(family.as_str()).join(format!("{case}.{}", file.name));
                if accept {
                    fs::write(&path, &file.text).unwrap();
                }
                let golden = fs::read_to_string(&path).unwrap_or_default();
                assert!(file.text == golden, "{} is not as it was read:\n{}", path.display(), file.text);
            }
        }
    }
}

#[test]
fn a_preview_holds_no_secret() {
    let subject = subject();
    let target = target(&subject, None, "");
    for (case, families) in MATRIX {
        for family in families {
            for file in write(*family, &resolved(case), &target).unwrap() {
                assert!(!file.text.contains("$6$"), "{case}: {}", file.text);
                for secret in ["kittiwake & petrel", "petrel $HOME", "tern bay at dusk"] {
                    assert!(!file.text.contains(secret), "{case}: {}", file.text);
                }
            }
        }
    }
}
