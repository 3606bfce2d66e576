//! Antennas: how much stronger than an isotropic one they are in a direction.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::range::{RangeError, within};

/// An antenna. Bearings are degrees from north over east, elevations degrees above the horizon.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Antenna {
    /// The same all around.
    Omni {
        /// Gain in the horizontal plane, in dBi.
        gain_dbi: f64,
        /// Width of the beam where half of the power is left, in degrees; 180 for none.
        vertical_beam_deg: f64,
    },
    /// Into a sector.
    Sector {
        /// The most gain, in dBi.
        gain_dbi: f64,
        /// Where the beam points.
        azimuth_deg: f64,
        /// How far it points below the horizon, in degrees.
        tilt_deg: f64,
        /// Its width where half of the power is left, in degrees.
        horizontal_beam_deg: f64,
        /// Its height where half of the power is left, in degrees.
        vertical_beam_deg: f64,
        /// How much weaker it is at the back, in dB.
        front_to_back_db: f64,
    },
    /// As its data sheet has it.
    Table(AntennaTable),
}

/// Attenuation by angle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct AntennaTable {
    written: Written,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    gain_dbi: f64,
    azimuth_deg: f64,
    tilt_deg: f64,
    /// Degrees from where the antenna points, and dB below its gain.
    horizontal: Vec<(f64, f64)>,
    /// Degrees above where it points, and dB below its gain.
    vertical: Vec<(f64, f64)>,
}

/// Why an antenna cannot be.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum AntennaError {
    /// A number is outside its range.
    #[error(transparent)]
    Range(#[from] RangeError),
    /// A cut has too few or too many angles.
    #[error("the {cut} cut has {count} angles; 4 to 3600 are allowed")]
    Count {
        /// Which cut.
        cut: &'static str,
        /// How many there are.
        count: usize,
    },
    /// Nothing is said of a range of angles.
    #[error("the {cut} cut says nothing between {from_deg}° and {to_deg}°; angles may be {MOST_APART_DEG}° apart")]
    Gap {
        /// Which cut.
        cut: &'static str,
        /// The last angle before it.
        from_deg: f64,
        /// The first angle after it.
        to_deg: f64,
    },
    /// An angle is there twice.
    #[error("the {cut} cut has {angle_deg}° twice")]
    Twice {
        /// Which cut.
        cut: &'static str,
        /// The angle.
        angle_deg: f64,
    },
}

/// The widest gap between two angles of a table, in degrees.
pub const MOST_APART_DEG: f64 = 30.0;
/// A side lobe is not told to be weaker than this, in dB (Report ITU-R M.2135-1, Annex 1 §8.5).
const FLOOR_DB: f64 = 20.0;

impl Antenna {
    /// An isotropic one.
    pub const ISOTROPIC: Self = Self::Omni { gain_dbi: 0.0, vertical_beam_deg: 180.0 };

    /// Checks its numbers.
    ///
    /// # Errors
    /// One is outside its range. A table was checked when it was made.
    pub fn check(&self) -> Result<(), AntennaError> {
        match *self {
            Self::Omni { gain_dbi, vertical_beam_deg } => {
                within("gain_dbi", gain_dbi, -20.0..=20.0, "dBi")?;
                within("vertical_beam_deg", vertical_beam_deg, 1.0..=180.0, "°")?;
            }
            Self::Sector {
                gain_dbi,
                azimuth_deg,
                tilt_deg,
                horizontal_beam_deg,
                vertical_beam_deg,
                front_to_back_db,
            } => {
                within("gain_dbi", gain_dbi, -20.0..=30.0, "dBi")?;
                within("azimuth_deg", azimuth_deg, 0.0..=360.0, "°")?;
                within("tilt_deg", tilt_deg, -90.0..=90.0, "°")?;
                within("horizontal_beam_deg", horizontal_beam_deg, 1.0..=360.0, "°")?;
                within("vertical_beam_deg", vertical_beam_deg, 1.0..=180.0, "°")?;
                within("front_to_back_db", front_to_back_db, 0.0..=60.0, "dB")?;
            }
            Self::Table(_) => {}
        }
        Ok(())
    }

    /// Gain towards a direction, in dBi.
    pub fn gain_dbi(&self, bearing_deg: f64, elevation_deg: f64) -> f64 {
        match self {
            Self::Omni { gain_dbi, vertical_beam_deg } => {
                gain_dbi - beam_db(elevation_deg, *vertical_beam_deg).min(FLOOR_DB)
            }
            Self::Sector {
                gain_dbi,
                azimuth_deg,
                tilt_deg,
                horizontal_beam_deg,
                vertical_beam_deg,
                front_to_back_db,
            } => {
                let across = beam_db(turned(bearing_deg - azimuth_deg), *horizontal_beam_deg).min(*front_to_back_db);
                let up = beam_db(elevation_deg + tilt_deg, *vertical_beam_deg).min(FLOOR_DB);
                gain_dbi - (across + up).min(front_to_back_db.max(FLOOR_DB))
            }
            Self::Table(AntennaTable { written }) => {
                let across = looked_up(&written.horizontal, turned(bearing_deg - written.azimuth_deg));
                let up = looked_up(&written.vertical, turned(elevation_deg + written.tilt_deg));
                written.gain_dbi - across - up
            }
        }
    }
}

/// The main lobe as a parabola: 3 dB less at half of the beam's width (Report ITU-R M.2135-1, Annex 1 §8.5).
fn beam_db(off_deg: f64, width_deg: f64) -> f64 {
    if width_deg >= 180.0 && off_deg.abs() <= 90.0 && width_deg < 360.0 {
        // A dipole's beam and wider ones: nothing is said of what is above and below.
        return 0.0;
    }
    if width_deg >= 360.0 { 0.0 } else { 12.0 * (off_deg / width_deg).powi(2) }
}

/// Degrees between -180 and 180.
fn turned(deg: f64) -> f64 {
    (deg + 180.0).rem_euclid(360.0) - 180.0
}

/// Between the two nearest angles of a cut that goes all around.
fn looked_up(cut: &[(f64, f64)], deg: f64) -> f64 {
    let next = cut.partition_point(|(angle, _)| *angle < deg);
    let (from, to) = match next {
        0 => ((cut[cut.len() - 1].0 - 360.0, cut[cut.len() - 1].1), cut[0]),
        end if end == cut.len() => (cut[end - 1], (cut[0].0 + 360.0, cut[0].1)),
        at => (cut[at - 1], cut[at]),
    };
    from.1 + (to.1 - from.1) * (deg - from.0) / (to.0 - from.0)
}

impl AntennaTable {
    /// A table of attenuations: for each angle, in any order, how many dB below the gain. The horizontal cut goes around the
    /// antenna, the vertical one from below over where it points to above and back; both all around.
    ///
    /// # Errors
    /// A number is outside its range, or angles are missing or there twice.
    pub fn new(
        (gain_dbi, azimuth_deg, tilt_deg): (f64, f64, f64),
        horizontal: Vec<(f64, f64)>,
        vertical: Vec<(f64, f64)>,
    ) -> Result<Self, AntennaError> {
        Written { gain_dbi, azimuth_deg, tilt_deg, horizontal, vertical }.try_into()
    }
}

impl TryFrom<Written> for AntennaTable {
    type Error = AntennaError;

    fn try_from(mut written: Written) -> Result<Self, AntennaError> {
        within("gain_dbi", written.gain_dbi, -20.0..=30.0, "dBi")?;
        within("azimuth_deg", written.azimuth_deg, 0.0..=360.0, "°")?;
        within("tilt_deg", written.tilt_deg, -90.0..=90.0, "°")?;
        written.horizontal = cut("horizontal", written.horizontal)?;
        written.vertical = cut("vertical", written.vertical)?;
        Ok(Self { written })
    }
}

impl From<AntennaTable> for Written {
    fn from(table: AntennaTable) -> Self {
        table.written
    }
}

/// A cut in the order of its angles, without gaps.
fn cut(cut: &'static str, angles: Vec<(f64, f64)>) -> Result<Vec<(f64, f64)>, AntennaError> {
    if !(4..=3600).contains(&angles.len()) {
        return Err(AntennaError::Count { cut, count: angles.len() });
    }
    let mut sorted = Vec::with_capacity(angles.len());
    for (angle_deg, loss_db) in angles {
        within("an angle", angle_deg, -360.0..=360.0, "°")?;
        within("an attenuation", loss_db, -1.0..=100.0, "dB")?;
        sorted.push((turned(angle_deg), loss_db));
    }
    sorted.sort_by(|a, b| a.0.total_cmp(&b.0));
    let around = sorted.iter().skip(1).copied().chain([(sorted[0].0 + 360.0, sorted[0].1)]);
    for (from, to) in sorted.iter().zip(around) {
        if to.0 - from.0 < 1e-9 {
            return Err(AntennaError::Twice { cut, angle_deg: from.0 });
        }
        if to.0 - from.0 > MOST_APART_DEG {
            return Err(AntennaError::Gap { cut, from_deg: from.0, to_deg: turned(to.0) });
        }
    }
    Ok(sorted)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const SECTOR: Antenna = Antenna::Sector {
        gain_dbi: 12.0,
        azimuth_deg: 350.0,
        tilt_deg: 3.0,
        horizontal_beam_deg: 65.0,
        vertical_beam_deg: 15.0,
        front_to_back_db: 25.0,
    };

    fn around(loss: impl Fn(f64) -> f64) -> Vec<(f64, f64)> {
        (0..36).map(|n| f64::from(n) * 10.0).map(|deg| (deg, loss(deg))).collect()
    }

    #[test]
    fn a_beam_has_half_of_its_power_at_its_edges() {
        assert_eq!(SECTOR.gain_dbi(350.0, -3.0), 12.0);
        assert!((SECTOR.gain_dbi(350.0 + 32.5, -3.0) - 9.0).abs() < 1e-9, "north lies within it");
        assert!((SECTOR.gain_dbi(350.0, 4.5) - 9.0).abs() < 1e-9);
        assert_eq!(SECTOR.gain_dbi(170.0, -3.0), 12.0 - 25.0);
        let omni = Antenna::Omni { gain_dbi: 5.0, vertical_beam_deg: 30.0 };
        assert_eq!((omni.gain_dbi(77.0, 0.0), omni.gain_dbi(0.0, 15.0), omni.gain_dbi(0.0, 90.0)), (5.0, 2.0, -15.0));
        assert_eq!(Antenna::ISOTROPIC.gain_dbi(12.0, 80.0), 0.0);
    }

    #[test]
    fn a_table_is_read_between_its_angles_and_refused_with_gaps() {
        let table =
            AntennaTable::new((8.0, 90.0, 0.0), around(|deg| if deg == 0.0 { 0.0 } else { 10.0 }), around(|_| 0.0));
        let antenna = Antenna::Table(table.unwrap());
        assert_eq!(
            (antenna.gain_dbi(90.0, 0.0), antenna.gain_dbi(95.0, 0.0), antenna.gain_dbi(270.0, 0.0)),
            (8.0, 3.0, -2.0)
        );
        let json = serde_json::to_string(&antenna).unwrap();
        assert_eq!(serde_json::from_str::<Antenna>(&json).unwrap(), antenna);
        let why = |horizontal| AntennaTable::new((8.0, 0.0, 0.0), horizontal, around(|_| 0.0)).unwrap_err().to_string();
        let mut gap = around(|_| 1.0);
        gap.drain(10..14);
        assert_eq!(why(gap), "the horizontal cut says nothing between 90° and 140°; angles may be 30° apart");
        let mut twice = around(|_| 1.0);
        twice.push((-10.0, 2.0));
        assert_eq!(why(twice), "the horizontal cut has -10° twice");
        assert!(why(vec![(0.0, 0.0)]).contains("has 1 angles"));
        assert!(why(around(|_| f64::NAN)).contains("an attenuation is NaN dB"));
    }

    proptest! {
        #[test]
        fn no_direction_makes_it_panic(bearing in -1e6..1e6f64, elevation in -90.0..90.0f64) {
            let table = AntennaTable::new((2.0, 10.0, 5.0), around(|deg| deg / 20.0), around(|deg| deg / 30.0)).unwrap();
            for antenna in [SECTOR, Antenna::ISOTROPIC, Antenna::Table(table)] {
                prop_assert!(antenna.gain_dbi(bearing, elevation).is_finite());
            }
        }
    }
}
