//! What the next downlink of a device must carry: acknowledgement, answers and requests.

use lorawan::mac::DownCommand;

use crate::mac::{Ask, MAX_FOPTS, Negotiation};

/// What an uplink requires of the next downlink.
#[derive(Debug, Default)]
pub(crate) struct Due {
    /// An acknowledgement.
    pub(crate) acknowledge: bool,
    /// Any frame, as a sign that the device is heard (ADRACKReq).
    pub(crate) sign: bool,
    /// Answers to the device's MAC commands.
    pub(crate) mac_answers: Vec<DownCommand>,
    /// The network's requests.
    pub(crate) asks: Vec<Ask>,
}

impl Due {
    /// What has to be sent, as text; `None` if nothing.
    pub(crate) fn owed(&self) -> Option<&'static str> {
        match self {
            Due { acknowledge: true, .. } => Some("acknowledgement"),
            Due { mac_answers, .. } if !mac_answers.is_empty() => Some("answer to its MAC commands"),
            Due { asks, .. } if !asks.is_empty() => Some("request for new settings"),
            Due { sign: true, .. } => Some("sign that it is heard"),
            _ => None,
        }
    }

    /// Commands for the header of a frame with `room` bytes, answers first, and the requests among them. What is too
    /// long for any header is the frame's whole payload instead. Answers that do not fit into that either are left out:
    /// the device asks again.
    pub(crate) fn commands(&mut self, room: usize) -> Commands {
        let answers = std::mem::take(&mut self.mac_answers);
        let asks = std::mem::take(&mut self.asks);
        let header = room.min(MAX_FOPTS);
        let bytes = fitting(&answers, room);
        if bytes.len() > header {
            let (own, more) = Negotiation::fitting(asks, room - bytes.len());
            return Commands { bytes: [bytes, more].concat(), asks: own, on_port_0: true };
        }
        let (own, more) = Negotiation::fitting(asks.clone(), header - bytes.len());
        if own.is_empty() && !asks.is_empty() {
            let (own, more) = Negotiation::fitting(asks, room - bytes.len());
            if bytes.len() + more.len() > MAX_FOPTS {
                return Commands { bytes: [bytes, more].concat(), asks: own, on_port_0: true };
            }
        }
        Commands { bytes: [bytes, more].concat(), asks: own, on_port_0: false }
    }
}

/// The first of these commands that fit into `room` bytes.
fn fitting(commands: &[DownCommand], room: usize) -> Vec<u8> {
    let mut bytes = Vec::new();
    for command in commands {
        let before = bytes.len();
        command.emit(&mut bytes);
        if bytes.len() > room {
            bytes.truncate(before);
            break;
        }
    }
    bytes
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
