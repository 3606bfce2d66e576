#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test
//! The whole thing, through its real interfaces.

mod air;
mod bad_input;
mod catalogue;
mod commands;
mod console;
mod console_contrast;
mod console_people;
mod edge;
mod faults;
mod first_light;
mod gateways;
mod interface;
mod joins;
mod kills;
mod labels;
mod live;
mod mac;
mod many_devices;
mod mqtt;
mod network;
mod outbox;
mod people;
mod readings;
mod records;
mod registering;
mod restart;
mod rights;
mod scenes;
mod secrets;
mod surface;
mod tools;
mod trust;
mod websocket;
mod workbench;
