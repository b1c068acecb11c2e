//! The survey: what its system consists of, and conditions on what it measured.

pub mod condition;
pub mod system;
