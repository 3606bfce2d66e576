//! Handlers for devices: list, registration, changes, groups, radio profiles, outbox, rehearsal, labels.

pub mod change;
pub mod device;
pub mod groups;
pub mod labels;
pub mod outbox;
pub mod profiles;
pub mod register;
pub mod rehearsal;
