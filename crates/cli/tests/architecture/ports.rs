//! Tests of one binary run side by side: each has ports of its own.

use std::{collections::BTreeMap, fs, path::Path};

use walkdir::WalkDir;

/// What the tests of these binaries begin their ports with, as in `23_040`.
const BINARIES: [&str; 3] = ["console", "resilience", "service"];

#[test]
fn no_two_files_of_tests_use_the_same_port() {
    for binary in BINARIES {
        let folder = Path::new("tests").join(binary);
        let mut used: BTreeMap<String, String> = BTreeMap::new();
        for entry in
            WalkDir::new(&folder).into_iter().map(Result::unwrap).filter(|entry| entry.file_type().is_file())
        {
            let file = entry.path().display().to_string();
            for port in ports(&fs::read_to_string(entry.path()).unwrap()) {
                if let Some(other) = used.insert(port.clone(), file.clone()).filter(|other| *other != file) {
                    panic!("{file} and {other} use port {port}: one of them may find it taken");
                }
            }
        }
    }
}

/// Numbers of five digits in the form that ports are written in.
fn ports(text: &str) -> impl Iterator<Item = String> {
    let words = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    words.filter(|word| is_port(word)).map(str::to_owned)
}

fn is_port(word: &str) -> bool {
    let of_digits =
        |part: &str, count: usize| part.len() == count && part.bytes().all(|byte| byte.is_ascii_digit());
    let Some((thousands, rest)) = word.split_once('_') else { return false };
    of_digits(thousands, 2) && of_digits(rest, 3) && ("20".."33").contains(&thousands)
}

#[test]
fn a_port_is_known_by_its_form() {
    assert!(is_port("23_040") && !is_port("1_048") && !is_port("23040") && !is_port("64_512"));
}
