//! Beside a gateway: reading its connection kit, and carrying one that speaks UDP over MQTT.

pub mod kit;
mod relay;

pub use relay::{Options, RelayError, run};
