//! What gateways say and hear, as codecs: bytes in, values out, and back. No socket is opened here.
//!
//! One protocol so far: the UDP packet-forwarder protocol, version 2 ([`udp`]).
#![warn(missing_docs)]

pub mod udp;
