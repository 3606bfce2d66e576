//! State that an engine needs back after a restart.

use lorawan::Eui64;

use crate::device::profile::Class;
use crate::device::session::{Counters, Session};
use crate::device::settings::Settings;
use crate::downlink::item::{OutboxId, OutboxState};
use crate::io::config::Nonces;
use crate::ledger::Transmitter;

/// State that an engine needs back after a restart.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// A session was agreed upon. It is kept beside the running one until the first uplink under it;
    /// `begun`, it takes its place at once.
    Session {
        /// The device.
        dev_eui: Eui64,
        /// The new session.
        session: Box<Session>,
        /// Whether it begins at once.
        begun: bool,
    },
    /// Nonces that are spent.
    Nonces {
        /// The device.
        dev_eui: Eui64,
        /// The DevNonce that may not come again, if there was one.
        dev_nonce: Option<u16>,
        /// All of them as they now are.
        nonces: Nonces,
    },
    /// The first uplink under the session agreed upon last: it takes the place of the one before.
    Began {
        /// The device.
        dev_eui: Eui64,
        /// Its counters.
        counters: Counters,
    },
    /// Its sessions have ended.
    Ended {
        /// The device.
        dev_eui: Eui64,
        /// Whether its DevNonces are forgotten too.
        nonces: bool,
    },
    /// The running session's counters moved.
    Counters {
        /// The device.
        dev_eui: Eui64,
        /// As they now are.
        counters: Counters,
    },
    /// What the device is set to has changed.
    Settings {
        /// The device.
        dev_eui: Eui64,
        /// As they now are.
        settings: Box<Settings>,
    },
    /// A downlink in the outbox moved on.
    Outbox {
        /// The device.
        dev_eui: Eui64,
        /// Which one.
        id: OutboxId,
        /// Where it stands now.
        state: OutboxState,
        /// Transmissions tried.
        attempts: u8,
        /// Its place in line.
        place: i64,
    },
    /// The gateways that hear the device best, or its class, have changed: how to reach it before its next uplink.
    Near {
        /// The device.
        dev_eui: Eui64,
        /// When it listens.
        class: Class,
        /// Gateways and how well they hear it, best first.
        near: Vec<(Eui64, f32)>,
    },
    /// A group's counter moved.
    GroupCounter {
        /// The group.
        group: Eui64,
        /// Its next counter.
        next_down: u32,
    },
    /// A minute of a transmitter's account, as a whole.
    Airtime {
        /// Whose.
        transmitter: Transmitter,
        /// The sub-band's name.
        sub_band: &'static str,
        /// The minute, counted from 1970.
        minute: i64,
        /// Airtime in that minute so far.
        airtime_us: u64,
        /// Frames in that minute so far.
        frames: u32,
    },
}
