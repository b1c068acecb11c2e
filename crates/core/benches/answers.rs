//! How long an answer file takes: layers put on each other, filled, checked, and written. Aim: at most 1 ms.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a benchmark that cannot go on fails, and says its figures"
)]

use std::{collections::BTreeMap, time::Instant};

use lastmile_core::{
    decide::answers::{Subject, Target, resolve, write},
    model::{
        answers::{
            KEY_BYTES, Keeping, Layer, NONCE_BYTES, Password, PasswordInput, SALT_BYTES, SealKey, Settings,
        },
        image::Family,
    },
};

const TURNS: u32 = 5;
const FILES: u32 = 1_000;

fn settings(toml: &str, key: &SealKey) -> Settings<Password> {
    let draft: Settings<PasswordInput> = toml::from_str(toml).unwrap();
    let finished = draft.finish(|place, input| {
        let keeping = Keeping { key, salt: [7; SALT_BYTES], nonce: [1; NONCE_BYTES] };
        let kept = if place == "storage.encrypt" {
            input.keep_passphrase(&keeping, None)
        } else {
            input.keep(&keeping, None)
        };
        Ok(kept.unwrap())
    });
    finished.unwrap()
}

fn main() {
    let key = SealKey::new([5; KEY_BYTES]);
    let site = settings("time_zone = 'Europe/London'\nlocale = 'en_GB.UTF-8'\n", &key);
    let label = settings("domain = 'gannet.example'\nkeyboard = 'gb'\n", &key);
    let machine = settings("at_end = 'power-off'\n", &key);
    let subject = Subject::example();
    let cases = [
        ("quay", include_str!("../tests/answers/golden/quay.toml"), Family::Preseed),
        ("quay", include_str!("../tests/answers/golden/quay.toml"), Family::Kickstart),
        ("quay", include_str!("../tests/answers/golden/quay.toml"), Family::Autoinstall),
        ("chart", include_str!("../tests/answers/golden/chart.toml"), Family::UnattendedXml),
    ];
    for (case, toml, family) in cases {
        let answers = settings(toml, &key);
        let once = || {
            let layers = [
                (Layer::Site, &site),
                (Layer::Answers(case.into()), &answers),
                (Layer::Label("chart".into()), &label),
                (Layer::Machine("auklet-chart".into()), &machine),
            ];
            let resolution = resolve(layers, &subject, &BTreeMap::new()).unwrap();
            let target = Target {
                install: None,
                service: subject.service,
                values: &subject.values,
                key: Some(&key),
                cpu: None,
                version: None,
                title: case,
            };
            std::hint::black_box(write(family, &resolution, &target).unwrap());
        };
        let mut best = f64::MAX;
        for _ in 0..TURNS {
            let began = Instant::now();
            (0..FILES).for_each(|_| once());
            best = best.min(began.elapsed().as_secs_f64() * 1e6 / f64::from(FILES));
        }
        println!(
            "{:<50} {best:>11.1} µs {:>30}",
            format!("answer file of four layers: {}", family.as_str()),
            "<= 1000 µs"
        );
    }
}
