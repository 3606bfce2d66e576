//! The engine on a virtual clock: devices that speak the real frames, gateways that report, and no
//! second of waiting.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

mod clock;
mod downlinks;
mod estates;
mod exact;
mod field;
mod invariants;
mod joins;
mod life;
mod mac;
mod multicast;
mod on_air;
mod regions;
mod resume;
mod settings;
mod trouble;
mod uplinks;
mod week;
mod world;
