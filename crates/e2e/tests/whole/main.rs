#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test
//! The whole thing, through its real interfaces.

mod bad_input;
mod console;
mod first_light;
mod gateways;
mod live;
mod mac;
mod records;
mod restart;
mod scenes;
mod tools;
mod trust;
