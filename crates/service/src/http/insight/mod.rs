//! Handlers that only show: watch, traffic, readings, airtime ledger, frames, regions, search.

pub(crate) mod find;
pub(crate) mod frames;
pub(crate) mod ledger;
pub(crate) mod readings;
pub(crate) mod regions;
pub(crate) mod service;
pub(crate) mod traffic;
pub(crate) mod watch;
