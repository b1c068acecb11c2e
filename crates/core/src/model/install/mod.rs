//! One recorded attempt to put one image revision on one machine.

mod limits;
mod outcome;
mod record;
mod step;
mod token;

pub use limits::StageLimits;
pub use outcome::{Actual, Difference, Expected, Outcome};
pub use record::{Install, InstallState};
pub use step::{MAX_KERNEL_FETCHES, ReportStage, Step, StepKind, UnknownStage};
pub use token::Token;
