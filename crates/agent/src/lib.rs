//! What runs in the memory of a machine under survey.
//!
//! [`collect`] measures a machine. It reads a tree of files, which is `/` on a machine, and anything else in tests and for
//! simulated machines.

pub mod collect;
