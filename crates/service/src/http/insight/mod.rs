//! Handlers that only show: watch, traffic, readings, airtime ledger, frames, regions, search.

pub mod find;
pub mod frames;
pub mod ledger;
pub mod readings;
pub mod regions;
pub mod service;
pub mod traffic;
pub mod watch;
