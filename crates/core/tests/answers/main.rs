//! Settings in every installer's language: what is written stands in files beside this one that a person has read, and
//! is read again by programs that are not ours.
//!
//! `LASTMILE_ACCEPT=1` writes the files anew; read them before they are committed.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod arbitrary;
mod golden;
mod hostile;
mod kickstart;
mod lost;
mod mistakes;
mod preseed;
mod refused;
mod xml;
mod yaml;

use std::{collections::BTreeMap, fs, net::Ipv4Addr, path::PathBuf, process::Command};

use lastmile_core::{
    base::Fault,
    decide::answers::{AnswerFile, Resolution, Subject, Target, resolve, write},
    model::{
        answers::{
            KEY_BYTES, Keeping, Layer, NONCE_BYTES, Password, PasswordInput, SALT_BYTES, SealKey, Settings,
        },
        image::Family,
        service::Service,
        values::Values,
    },
};
use lastmile_formats::cpu::Cpu;

const FAMILIES: [Family; 5] =
    [Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig, Family::UnattendedXml];

/// Programs that read a format and are not installed, but lie unpacked beside what is built.
fn witness(path: &str) -> String {
    let at = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../target/witnesses").join(path);
    assert!(at.exists(), "{} is not there; `make packages-test` unpacks it", at.display());
    // Not canonical: a program that has several names acts by the one it is called by.
    std::path::absolute(at).unwrap().to_str().unwrap().to_owned()
}

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/answers/golden")
}

fn key() -> SealKey {
    SealKey::new([5; KEY_BYTES])
}

fn settings(case: &str) -> Settings<Password> {
    finish(case, &fs::read_to_string(folder().join(format!("{case}.toml"))).unwrap())
}

/// A password as it is kept.
fn kept(place: &str, input: &PasswordInput) -> Result<Password, Fault> {
    let key = key();
    let keeping = Keeping { key: &key, salt: [7; SALT_BYTES], nonce: [1; NONCE_BYTES] };
    let kept = match place {
        "storage.encrypt" => input.keep_passphrase(&keeping, None),
        _ => input.keep(&keeping, None),
    };
    kept.map_err(|error| Fault { place: place.into(), what: error.to_string(), fix: error.fix().into() })
}

/// Settings as they are entered, with their passwords kept.
fn finish(case: &str, text: &str) -> Settings<Password> {
    let draft: Settings<PasswordInput> =
        toml::from_str(text).unwrap_or_else(|error| panic!("{case}: {error}"));
    let finished = draft.finish(kept);
    finished.unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))
}

fn subject() -> Subject {
    Subject {
        values: Values::example(),
        boot_mode: None,
        service: Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None },
    }
}

fn resolved(case: &str) -> Resolution {
    let settings = settings(case);
    let layers = [(Layer::Answers(case.into()), &settings)];
    resolve(layers, &subject(), &BTreeMap::new()).unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))
}

fn written(case: &str, family: Family) -> Result<Vec<AnswerFile>, Vec<Fault>> {
    let (subject, key) = (subject(), key());
    write(family, &resolved(case), &target(&subject, Some(&key), case))
}

/// What a file is written for; without a key, as in a preview.
fn target<'a>(subject: &'a Subject, key: Option<&'a SealKey>, title: &'a str) -> Target<'a> {
    Target {
        install: None,
        service: subject.service,
        values: &subject.values,
        key,
        cpu: Some(Cpu::X64),
        version: None,
        title,
    }
}

fn main_text(case: &str, family: Family) -> String {
    written(case, family).unwrap_or_else(|faults| panic!("{case}: {faults:#?}"))[0].text.clone()
}

/// Which families a case can be written for.
const MATRIX: [(&str, &[Family]); 9] = [
    ("plain", &[Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig]),
    ("kiosk", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
    ("quay", &[Family::Preseed, Family::Kickstart, Family::Autoinstall]),
    ("mirror", &[Family::Preseed, Family::Kickstart]),
    ("chart", &[Family::UnattendedXml]),
    ("bollard", &[Family::Kickstart]),
    ("halyard", &[Family::Autoinstall]),
    ("hostile", &[Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig]),
    ("deck", &[Family::Preseed, Family::Autoinstall, Family::CloudConfig]),
];

fn run(program: &str, arguments: &[&str], input: &str) -> (bool, String) {
    use std::{io::Write, process::Stdio};
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap_or_else(|error| panic!("{program}: {error}; `make test` installs it"));
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned())
}
