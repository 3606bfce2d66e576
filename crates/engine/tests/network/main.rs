//! The engine on a virtual clock: devices that speak the real frames, gateways that report, and no
//! second of waiting.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

mod downlinks;
mod invariants;
mod joins;
mod mac;
mod regions;
mod uplinks;
mod world;
