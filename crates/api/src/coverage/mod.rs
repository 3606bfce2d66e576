//! Coverage: sites, kinds of receiver, forecasts, the links of devices, and the survey.

pub mod calibration;
pub mod comparison;
pub mod forecast;
pub mod link;
pub mod site;
pub mod survey;
