//! Gateways that connect without being registered.

use std::collections::{BTreeSet, HashMap};

use api::gateway::{Protocol, Stranger};
use chrono::{DateTime, Utc};
use domain::gateway::check;
use lorawan::Eui64;

/// Strangers remembered; the one unheard for longest is dropped.
pub(super) const MAX_STRANGERS: usize = 1000;

/// What is noted about a stranger. Any gateway may call, so a note is cheap; the rest is computed when someone asks.
pub(super) struct Caller {
    address: String,
    first_heard: DateTime<Utc>,
    pub last_heard: DateTime<Utc>,
    frames: u64,
    frequencies_hz: BTreeSet<u32>,
    protocol: Protocol,
    told: Option<String>,
    /// Whether its first call has been published.
    pub announced: bool,
}

impl Caller {
    pub(super) fn shown(&self, eui: Eui64) -> Stranger {
        let frequencies_hz: Vec<u32> = self.frequencies_hz.iter().copied().collect();
        Stranger {
            eui,
            address: self.address.clone(),
            first_heard: self.first_heard,
            last_heard: self.last_heard,
            frames_turned_away: self.frames,
            protocol: self.protocol,
            told: self.told.clone(),
            frequencies_mhz: frequencies_hz.iter().map(|hz| f64::from(*hz) / 1e6).collect(),
            region: check::region_of(&frequencies_hz),
        }
    }
}

/// A call of a gateway that is not registered.
pub(super) struct Call<'a, F> {
    pub address: String,
    pub protocol: Protocol,
    /// Frequencies of the frames it brought.
    pub frames_hz: F,
    /// What it was told.
    pub told: Option<&'a str>,
}

/// Notes a call.
pub(super) fn note<F: ExactSizeIterator<Item = u32>>(
    strangers: &mut HashMap<Eui64, Caller>,
    eui: Eui64,
    call: Call<'_, F>,
) {
    let now = Utc::now();
    if !strangers.contains_key(&eui) && strangers.len() >= MAX_STRANGERS {
        let oldest = strangers.iter().min_by_key(|(_, caller)| caller.last_heard).map(|(eui, _)| *eui);
        oldest.and_then(|eui| strangers.remove(&eui));
    }
    let caller = strangers.entry(eui).or_insert_with(|| Caller {
        address: String::new(),
        first_heard: now,
        last_heard: now,
        frames: 0,
        frequencies_hz: BTreeSet::new(),
        protocol: call.protocol,
        told: None,
        announced: false,
    });
    (caller.address, caller.last_heard, caller.protocol) = (call.address, now, call.protocol);
    caller.told = call.told.map(str::to_owned);
    caller.frames += call.frames_hz.len() as u64;
    for hz in call.frames_hz {
        if caller.frequencies_hz.len() < Stranger::MOST_FREQUENCIES {
            caller.frequencies_hz.insert(hz);
        }
    }
}
