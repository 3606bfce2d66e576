//! What can be worked out from tables alone: airtime, regions, the parts of a frame.

pub mod airtime;
pub mod frame;
pub mod region;
