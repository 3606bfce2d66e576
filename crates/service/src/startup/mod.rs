//! Starting and stopping: options, the checks before the service begins (database, lease, master key, journal), the
//! first start, and the operator's commands. What runs afterwards lives in the other folders.

pub(crate) mod config;
pub(crate) mod damage;
pub(crate) mod database;
pub(crate) mod files;
pub(crate) mod first_start;
pub(crate) mod high_water;
pub(crate) mod journal;
pub(crate) mod keepers;
pub(crate) mod lease;
pub(crate) mod operator;
pub(crate) mod past;
pub(crate) mod ports;
pub(crate) mod private;
pub(crate) mod records;
pub(crate) mod run;
pub(crate) mod shared;
pub(crate) mod web;
