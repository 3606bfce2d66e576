//! The rules of the network, above the wire types: what may be registered, what radio settings mean, why a device is
//! not heard, what a decoder's value means, who may do what. Service, store and client ask the same rules.
//!
//! Pure: no input or output, no clock; time and randomness come in as arguments.

pub mod access;
pub mod audit;
pub mod calculator;
pub mod coverage;
pub mod csv;
pub mod device;
pub mod diagnosis;
pub mod downlink;
pub mod fleet;
pub mod gateway;
pub mod grants;
pub mod input;
pub mod metrics;
pub mod model;
pub mod outlet;
pub mod patch;
pub mod people;
pub mod radio;
pub mod reading;
pub mod round;
pub mod token;

use api::problem::Problem;

/// A request that can be checked without the estate.
pub trait Check {
    /// The checked form.
    type Checked;

    /// Checks every field.
    ///
    /// # Errors
    /// Names the field, its value and what is allowed.
    fn check(&self) -> Result<Self::Checked, Problem>;
}
