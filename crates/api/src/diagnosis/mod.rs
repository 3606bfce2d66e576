//! What is wrong, why, and what to do next.

pub mod device;
pub mod join;
pub mod plausibility;
pub mod watch;
