//! Who calls and what they may do: signing in, sessions, tokens, rights, rate limits of accounts, the audit record.
//! The table of rights itself is `domain::access`.

pub mod access;
pub mod account;
pub mod audit_context;
pub mod authenticate;
pub mod authorize;
pub mod context;
pub mod limits;
pub mod presented;
pub mod recent;
pub mod secret;
pub mod sign_in;
pub mod tokens;
pub mod two_step;
