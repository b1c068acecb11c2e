//! Machines under survey: the system they start, and the connection that its agent keeps.

mod build;
mod load;
mod programs;
mod shell;
mod socket;
mod source;

#[cfg(test)]
mod tests;

pub(crate) use build::{BuildError, Built, build};
pub(crate) use socket::{Parts, router};
