//! People: accounts, memberships, shares, access tokens, the audit log, and statements limited to what somebody sees.

pub(crate) mod access;
pub(crate) mod access_filter;
pub(crate) mod accounts;
pub(crate) mod audit;
pub(crate) mod tokens;
