//! What an engine is told to change.

use lorawan::Eui64;

use crate::downlink::item::{OutboxId, OutboxItem, Place};
use crate::io::config::{DeviceConfig, DeviceRecord, GatewayConfig, GroupConfig};
use crate::ledger::{Transmitter, Used};
use crate::time::Timestamp;

/// A change someone asked for.
#[derive(Debug, Clone)]
pub enum Command {
    /// An engine before this one has processed, and made durable, what was due until then. Frames that it was handed
    /// may be handed in again, in the same order: those that were processed are known again, and nothing
    /// follows from them. [`Command::FramesAreNew`] ends this.
    ProcessedUntil(Timestamp),
    /// What is handed in from now on was handed to no engine before, whatever its time.
    FramesAreNew,
    /// The clock was set, and is ahead of where it would be by this much: behind, if that is negative. What lies ahead
    /// still does, after the same time.
    ClockStepped {
        /// Microseconds.
        by_us: i64,
    },
    /// A device's state cannot be stored, so the device is not served: its frames are refused, and nothing is
    /// sent to it, until it is put back or registered again.
    Quarantine(Eui64),
    /// Adds a gateway or changes its settings.
    PutGateway(GatewayConfig),
    /// What a gateway has refused to send is asked of it again: its settings have been put right.
    ForgetRefusals {
        /// Which gateway.
        gateway: Eui64,
    },
    /// Takes a gateway away.
    RemoveGateway(Eui64),
    /// Adds a device or changes its settings; a running session goes on.
    PutDevice(Box<DeviceConfig>),
    /// Puts a device back as it was stored. What waits for it is not sent before a later time: accounts can be
    /// put back after it.
    RestoreDevice(Box<DeviceRecord>),
    /// Takes a device away.
    RemoveDevice(Eui64),
    /// Ends a device's sessions, so that it has to join again; an ABP device starts a new session.
    Forget {
        /// The device.
        dev_eui: Eui64,
        /// Whether its DevNonces may come again, for a device that has lost count of them. Recorded joins can then be
        /// played back.
        nonces: bool,
    },
    /// Sets the counters of a device's running session.
    SetCounters {
        /// The device.
        dev_eui: Eui64,
        /// The last counter accepted from it; `None` within leaves the next one free.
        up: Option<Option<u32>>,
        /// The next counter towards it.
        next_down: Option<u32>,
    },
    /// Puts back a minute of a transmitter's account.
    RestoreAirtime {
        /// Whose.
        transmitter: Transmitter,
        /// The sub-band's name.
        sub_band: String,
        /// The minute, counted from 1970.
        minute: i64,
        /// What was sent in that minute.
        used: Used,
    },
    /// Adds a downlink to a device's outbox.
    Enqueue {
        /// For which device.
        dev_eui: Eui64,
        /// What to send.
        item: OutboxItem,
    },
    /// Moves a waiting downlink to another place in its queue.
    Arrange {
        /// Of which device.
        dev_eui: Eui64,
        /// Which one.
        id: OutboxId,
        /// Where to.
        to: Place,
    },
    /// Adds a multicast group, or changes its settings and members.
    PutGroup {
        /// The group.
        config: Box<GroupConfig>,
        /// Its next counter, for one that is put back or new.
        next_down: u32,
        /// Its downlinks that are neither done nor given up, likewise.
        outbox: Vec<OutboxItem>,
    },
    /// Takes a group away.
    RemoveGroup(Eui64),
    /// Takes a waiting downlink out of the outbox; one already under way stays.
    Cancel {
        /// Of which device.
        dev_eui: Eui64,
        /// Which one.
        id: OutboxId,
    },
}
