//! Jobs: the check before one is armed, and what moves it on.

mod arm;
mod life;
#[cfg(test)]
mod tests;

pub use arm::{ArmJobs, JobDraft, check_task};
pub use life::next_for_agent;
