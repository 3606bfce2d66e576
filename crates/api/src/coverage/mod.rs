//! Planning coverage: sites, kinds of receiver, forecasts and the links of devices.

pub mod forecast;
pub mod link;
pub mod site;
