//! Stand-ins for what is not on the desk: devices with the device side of the MAC, gateways that speak over real
//! sockets, by UDP or by WebSocket with the files of a connection kit, and air between them.
//!
//! A [`scenario::Scenario`] lists gateways and devices. A [`simulation::Simulation`] simulates them without a clock or sockets; a
//! [`world::World`] runs it in real time, over sockets.

pub mod air;
pub mod clock;
pub mod crowd;
pub mod device;
pub mod environment;
pub mod gateway;
pub mod island;
pub mod lns;
pub mod load;
pub mod on_air;
pub mod scenario;
pub mod sensor;
pub mod simulation;
pub mod walk;
pub mod world;
