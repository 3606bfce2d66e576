//! End-to-end tests on loopback.
