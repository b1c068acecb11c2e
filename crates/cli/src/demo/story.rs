//! The demo's story, a line an event, with the seconds since it began.

use std::time::Instant;

use lastmile_sim::{Beat, Booted};

use crate::output::{Output, size};

/// Tells what happens.
#[derive(Debug)]
pub(super) struct Story {
    out: Output,
    began: Instant,
}

impl Story {
    pub(super) fn new(out: Output) -> Self {
        Self { out, began: Instant::now() }
    }

    pub(super) fn tell(&self, text: &str) {
        self.out.say(&format!("{:7.2} s  {text}", self.began.elapsed().as_secs_f64()));
    }
}

/// Where a boot led, in words.
pub(super) fn ending(booted: &Booted) -> String {
    match booted {
        Booted::NoLoader => "gets an address, and nothing to boot".into(),
        Booted::LocalDisk => "is sent to its own disk".into(),
        Booted::Menu(titles) => format!("shows a menu of {} and waits", titles.len()),
        Booted::Kernel { address, .. } => format!("starts a kernel as {address}"),
        Booted::Left => "leaves its loader".into(),
    }
}

/// What a machine did, in words.
pub(super) fn beat(beat: &Beat) -> String {
    match beat {
        Beat::Address { address, file } if file.is_empty() => {
            format!("is {address}, and has nothing to boot")
        }
        Beat::Address { address, file } => format!("is {address}, and is told {file}"),
        Beat::Fetched { path, by, size: bytes } => {
            format!("has {path} by {by}, {}, digest right", size(*bytes as u64))
        }
        Beat::Menu { size: bytes } => format!("has its menu by TFTP, {}", size(*bytes as u64)),
        Beat::Job { number, what } => format!("is given job {number}: {what}"),
        Beat::Surveyed { machine: None, waits_for } => format!("is surveyed, and waits for {waits_for}"),
        Beat::Surveyed { machine: Some(name), waits_for } => {
            format!("is {name} now, and waits for {waits_for}")
        }
        Beat::Waits => "waits on its screen".into(),
        Beat::Chose { title } => format!("menu: {title}"),
        Beat::Answers { host_name } => format!("installer has its answers, is to be {host_name}"),
        Beat::Reported { stage: "booted" } => "says what it is".into(),
        Beat::Reported { stage } => format!("installer reports {stage}"),
    }
}
