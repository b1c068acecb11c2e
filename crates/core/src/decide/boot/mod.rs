//! The boot plan, and menus in each loader's language.
//!
//! [`plan()`] decides what a machine gets and why; [`screen_for`] turns that into what the person at the machine sees;
//! [`render`] writes it in the loader's language. [`Request`] recognises what a loader asks for.

mod compose;
mod language;
mod parameters;
mod paths;
mod plan;
mod screen;

pub use compose::{
    Picked, Viewer, WAIT_KEY, answered_line, picked, picked_line, screen_for, screen_of_menu, survey_line,
};
#[cfg(test)]
pub(crate) use language::tests as screens;
pub use language::{render, render_picked};
pub use parameters::merge;
pub use paths::{Request, SCRIPT_USER_CLASS, boot_path, iso_path, loader_path, pick_path, script_path};
pub use plan::{Action, BootPlan, MenuFrom, Why, menu_shown, plan, plan_for_newcomer};
pub use screen::{KernelBoot, LeftOut, Line, LineAction, Screen};
