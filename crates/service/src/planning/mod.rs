//! Planning coverage: the losses around sites, forecasts as jobs, and what is shown of them.

pub(crate) mod compared;
pub(crate) mod forecaster;
pub(crate) mod links;
pub(crate) mod losses;
pub(crate) mod opened;
pub(crate) mod sites;
pub(crate) mod survey;
