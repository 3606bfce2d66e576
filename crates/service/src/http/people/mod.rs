//! Handlers for estates, fleets, members, shares, the installation and the audit log.

pub mod audit;
pub mod estates;
pub mod installation;
pub mod members;
