//! Architectures, loaders, the boot plan, and menus in each loader's language.
//!
//! [`plan`] decides what a machine gets and why; [`menu_for`] turns that into what the person at the
//! machine sees; [`grub::render`] writes it in the loader's language. [`Request`] recognises what a loader asks for.

mod advice;
mod arch;
pub mod grub;
mod loader;
mod menu;
mod paths;
mod plan;

pub use advice::{Advice, AdviceOption, AdvicePort, AdviceRow, Ports, advise};
pub use arch::{Architecture, Fetches, Firmware};
pub use loader::{HttpReach, Loader, LoaderDraft};
pub use menu::{Entry, EntryAction, KernelBoot, Menu, Service, menu_for};
pub use paths::{Request, boot_path, loader_path};
pub use plan::{Action, BootPlan, Why, plan};
