//! Interfaces, and frames sent and heard past the kernel's own tables.

mod address;
mod frames;
mod interface;

pub(crate) use frames::{FrameListener, FrameSender, Heard, Icmp, not_heard};
pub(crate) use interface::{Interface, own_addresses, v4};
