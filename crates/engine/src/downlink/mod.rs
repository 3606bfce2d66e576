//! Frames to devices and groups: the outbox, choosing window and gateway, making the frame, handing it over, beacons.

pub(crate) mod beacon;
pub(crate) mod candidate;
pub(crate) mod frame;
pub(crate) mod item;
pub(crate) mod multicast;
pub(crate) mod outbox;
pub(crate) mod queued_send;
pub(crate) mod reply;
pub(crate) mod schedule;
pub(crate) mod transmit;
