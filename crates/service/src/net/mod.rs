//! Sockets: listening with and without TLS, limits on connections and handshakes, rate limits.
//! No protocol lives here.

pub mod handshakes;
pub mod listen;
pub mod rate_limit;
pub mod tls;
