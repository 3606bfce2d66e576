//! Calculators that need only the regions' tables: airtime, regions, the parts of a frame.

pub mod airtime;
pub mod frame;
pub mod region;
