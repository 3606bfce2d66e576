//! What is on the air at the same time: frames that overlap, and gateways that send and so do not hear.

use std::collections::VecDeque;

use coverage::link::interference::threshold_db;
use lorawan::Modulation;

use crate::air::{Air, Spot};
use crate::environment::MomentUs;

/// The longest frame, and some more: what ended before that overlaps nothing any more.
const REMEMBERED_US: i64 = 15_000_000;
/// Channels this far apart do not disturb one another.
const APART_HZ: u32 = 100_000;
/// FSK and LR-FHSS are asked to be this much stronger than what overlaps them.
const OTHERS_DB: f64 = 10.0;

/// A device's frame on the air.
#[derive(Debug, Clone, Copy)]
pub struct Burst {
    /// When it begins and ends.
    pub from_us: MomentUs,
    /// When it ends.
    pub until_us: MomentUs,
    /// Its frequency.
    pub frequency_hz: u32,
    /// Its modulation.
    pub modulation: Modulation,
    /// Its radiated power.
    pub eirp_dbm: f64,
    /// Where it is sent.
    pub spot: Spot,
    /// Which device sends it.
    pub sender: usize,
}

/// What is on the air, and was a moment ago.
#[derive(Debug, Default)]
pub struct OnAir {
    bursts: VecDeque<Burst>,
    /// Masts that send: which, from when, until when.
    sending: VecDeque<(usize, MomentUs, MomentUs)>,
}

/// How much stronger a frame must be than one that overlaps it.
fn needed_db(frame: Modulation, other: Modulation) -> f64 {
    match (frame, other) {
        (Modulation::Lora { spreading_factor, .. }, Modulation::Lora { spreading_factor: other, .. }) => {
            threshold_db(spreading_factor, other)
        }
        _ => OTHERS_DB,
    }
}

impl OnAir {
    /// A device begins to send.
    pub fn begins(&mut self, burst: Burst) {
        let long_ago_us = burst.from_us - REMEMBERED_US;
        self.bursts.retain(|other| other.until_us > long_ago_us);
        self.sending.retain(|(_, _, until_us)| *until_us > long_ago_us);
        self.bursts.push_back(burst);
    }

    /// A mast begins to send.
    pub fn mast_sends(&mut self, mast: usize, from_us: MomentUs, until_us: MomentUs) {
        self.sending.push_back((mast, from_us, until_us));
    }

    /// Whether a frame of this level is lost at a mast to others, or because the mast itself was sending. All that overlaps it
    /// has begun when it ends.
    pub fn loses(&self, burst: &Burst, (mast, level_dbm): (usize, f64), air: &mut Air) -> bool {
        let overlaps = |from_us: MomentUs, until_us: MomentUs| from_us < burst.until_us && burst.from_us < until_us;
        if self.sending.iter().any(|(sends, from_us, until_us)| *sends == mast && overlaps(*from_us, *until_us)) {
            return true;
        }
        let others = self.bursts.iter().filter(|other| {
            other.sender != burst.sender
                && other.frequency_hz.abs_diff(burst.frequency_hz) < APART_HZ
                && overlaps(other.from_us, other.until_us)
        });
        others.into_iter().any(|other| {
            let other_dbm = air.level_dbm(mast, other.spot, other.eirp_dbm, burst.until_us);
            level_dbm - other_dbm < needed_db(burst.modulation, other.modulation)
        })
    }
}

#[cfg(test)]
mod tests {
    use coverage::geo::Place;
    use coverage::link::antenna::Antenna;
    use coverage::terrain::mosaic::{NoData, Terrain};

    use super::*;
    use crate::air::Mast;

    const MAST: Place = Place { latitude_deg: 54.712, longitude_deg: 3.884 };

    fn burst(sender: usize, distance_m: f64, sf: u8, from_us: MomentUs) -> Burst {
        let spot = Spot { place: MAST.towards(70.0, distance_m), height_m: 2.0, walks: false };
        let modulation = Modulation::lora(sf, 125).unwrap();
        let until_us = from_us + 60_000;
        Burst { from_us, until_us, frequency_hz: 868_100_000, modulation, eirp_dbm: 14.0, spot, sender }
    }

    /// Whether the second of two frames is lost.
    fn lost(first: Burst, second: Burst) -> bool {
        let mast = Mast { place: MAST, height_m: 20.0, antenna: Antenna::ISOTROPIC, noise_db: 0.0 };
        let mut air = Air::new(Terrain { no_data: NoData::Sea, ..Terrain::default() }, vec![mast], 7);
        let mut on_air = OnAir::default();
        on_air.begins(first);
        on_air.begins(second);
        let level_dbm = air.level_dbm(0, second.spot, second.eirp_dbm, second.until_us);
        on_air.loses(&second, (0, level_dbm), &mut air)
    }

    #[test]
    fn the_stronger_of_two_frames_is_captured_and_other_factors_stand_much() {
        let (near, far) = (burst(0, 300.0, 7, 0), burst(1, 6_000.0, 7, 10_000));
        assert!(lost(near, far) && !lost(far, near));
        assert!(!lost(near, burst(1, 6_000.0, 7, 70_000)), "they do not overlap");
        assert!(!lost(near, Burst { frequency_hz: 868_300_000, ..far }), "another channel");
        assert!(!lost(burst(0, 3_000.0, 7, 0), burst(1, 6_000.0, 12, 10_000)), "another spreading factor");
        assert!(lost(burst(0, 10.0, 7, 0), burst(1, 9_000.0, 12, 10_000)), "but too strong");
    }

    #[test]
    fn a_mast_that_sends_does_not_hear() {
        let mast = Mast { place: MAST, height_m: 20.0, antenna: Antenna::ISOTROPIC, noise_db: 0.0 };
        let mut air = Air::new(Terrain { no_data: NoData::Sea, ..Terrain::default() }, vec![mast], 7);
        let (mut on_air, frame) = (OnAir::default(), burst(0, 300.0, 7, 1_000_000));
        on_air.begins(frame);
        on_air.mast_sends(1, 1_000_000, 1_100_000);
        assert!(!on_air.loses(&frame, (0, -80.0), &mut air), "another one sends");
        on_air.mast_sends(0, 900_000, 1_010_000);
        assert!(on_air.loses(&frame, (0, -80.0), &mut air));
    }
}
