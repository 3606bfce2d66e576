//! The survey: fed after each commit, held in memory for those who look at it.

pub(crate) mod calibrate;
pub(crate) mod feeder;
pub(crate) mod opened;
pub(crate) mod surveys;
pub(crate) mod told;
