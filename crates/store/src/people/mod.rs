//! People: accounts, memberships, shares, access tokens, the audit log, and the access filter of statements.

pub(crate) mod access;
pub(crate) mod access_filter;
pub(crate) mod accounts;
pub(crate) mod audit;
pub(crate) mod removal;
pub(crate) mod tokens;
pub(crate) mod two_step;
