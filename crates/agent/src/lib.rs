//! Beside a gateway: reading its connection kit, and carrying one that speaks UDP over MQTT.

mod carry;
pub mod kit;

pub use carry::{AgentError, Options, run};
