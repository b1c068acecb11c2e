//! The files: kept by their digest, on their way in, read for those who fetch them.

mod content;
mod store;
mod uploads;

pub(crate) use content::{BlockingReader, Content, ContentReader, OnFile, modified_ns};
pub(crate) use store::{Library, Opened, Promised, Shelf, TakeError};
pub(crate) use uploads::{UploadError, Uploads};
