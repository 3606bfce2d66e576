//! Coverage: why a gateway hears a device in one valley and not in the next.
//!
//! Pure computation over bytes and arrays: terrain and cover from files ([`terrain`]), the loss of a path by several models
//! ([`model`]), and from a loss to data rate, airtime and reliability ([`link`]).

pub mod geo;
pub mod link;
pub mod model;
pub mod range;
pub mod terrain;
