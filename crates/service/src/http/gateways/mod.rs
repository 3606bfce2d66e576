//! Handlers for gateways: list, registration, credentials and kits, firmware.

pub mod access;
pub mod firmware;
pub mod gateway;
