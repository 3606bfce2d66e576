//! Handlers for estates, fleets, members, shares, the installation and the audit log.

pub(crate) mod audit;
pub(crate) mod estates;
pub(crate) mod installation;
pub(crate) mod members;
