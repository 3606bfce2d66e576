//! Frames from devices: collecting copies, accepting or refusing them, joins, and what an uplink tells of its device.

pub(crate) mod collect;
mod data;
pub(crate) mod follow;
pub(crate) mod join;
pub(crate) mod join_checks;
pub(crate) mod refusal;
