//! Stand-ins for what is not on the desk: devices with the device side of the MAC, gateways that speak over real
//! sockets, by UDP or by WebSocket with the files of a connection kit, and air between them.
//!
//! A [`scenario::Scenario`] names who there is; a [`world::World`] brings them to life.

pub mod clock;
pub mod crowd;
pub mod device;
pub mod gateway;
pub mod island;
pub mod lns;
pub mod load;
pub mod radio;
pub mod scenario;
pub mod sensor;
pub mod world;
