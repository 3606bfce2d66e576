//! What has to be right before the service begins: the database, who holds it, the master key, the journal.

pub mod damage;
pub mod database;
pub mod files;
pub mod high_water;
pub mod journal;
pub mod lease;
