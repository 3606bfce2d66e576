//! What gateways say and hear, as codecs: bytes in, values out, and back. No socket is opened here.
//!
//! One protocol so far: the UDP packet-forwarder protocol, version 2 ([`udp`]). [`layout`] is how a concentrator is set
//! to a channel plan.
#![warn(missing_docs)]

pub mod layout;
pub mod udp;
