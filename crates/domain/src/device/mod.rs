//! Devices: registering, changing and importing them, their keys and labels.

pub mod change;
pub mod group;
pub mod import;
pub mod join;
pub mod keys;
pub mod label;
pub mod place;
pub mod read_back;
pub mod register;
pub mod rehearsal;
pub mod state;
