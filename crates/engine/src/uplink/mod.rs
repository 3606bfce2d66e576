//! Frames from devices: collecting copies, accepting or refusing them, joins, and what an uplink tells of its device.

pub mod collect;
mod data;
pub mod follow;
pub mod join;
pub mod join_checks;
pub mod refusal;
