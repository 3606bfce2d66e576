//! A simulation's state, saved so that it continues after a stop.

use std::collections::BTreeMap;
use std::path::Path;

use lorawan::Eui64;
use serde::{Deserialize, Serialize};

use super::Simulation;
use crate::device::SavedDevice;
use crate::environment::MomentUs;
use crate::scenario::ScenarioError;
use crate::sensor::Told;

/// A world's saved state.
#[derive(Serialize, Deserialize)]
pub struct SavedWorld {
    /// The moment that the scenario's days are counted back from.
    pub present_us: MomentUs,
    /// What decided its shadowing and its chances.
    pub seed: u64,
    devices: BTreeMap<Eui64, Inhabited>,
}

#[derive(Serialize, Deserialize)]
struct Inhabited {
    device: SavedDevice,
    told: Option<Told>,
    sent: u32,
    begun_us: MomentUs,
    wakes_us: MomentUs,
}

impl SavedWorld {
    /// Reads it from a file; none if there is no such file.
    ///
    /// # Errors
    /// The file cannot be read, or is not one of these.
    pub fn read(path: &Path) -> Result<Option<Self>, ScenarioError> {
        let file = || path.display().to_string();
        match std::fs::read(path) {
            Ok(bytes) => serde_json::from_slice(&bytes)
                .map(Some)
                .map_err(|why| ScenarioError::State { file: file(), why: why.to_string() }),
            Err(why) if why.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(ScenarioError::File { file: file(), source }),
        }
    }

    /// Writes it to a file, all of it or nothing.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn write(&self, path: &Path) -> Result<(), ScenarioError> {
        let wrong = |source| ScenarioError::File { file: path.display().to_string(), source };
        let beside = path.with_extension("new");
        let json = serde_json::to_vec(self).map_err(|why| wrong(why.into()))?;
        std::fs::write(&beside, json).and_then(|()| std::fs::rename(&beside, path)).map_err(wrong)
    }
}

impl Simulation {
    /// Its state.
    pub fn saved(&self) -> SavedWorld {
        let of = |one: &super::Inhabitant| {
            let next_us = if one.under_way.is_some() { one.next_plain_wake_us() } else { one.wakes_us };
            Inhabited {
                device: one.device.saved(),
                told: one.sensor.told,
                sent: one.sent,
                begun_us: one.begun_us,
                wakes_us: next_us,
            }
        };
        let devices = self.inhabitants.iter().map(|one| (one.dev_eui(), of(one))).collect();
        SavedWorld { present_us: self.present_us, seed: self.seed, devices }
    }

    /// Continues from a saved state. Devices whose next uplink is overdue send soon, the others at their time.
    pub fn restore(&mut self, mut saved: SavedWorld) {
        for who in 0..self.inhabitants.len() {
            let one = &mut self.inhabitants[who];
            let Some(kept) = saved.devices.remove(&one.dev_eui()) else { continue };
            one.device.restore(kept.device);
            (one.sensor.told, one.sent, one.begun_us) = (kept.told, kept.sent, kept.begun_us);
            let first_us = one.wakes_us;
            self.plan(who, if kept.wakes_us > self.now_us { kept.wakes_us } else { first_us });
        }
    }
}
