//! What goes into an engine and what comes out.

pub(crate) mod change;
pub(crate) mod command;
pub(crate) mod config;
pub(crate) mod event;
pub(crate) mod frame;
pub(crate) mod transmission;

use crate::io::change::Change;
use crate::io::command::Command;
use crate::io::event::Event;
use crate::io::frame::FrameHeard;
use crate::io::transmission::{Transmission, TransmissionId, TxFailure};

/// What happened.
#[derive(Debug, Clone)]
pub enum Input {
    /// A gateway heard a frame.
    FrameHeard(FrameHeard),
    /// A gateway reports on a transmission.
    TxReport {
        /// Which one.
        transmission: TransmissionId,
        /// Taken to be sent, or why not.
        result: Result<(), TxFailure>,
    },
    /// Someone wants something changed.
    Command(Command),
    /// A deadline has come.
    Tick,
}

/// What is to be done, in this order.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// Make this durable before any later effect takes place.
    Persist(Change),
    /// Hand this frame to its gateway.
    Transmit(Transmission),
    /// Tell the live stream.
    Publish(Event),
}
