//! What happened, for people and programs: traces and what they mean, history, exports, pictures.

pub mod drawing;
pub mod export;
pub mod history;
pub mod trace;
