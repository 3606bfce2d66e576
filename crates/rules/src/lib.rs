//! Rules: conditions over readings, states and time, as one state machine.
//!
//! A [`Rule`] has conditions on a few sources: readings, signal, states. A [`Machine`] runs one rule over many subjects (devices
//! or gateways) and keeps a [`State`] for each. It never reads a clock: values come with their times, and [`Machine::advance`]
//! says how far time has come. The same values give the same events, whether they come live or from the history: so a rule
//! is tried on the past by the code that runs it later ([`trial`]).

mod active;
mod area;
mod check;
mod condition;
mod machine;
mod rule;
mod state;
pub mod suggest;
pub mod trial;
mod usual;
mod window;

pub use active::{Active, Hours};
pub use area::{Area, MOST_CORNERS};
pub use check::{Fault, FaultKind};
pub use machine::{Cause, Event, EventKind, LeftOut, Machine, Sample};
pub use rule::{AtMs, Combine, Compared, Condition, MOST_CONDITIONS, Rule, Test, Value};
pub use state::State;

/// What a rule watches: a device or a gateway, by its EUI.
pub type Subject = u64;
