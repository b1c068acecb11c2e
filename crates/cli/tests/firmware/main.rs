//! Real firmware, real loaders, real systems, in network namespaces of the tests' own.
//!
//! Under software emulation this takes minutes: run by `make test-firmware` and `make test-install`, which need no other build
//! than `make test`.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(clippy::print_stdout, reason = "the times of the stages are wanted in the log")]

mod boot;
mod first_half_hour;
mod menus;
mod stateless;
#[path = "../support/mod.rs"]
mod support;
mod survey;
