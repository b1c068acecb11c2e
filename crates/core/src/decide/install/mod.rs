//! The life of one install, moved on by evidence: what was really seen of the machine.

mod arm;
mod evidence;
mod late;
mod limits;
mod pace;
mod preview;

pub use arm::{ArmRequest, ArmSeveral, Subjects, already_open, not_ready};
pub use evidence::Evidence;
pub use limits::Overdue;
pub use pace::{LEARNED_FROM, Pace, Past, Progress};
pub use preview::ArmPreview;
