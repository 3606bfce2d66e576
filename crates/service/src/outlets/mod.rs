//! Outlets: messages are delivered to other systems, at least once and in order for each device.
//!
//! The history of messages is the log that each outlet reads; it keeps its place in it and nothing else.

mod keeper;
mod letter;
mod news;
mod reader;
mod sending;
mod task;
mod window;

pub(crate) use keeper::{Outlets, Troubled, runtime};
pub(crate) use letter::{LetterAbout, shown};
pub(crate) use reader::Reader;
pub(crate) use sending::{Allowed, Shaper, check_script};
