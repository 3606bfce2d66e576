//! What gateways say and hear, as codecs: bytes in, values out, and back. No socket is opened here.
//!
//! Two protocols so far: the UDP packet-forwarder protocol, version 2 ([`udp`]), and the WebSocket LNS protocol with
//! CUPS beside it ([`lns`], [`cups`]). [`layout`] is how a concentrator is set to a channel plan.
#![warn(missing_docs)]

pub mod cups;
pub mod layout;
pub mod lns;
pub mod udp;
