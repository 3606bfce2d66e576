//! The link budget: from transmit power to whether a frame is understood.

pub mod antenna;
pub mod budget;
pub mod interference;
pub mod path;
pub mod shadowing;
