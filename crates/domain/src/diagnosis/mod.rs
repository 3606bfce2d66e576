//! Why something does not work, what needs attention, and what to do next.

pub mod device;
pub mod health;
pub mod join;
pub mod plausibility;
pub mod watch;
