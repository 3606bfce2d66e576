//! Handlers for devices: list, registration, changes, groups, radio profiles, outbox, rehearsal, labels.

pub(crate) mod change;
pub(crate) mod device;
pub(crate) mod groups;
pub(crate) mod labels;
pub(crate) mod outbox;
pub(crate) mod profiles;
pub(crate) mod register;
pub(crate) mod rehearsal;
