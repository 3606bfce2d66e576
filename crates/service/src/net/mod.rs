//! Sockets: listening with and without TLS, limits on connections and handshakes, rate limits.
//! No protocol lives here.

pub(crate) mod few;
pub(crate) mod listen;
pub(crate) mod outside;
pub(crate) mod passage;
pub(crate) mod rate_limit;
pub(crate) mod room;
pub(crate) mod source;
pub(crate) mod tls;
