//! The survey: what its system consists of.

pub mod system;
