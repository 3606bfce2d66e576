//! The air: how strongly a frame arrives, and whether it can be demodulated.
//!
//! The loss of a path is computed from terrain and cover; shadowing is the same at the same place; layers of air and small
//! movements change it from hour to hour and from frame to frame.

use std::collections::HashMap;

use coverage::geo::Place;
use coverage::link::antenna::Antenna;
use coverage::link::shadowing::Shadowing;
use coverage::model::{Model, Path, Polarization, free_space_db, p1812};
use coverage::terrain::mosaic::Terrain;
use lorawan::Modulation;
use lorawan::limits::{NOISE_FIGURE_DB, noise_dbm};
use rand::{Rng, RngExt as _};

use crate::environment::{MomentUs, ducting_db};

/// Where losses are computed; within a band they differ by little.
const FREQUENCY_MHZ: f64 = 868.0;
/// Between samples of the ground.
const STEP_M: f64 = 30.0;
/// Near a gateway a device is in its sight.
const NEAREST_M: f64 = 5.0;
/// Devices that walk share the losses of places this near to one another, in degrees: some sixty metres.
const LATTICE_DEG: (f64, f64) = (0.000_5, 0.000_9);
/// Losses that are kept, so that a path is computed once.
const KEPT: usize = 400_000;
/// How much losses differ from the model's, and over what distance.
const SHADOWING_DB: f64 = 3.5;
const SHADOWING_M: f64 = 90.0;
/// Small movements: of a fixed device, and of one on an animal.
const FADING_DB: f64 = 1.1;
const FADING_ON_AN_ANIMAL_DB: f64 = 2.8;
/// A receiver's own oscillators and quantising keep SNR from growing beyond this, however near the sender is.
const SNR_CEILING_DB: f64 = 12.0;
/// How exactly receivers measure SNR.
const SNR_ERROR_DB: f64 = 0.6;
/// SNR that FSK needs.
const FSK_REQUIRED_SNR_DB: f64 = 10.0;
/// One carrier of an LR-FHSS packet: 488.28 bit/s of GMSK.
const LR_FHSS_HOP_HZ: u32 = 488;
const LR_FHSS_REQUIRED_SNR_DB: f64 = 3.0;

/// How a frame arrives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arrival {
    /// Signal strength with the noise, as receivers measure it, in dBm.
    pub rssi_dbm: f64,
    /// Signal-to-noise ratio, in dB.
    pub snr_db: f64,
    /// Whether a receiver gets the frame out of the noise.
    pub heard: bool,
}

/// A gateway's place and antenna.
#[derive(Debug, Clone)]
pub struct Mast {
    /// Where it stands.
    pub place: Place,
    /// Its antenna above the ground, in metres.
    pub height_m: f64,
    /// The antenna.
    pub antenna: Antenna,
    /// Noise from its surroundings above a quiet receiver's, in dB.
    pub noise_db: f64,
}

/// A device's place.
#[derive(Debug, Clone, Copy)]
pub struct Spot {
    /// Where it is.
    pub place: Place,
    /// Its antenna above the ground, in metres.
    pub height_m: f64,
    /// It is on an animal.
    pub walks: bool,
}

impl Spot {
    /// Places that share their losses.
    fn key(self, mast: usize) -> (usize, i64, i64, i64) {
        let (north, east) = if self.walks { LATTICE_DEG } else { (1e-5, 1e-5) };
        let Place { latitude_deg, longitude_deg } = self.place;
        let cell = |deg: f64, size: f64| (deg / size).round() as i64;
        (mast, cell(latitude_deg, north), cell(longitude_deg, east), (self.height_m * 10.0) as i64)
    }
}

/// The air over a ground.
pub struct Air {
    terrain: Terrain,
    model: Model,
    masts: Vec<Mast>,
    seed: u64,
    known: HashMap<(usize, i64, i64, i64), f64>,
}

impl Air {
    /// The air between these masts and everywhere; `seed` decides the shadowing.
    pub fn new(terrain: Terrain, masts: Vec<Mast>, seed: u64) -> Self {
        Self { terrain, model: Model::P1812(p1812::Settings::default()), masts, seed, known: HashMap::new() }
    }

    /// The ground.
    pub fn terrain(&self) -> &Terrain {
        &self.terrain
    }

    /// The median loss between a mast and a spot in dB, the mast's antenna counted in: the same both ways.
    pub fn way_db(&mut self, mast: usize, spot: Spot) -> f64 {
        let key = spot.key(mast);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        if self.known.len() >= KEPT {
            self.known.clear();
        }
        let way_db = self.computed_db(mast, spot);
        self.known.insert(key, way_db);
        way_db
    }

    fn computed_db(&self, mast: usize, spot: Spot) -> f64 {
        let Some(at) = self.masts.get(mast) else { return f64::INFINITY };
        let distance_m = at.place.distance_m(spot.place).max(NEAREST_M);
        let shadowing =
            Shadowing { seed: self.seed ^ mast as u64, deviation_db: SHADOWING_DB, distance_m: SHADOWING_M };
        let ground = |place| self.terrain.sample(place).map_or(0.0, |sample| sample.ground_m);
        let above_m = ground(spot.place) + spot.height_m - ground(at.place) - at.height_m;
        let gain_dbi = at.antenna.gain_dbi(at.place.bearing_deg(spot.place), above_m.atan2(distance_m).to_degrees());
        self.loss_db(at, spot, distance_m) + shadowing.at_db(spot.place) - gain_dbi
    }

    fn loss_db(&self, at: &Mast, spot: Spot, distance_m: f64) -> f64 {
        if distance_m <= self.model.shortest_m() {
            let around = self
                .terrain
                .sample(spot.place)
                .map_or(0.0, |sample| self.model.at_receiver_db(FREQUENCY_MHZ, sample, spot.height_m));
            return free_space_db(FREQUENCY_MHZ, distance_m / 1000.0) + around;
        }
        // What the files do not cover is out of reach.
        let Ok(profile) = self.terrain.profile(at.place, spot.place, STEP_M) else { return f64::INFINITY };
        let path = Path {
            profile: profile.whole(),
            frequency_mhz: FREQUENCY_MHZ,
            polarization: Polarization::Vertical,
            tx_height_m: at.height_m.max(1.0),
            rx_height_m: spot.height_m.max(1.0),
            latitude_deg: at.place.latitude_deg,
        };
        self.model.loss(&path).map_or(f64::INFINITY, |loss| loss.total_db)
    }

    /// How strong a frame from a spot is at a mast on average at this moment, in dBm.
    pub fn level_dbm(&mut self, mast: usize, spot: Spot, eirp_dbm: f64, at_us: MomentUs) -> f64 {
        eirp_dbm - self.way_db(mast, spot) + ducting_db(mast as u64, at_us)
    }

    /// How a device's frame arrives at a mast.
    pub fn up(
        &mut self,
        (mast, spot): (usize, Spot),
        (eirp_dbm, modulation): (f64, Modulation),
        at_us: MomentUs,
        rng: &mut impl Rng,
    ) -> Arrival {
        let level_dbm = self.level_dbm(mast, spot, eirp_dbm, at_us) + fading_db(spot, rng);
        let noise_db = self.masts.get(mast).map_or(0.0, |mast| mast.noise_db);
        arrival(level_dbm, noise_db, modulation, rng)
    }

    /// How a mast's frame arrives at a device. `power_dbm` is what is put into the antenna.
    pub fn down(
        &mut self,
        (mast, spot): (usize, Spot),
        (power_dbm, modulation): (f64, Modulation),
        at_us: MomentUs,
        rng: &mut impl Rng,
    ) -> Arrival {
        let level_dbm = self.level_dbm(mast, spot, power_dbm, at_us) + fading_db(spot, rng);
        arrival(level_dbm, 0.0, modulation, rng)
    }
}

/// About normal, from -3 to 3.
fn normal(rng: &mut impl Rng) -> f64 {
    let sum: f64 = (0..6).map(|_| rng.random_range(-1.0..1.0)).sum();
    sum / 2f64.sqrt()
}

fn fading_db(spot: Spot, rng: &mut impl Rng) -> f64 {
    normal(rng) * if spot.walks { FADING_ON_AN_ANIMAL_DB } else { FADING_DB }
}

/// The sum of two powers in dB.
fn sum_db(a: f64, b: f64) -> f64 {
    10.0 * (10f64.powf(a / 10.0) + 10f64.powf(b / 10.0)).log10()
}

/// How a receiver takes a frame of this level.
fn arrival(level_dbm: f64, surroundings_db: f64, modulation: Modulation, rng: &mut impl Rng) -> Arrival {
    let (bandwidth_hz, required_db) = match modulation {
        Modulation::Lora { spreading_factor, bandwidth } => (bandwidth.hz(), spreading_factor.required_snr_db()),
        Modulation::Fsk { bit_rate_bps } => (bit_rate_bps * 2, FSK_REQUIRED_SNR_DB),
        // Each hop is a carrier of 488 Hz, far down in the noise of the whole channel.
        Modulation::LrFhss { .. } => (LR_FHSS_HOP_HZ, LR_FHSS_REQUIRED_SNR_DB),
    };
    let noise_dbm = noise_dbm(bandwidth_hz, NOISE_FIGURE_DB) + surroundings_db + 0.3 * normal(rng);
    let snr_db = level_dbm - noise_dbm;
    let measured_db = -sum_db(-snr_db, -SNR_CEILING_DB) + SNR_ERROR_DB * normal(rng);
    Arrival { rssi_dbm: sum_db(level_dbm, noise_dbm), snr_db: measured_db, heard: snr_db >= required_db }
}

#[cfg(test)]
mod tests {
    use coverage::terrain::mosaic::NoData;
    use rand::SeedableRng as _;
    use rand::rngs::StdRng;

    use super::*;

    const CHAPEL: Place = Place { latitude_deg: 54.712, longitude_deg: 3.884 };

    fn over_water() -> Air {
        let mast = Mast { place: CHAPEL, height_m: 20.0, antenna: Antenna::ISOTROPIC, noise_db: 0.0 };
        Air::new(Terrain { no_data: NoData::Sea, ..Terrain::default() }, vec![mast], 7)
    }

    fn spot(distance_m: f64) -> Spot {
        Spot { place: CHAPEL.towards(70.0, distance_m), height_m: 2.0, walks: false }
    }

    fn mean(air: &mut Air, spot: Spot, sf: u8) -> (f64, f64, f64) {
        let mut rng = StdRng::seed_from_u64(3);
        let modulation = Modulation::lora(sf, 125).unwrap();
        let all: Vec<Arrival> = (0..400).map(|_| air.up((0, spot), (14.0, modulation), 0, &mut rng)).collect();
        let of = |value: fn(&Arrival) -> f64| all.iter().map(value).sum::<f64>() / all.len() as f64;
        (of(|a| a.rssi_dbm), of(|a| a.snr_db), of(|a| f64::from(u8::from(a.heard))))
    }

    #[test]
    fn snr_saturates_near_the_gateway_and_falls_with_distance() {
        let mut air = over_water();
        let [near, half_a_kilometre, far, further] =
            [30.0, 600.0, 9_000.0, 25_000.0].map(|m| mean(&mut air, spot(m), 12));
        assert!((10.5..12.2).contains(&near.1) && (near.1 - half_a_kilometre.1).abs() < 1.0, "{near:?}");
        assert!(
            near.0 > half_a_kilometre.0 + 10.0,
            "strength tells what SNR no longer does: {near:?} {half_a_kilometre:?}"
        );
        assert!(far.1 < 8.0 && further.1 < far.1 - 6.0, "{far:?} {further:?}");
        // Below the noise the strength is that of the noise.
        assert!(further.0 > -119.0 && further.1 < -3.0, "{further:?}");
    }

    #[test]
    fn slower_data_rates_reach_further() {
        let mut air = over_water();
        let reach = |sf, air: &mut Air| {
            (1..60).map(|km| f64::from(km) * 1000.0).find(|m| mean(air, spot(*m), sf).2 < 0.5).unwrap_or(60_000.0)
        };
        assert!(reach(12, &mut air) > reach(7, &mut air) + 5_000.0);
    }

    #[test]
    fn a_path_loses_the_same_each_time_and_off_the_terrain_everything() {
        let (mut one, mut two) = (over_water(), over_water());
        assert_eq!(one.way_db(0, spot(4_000.0)), two.way_db(0, spot(4_000.0)));
        assert!((one.way_db(0, spot(4_000.0)) - one.way_db(0, spot(4_300.0))).abs() > 0.1);
        let dry = Terrain { no_data: NoData::Refused, ..Terrain::default() };
        let mast = Mast { place: CHAPEL, height_m: 20.0, antenna: Antenna::ISOTROPIC, noise_db: 0.0 };
        assert_eq!(Air::new(dry, vec![mast], 7).way_db(0, spot(4_000.0)), f64::INFINITY);
    }
}
