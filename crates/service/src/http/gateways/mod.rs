//! Handlers for gateways: list, registration, credentials and kits, firmware.

pub(crate) mod access;
pub(crate) mod firmware;
pub(crate) mod gateway;
