//! Gateways: registering and importing them, their channels, what they hear.

pub mod channels;
pub mod check;
pub mod credential;
pub mod firmware;
pub mod import;
pub mod reception;
