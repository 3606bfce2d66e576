//! Who calls and what they may do: signing in, sessions, tokens, rights, rate limits of accounts, the audit record.
//! The table of rights itself is `domain::access`.

pub(crate) mod access;
pub(crate) mod account;
pub(crate) mod audit_context;
pub(crate) mod authenticate;
pub(crate) mod authorize;
pub(crate) mod context;
pub(crate) mod limits;
pub(crate) mod presented;
pub(crate) mod recent;
pub(crate) mod secret;
pub(crate) mod sign_in;
pub(crate) mod tokens;
pub(crate) mod two_step;
