//! Gateways: which are registered and when they were heard, their events, credentials, connection kits and firmware.
//! The protocols they speak are in `transport`; sockets in general are in `net`.

pub(crate) mod authority;
pub(crate) mod broker_files;
pub(crate) mod credentials;
pub(crate) mod event_log;
pub(crate) mod firmware;
pub(crate) mod kit;
pub(crate) mod registry;
pub(crate) mod revocations;
pub(crate) mod transport;
