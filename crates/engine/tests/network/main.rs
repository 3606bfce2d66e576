//! The engine on a virtual clock: devices that speak the real frames, gateways that report, and no
//! second of waiting.

mod downlinks;
mod joins;
mod uplinks;
mod world;
