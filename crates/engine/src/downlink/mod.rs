//! Frames to devices and groups: the outbox, choosing window and gateway, making the frame, handing it over, beacons.

pub mod beacon;
pub mod candidate;
pub mod frame;
pub mod item;
pub mod multicast;
pub mod outbox;
pub mod queued_send;
pub mod reply;
pub mod schedule;
pub mod transmit;
