//! What is owed to a device, and the MAC commands that go into its next downlink.

use crate::mac::{Ask, MAX_FOPTS, Negotiation};

/// What an uplink asks of the downlink after it.
#[derive(Debug, Default)]
pub(crate) struct Due {
    /// An acknowledgement.
    pub(crate) acknowledge: bool,
    /// Any frame, as a sign that the device is heard (ADRACKReq).
    pub(crate) sign: bool,
    /// Answers to the device's MAC commands.
    pub(crate) mac_answers: Vec<u8>,
    /// What the network asks of the device.
    pub(crate) asks: Vec<Ask>,
}

impl Due {
    /// What is owed, in words; `None` if nothing is.
    pub(crate) fn owed(&self) -> Option<&'static str> {
        match self {
            Due { acknowledge: true, .. } => Some("acknowledgement"),
            Due { mac_answers, .. } if !mac_answers.is_empty() => Some("answer to its MAC commands"),
            Due { asks, .. } if !asks.is_empty() => Some("request for new settings"),
            Due { sign: true, .. } => Some("sign that it is heard"),
            _ => None,
        }
    }

    /// Commands for the header within `room` bytes, answers first, and the requests among them. Requests
    /// that are too long for any header are the frame's whole payload instead.
    pub(crate) fn commands(&mut self, room: usize) -> Commands {
        let answers = std::mem::take(&mut self.mac_answers);
        let asks = std::mem::take(&mut self.asks);
        let (own, bytes) = Negotiation::fitting(asks.clone(), room.min(MAX_FOPTS).saturating_sub(answers.len()));
        if own.is_empty() && !asks.is_empty() {
            let (own, more) = Negotiation::fitting(asks, room.saturating_sub(answers.len() + 1));
            if !own.is_empty() && answers.len() + more.len() > MAX_FOPTS {
                return Commands { bytes: [answers, more].concat(), asks: own, on_port_0: true };
            }
        }
        Commands { bytes: [answers, bytes].concat(), asks: own, on_port_0: false }
    }
}

/// MAC commands of one frame.
#[derive(Debug, Default)]
pub(crate) struct Commands {
    pub(crate) bytes: Vec<u8>,
    /// The requests among them.
    pub(crate) asks: Vec<Ask>,
    /// Too long for a header: they are the frame's payload, on FPort 0.
    pub(crate) on_port_0: bool,
}
