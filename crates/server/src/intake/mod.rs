//! How files come in, and how they are looked after: uploads in pieces, looking into what came, reading it all again.

mod archive;
mod look;
mod uploads;
mod verify;
mod work;

pub(crate) use look::{LookError, look};
pub(crate) use uploads::{UploadError, Uploads};
pub(crate) use verify::{verify_again, verify_on_schedule};
pub(crate) use work::{WorkBook, WorkHandle};
