//! The console in headless Chromium, driven as a person would.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod accessible;
mod answers;
mod conflict;
mod forms;
mod frame;
mod jobs;
mod pages;
mod record;
mod rules;
mod selection;
#[path = "../support/mod.rs"]
mod support;
mod survey;
