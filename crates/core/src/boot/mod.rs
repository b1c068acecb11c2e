//! Architectures, loaders, the boot plan, and menus in each loader's language.
//!
//! [`plan`] decides what a machine gets and why; [`screen_for`] turns that into what the person at the
//! machine sees; [`render`] writes it in the loader's language. [`Request`] recognises what a loader asks for.

mod advice;
mod arch;
mod compose;
mod drawing;
mod identify;
mod language;
mod loader;
mod menu;
mod parameters;
mod paths;
mod plan;
mod screen;
mod service;
mod values;

pub use advice::{Advice, AdviceOption, AdvicePort, AdviceRow, Ports, advise};
pub use arch::{Architecture, Fetches, Firmware};
use compose::AGAIN;
pub use compose::{Viewer, WAIT_KEY, answered_line, picked, picked_line, screen_for, screen_of_menu};
pub use drawing::{Drawn, draw};
pub use identify::{LoaderFacts, identify};
pub use language::{Language, Reader, render, render_picked};
pub use loader::{HttpReach, Loader, LoaderDraft};
pub use menu::{ActionDraft, After, EntryDraft, Guard, Menu, MenuAction, MenuDraft, MenuEntry};
pub use parameters::{Origin, Parameter, check_parameter, merge};
pub use paths::{Request, SCRIPT_USER_CLASS, boot_path, iso_path, loader_path, pick_path, script_path};
pub use plan::{Action, BootPlan, MenuFrom, Why, menu_shown, plan};
pub use screen::{KernelBoot, LeftOut, Line, LineAction, Screen};
pub use service::Service;
pub use values::{Bound, Condition, Template, TemplateError, VALUES_MEND, Values};
