//! Gateways: which are registered and when they were heard, their events, credentials, connection kits and firmware.
//! The protocols they speak are in `transport`; sockets in general are in `net`.

pub mod authority;
pub mod broker_files;
pub mod credentials;
pub mod event_log;
pub mod firmware;
pub mod kit;
pub mod registry;
pub mod transport;
