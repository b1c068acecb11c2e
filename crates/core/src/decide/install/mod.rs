//! The life of one install, moved on by evidence: what was really seen of the machine.

mod arm;
mod evidence;
mod late;
mod limits;
mod outlook;
mod pace;

pub use arm::{ArmRequest, ArmSeveral, Subjects, already_open, not_ready};
pub use evidence::Evidence;
pub use limits::Overdue;
pub use outlook::Outlook;
pub use pace::{LEARNED_FROM, Pace, Past, Progress};
