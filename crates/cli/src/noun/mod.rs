//! What can be done, noun by noun.

pub mod device;
pub mod estate;
pub mod fleet;
pub mod gateway;
pub mod intake;
pub mod model;
pub mod outbox;
pub mod scenario;
pub mod traffic;
