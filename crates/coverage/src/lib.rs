//! Coverage: why a gateway hears a device in one valley and not in the next.
//!
//! Pure computation over bytes and arrays: terrain and cover from files ([`terrain`]), the loss of a path by several models
//! ([`model`]), from a loss to data rate, airtime and reliability ([`link`]), and all of
//! it for every place around a site ([`area`]); and what the network itself has measured ([`survey`]).

pub mod area;
pub mod geo;
pub mod link;
pub mod model;
pub mod range;
pub mod survey;
pub mod terrain;
