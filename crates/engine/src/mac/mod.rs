//! MAC commands both ways: what a device asks is answered at once ([`hear`]), and what the network wants
//! of it is asked until it is acknowledged, or refused permanently ([`Negotiation`]).

mod ask;
mod hear;
mod negotiation;

pub(crate) use ask::Ask;
pub(crate) use hear::{Heard, hear};
pub use negotiation::{Health, Negotiated, RefusedSetting};
pub(crate) use negotiation::{MAX_FOPTS, Negotiation};
