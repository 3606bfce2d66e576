//! Calculators: airtime, regions, frames.

pub mod airtime;
pub mod frame;
pub mod region;
