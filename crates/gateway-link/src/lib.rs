//! What gateways say and hear, as codecs: bytes in, values out, and back. No socket is opened here.
//!
//! The UDP packet-forwarder protocol, version 2 ([`udp`]); the WebSocket LNS protocol with CUPS beside it ([`lns`],
//! [`cups`]); and our own topics for gateways behind an MQTT broker ([`mqtt`]). [`layout`] is how a concentrator is set to a channel plan.

pub mod cups;
pub mod layout;
pub mod lns;
pub mod mqtt;
pub mod udp;
