//! What the end-to-end tests stand on: a MariaDB of their own, the built programs, a gateway that is
//! driven frame by frame, and a browser. Every test has its own service, ports and database.

pub mod authority;
pub mod broker;
pub mod browser;
pub mod faults;
pub mod gateway;
pub mod mosquitto;
pub mod postgres;
pub mod programs;
pub mod proxy;
pub mod schemas;
pub mod service;
pub mod sink;
pub mod wait;

pub use testdb as mariadb;
