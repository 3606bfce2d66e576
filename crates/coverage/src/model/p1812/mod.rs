//! ITU-R P.1812-4 (2015): "A path-specific propagation prediction method for point-to-area terrestrial services in the VHF and
//! UHF bands". This edition counts the cover around the antennas apart (§4.7); later ones put it into the profile.
//!
//! No number published with the recommendation could be checked against here: the tests hold it to its own limiting cases.

mod climate;
mod clutter;
mod combine;
mod ducting;
mod line_of_sight;
mod normal;
mod scatter;

use serde::{Deserialize, Serialize};

pub use normal::inverse_complementary_normal;

use super::diffraction::Diffraction;
use super::ground::{Ground, Horizon, SmoothEnds};
use super::{Loss, Mechanism, Path, free_space_db, wavelength_m};
use crate::geo::EARTH_RADIUS_M;
use crate::range::{RangeError, within};
use crate::terrain::profile::Sample;

/// What is asked of the model.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// The loss is not exceeded in this share of the time of an average year, in percent, 1 to 50.
    pub time_percent: f64,
    /// Nor in this share of the places around the receiver, in percent, 1 to 99.
    pub places_percent: f64,
    /// By how much the refractive index falls in the lowest kilometre, in N-units (ITU-R P.453; 45 is usual in northern Europe).
    pub delta_n: f64,
    /// The refractivity at the sea's surface, in N-units (ITU-R P.453; 325 is usual in northern Europe).
    pub n0: f64,
    /// How wide a place is over which the loss is the mean, in metres.
    pub place_width_m: f64,
    /// How wide streets and clearings are, in metres.
    pub street_width_m: f64,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            time_percent: 50.0,
            places_percent: 50.0,
            delta_n: 45.0,
            n0: 325.0,
            place_width_m: 50.0,
            street_width_m: 27.0,
        }
    }
}

impl Settings {
    fn check(&self) -> Result<(), RangeError> {
        within("time_percent", self.time_percent, 1.0..=50.0, "%")?;
        within("places_percent", self.places_percent, 1.0..=99.0, "%")?;
        within("delta_n", self.delta_n, 10.0..=150.0, "N-units")?;
        within("n0", self.n0, 250.0..=450.0, "N-units")?;
        within("place_width_m", self.place_width_m, 1.0..=1_000.0, "m")?;
        within("street_width_m", self.street_width_m, 1.0..=100.0, "m")
    }
}

/// A path with what is worked out of it once.
struct Worked<'a> {
    path: &'a Path<'a>,
    settings: &'a Settings,
    ground: &'a Ground<'a>,
    horizon: Horizon,
    /// The smooth earth under the path.
    smooth: SmoothEnds,
    climate: climate::Climate,
    frequency_ghz: f64,
    water_share: f64,
}

impl Worked<'_> {
    fn length_km(&self) -> f64 {
        self.ground.length_km()
    }

    /// Kilometres from the transmitter and from the receiver to their horizons.
    fn horizons_km(&self) -> (f64, f64) {
        (self.ground.d_km(self.horizon.tx_at), self.length_km() - self.ground.d_km(self.horizon.rx_at))
    }

    /// The antennas above the smooth earth, in metres (Attachment 1 §5.6.3).
    fn effective_m(&self) -> (f64, f64) {
        let ground = self.ground;
        let last_m = ground.h_m(ground.last());
        (ground.tx_m - self.smooth.tx_m.min(ground.h_m(0)), ground.rx_m - self.smooth.rx_m.min(last_m))
    }
}

/// What is computed of a path, in dB, but for the cover around the receiver.
struct Computed {
    free_db: f64,
    /// In sight, in the share of time asked for.
    in_sight_db: f64,
    diffracted_db: f64,
    /// All mechanisms together.
    unshielded_db: f64,
    tx_cover_db: f64,
}

fn compute(path: &Path<'_>, settings: &Settings) -> Result<Computed, RangeError> {
    path.check(30.0..=3_000.0, 0.0..=3_000.0)?;
    within("distance_km", path.distance_km(), 0.25..=3_000.0, "km")?;
    settings.check()?;
    let ground = Ground::of(path);
    let climate = climate::Climate::of(path, settings);
    let smooth = ground.smooth();
    let worked = Worked {
        horizon: ground.horizon(climate.earth_km, wavelength_m(path.frequency_mhz)),
        smooth,
        frequency_ghz: path.frequency_mhz / 1000.0,
        water_share: path.profile.water_share(),
        climate,
        ground: &ground,
        settings,
        path,
    };
    let free_db = free_space_db(path.frequency_mhz, path.distance_km().hypot((ground.tx_m - ground.rx_m) / 1000.0));
    let in_sight = line_of_sight::InSight::of(&worked, free_db);
    let in_sight_db = in_sight.at_time_db;
    let diffraction = Diffraction {
        smooth: ground.lowered(smooth),
        frequency_mhz: path.frequency_mhz,
        water_share: worked.water_share,
        polarization: path.polarization,
        ground: &ground,
    };
    let median_db = diffraction.loss_db(worked.climate.earth_km);
    let share = worked.climate.share_of(settings.time_percent);
    let diffracted_db = if share == 0.0 {
        median_db
    } else {
        median_db + share * (diffraction.loss_db(climate::DUCT_EARTH_FACTOR * EARTH_RADIUS_M / 1000.0) - median_db)
    };
    let parts = combine::Parts {
        in_sight,
        median_with_diffraction_db: free_db + median_db,
        diffracted_db,
        scattered_db: scatter::loss_db(&worked),
        ducted_db: ducting::loss_db(&worked),
        share,
    };
    let tx_cover_db =
        clutter::end_db(path.profile.first(), path.tx_height_m, worked.frequency_ghz, settings.street_width_m);
    Ok(Computed { free_db, in_sight_db, diffracted_db, unshielded_db: parts.combined_db(&worked), tx_cover_db })
}

/// What the cover around a receiver takes, and what is kept for worse places, in dB.
fn around_receiver_db(settings: &Settings, frequency_mhz: f64, (sample, height_m): (Sample, f64)) -> (f64, f64) {
    let frequency_ghz = frequency_mhz / 1000.0;
    let cover_db = clutter::end_db(sample, height_m, frequency_ghz, settings.street_width_m);
    (cover_db, clutter::places_db(settings, frequency_ghz, height_m - sample.cover_m))
}

/// The loss of a path.
pub(super) fn loss(path: &Path<'_>, settings: &Settings) -> Result<Loss, RangeError> {
    let Computed { free_db, in_sight_db, diffracted_db, unshielded_db, tx_cover_db } = compute(path, settings)?;
    let receiver = (path.profile.last(), path.rx_height_m);
    let (rx_cover_db, places_db) = around_receiver_db(settings, path.frequency_mhz, receiver);
    let shielded_db = unshielded_db + tx_cover_db + rx_cover_db;
    // §4.8: not less than in sight (equation 71).
    let total_db = in_sight_db.max(shielded_db + places_db);
    let multipath_db = in_sight_db - free_db;
    Ok(Loss::of([
        (Mechanism::FreeSpace, free_db),
        (Mechanism::Multipath, multipath_db),
        (Mechanism::Diffraction, diffracted_db),
        (Mechanism::BeyondHorizon, unshielded_db - in_sight_db - diffracted_db),
        (Mechanism::TransmitterCover, tx_cover_db),
        (Mechanism::ReceiverCover, rx_cover_db),
        (Mechanism::Places, total_db - shielded_db),
    ]))
}

/// The loss without what is around the receiver.
pub(super) fn without_receiver_db(path: &Path<'_>, settings: &Settings) -> Result<f64, RangeError> {
    let computed = compute(path, settings)?;
    Ok(computed.in_sight_db.max(computed.unshielded_db + computed.tx_cover_db))
}

/// What is around a receiver, in dB.
pub(super) fn at_receiver_db(settings: &Settings, frequency_mhz: f64, receiver: (Sample, f64)) -> f64 {
    let (cover_db, places_db) = around_receiver_db(settings, frequency_mhz, receiver);
    cover_db + places_db
}
