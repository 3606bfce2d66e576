//! Sockets: listening with and without TLS, limits on connections and handshakes, rate limits.
//! No protocol lives here.

pub(crate) mod handshakes;
pub(crate) mod listen;
pub(crate) mod rate_limit;
pub(crate) mod tls;
