//! Rules: what follows for a machine of what was measured of it. The table of locations, and what stands in each rack.
//!
//! [`evaluate`] says what rules would do to one machine, which of them hold, and which part of the others does not. [`apply`] makes
//! the machine of it. Nothing here changes anything: whoever asks decides which effects are meant.

mod apply;
mod draft;
mod evaluate;
mod locations;
mod outcome;
mod preview;
mod rack;

pub use apply::{Applied, apply};
pub use draft::{RuleDraft, USUAL_LIMIT};
pub use evaluate::{Surroundings, evaluate, known_at};
pub use locations::{LocationChange, LocationRow, import_locations};
pub use outcome::{ArmedWith, Effect, Kept, Outcome, Verdict, What};
pub use preview::{Previewed, preview};
pub use rack::{Occupant, Rack, RackUnit, racks};

#[cfg(test)]
mod tests;
