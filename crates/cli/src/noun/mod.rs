//! What can be done, noun by noun.

pub mod airtime;
pub mod bench;
mod bench_gateways;
pub mod device;
mod device_change;
mod device_import;
pub mod estate;
pub mod fleet;
pub mod frame;
pub mod gateway;
mod gateway_access;
mod gateway_firmware;
mod gateway_health;
mod gateway_import;
pub mod group;
pub mod intake;
pub mod layout;
pub mod ledger;
pub mod model;
pub mod outbox;
pub mod profile;
pub mod region;
pub mod relay;
pub mod scenario;
pub mod traffic;
pub mod watch;
mod why;
