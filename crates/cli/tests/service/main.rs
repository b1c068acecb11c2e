//! The service as a process, met as it is in use: through its client, its API, its sockets, and programs of Debian's packages.
//!
//! One binary for all of it: each would hold the whole service, and linking them took longer than running them.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

mod answers;
mod api;
mod bulk;
mod cable;
mod commands;
mod contract;
mod demo;
mod exports;
mod grammar;
mod http_boot;
mod identity;
mod images;
mod installs;
mod jobs;
mod lifecycle;
mod menus;
mod mistakes;
mod neighbours;
mod networks;
mod packages;
mod power;
mod redfish;
mod rules;
mod shells;
#[path = "../support/mod.rs"]
mod support;
mod survey;
mod wait;
mod webhooks;
mod wire;
