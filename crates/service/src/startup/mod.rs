//! Starting and stopping: options, the checks before the service begins (database, lease, master key, journal), the
//! first start, and the operator's commands. What runs afterwards lives in the other folders.

pub mod config;
pub mod damage;
pub mod database;
pub mod files;
pub mod first_start;
pub mod high_water;
pub mod journal;
pub mod keepers;
pub mod lease;
pub mod operator;
pub mod ports;
pub mod records;
pub mod run;
pub mod shared;
pub mod web;
