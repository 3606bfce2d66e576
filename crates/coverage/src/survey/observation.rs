//! What an uplink says of coverage: where the device was, which gateways heard it and how well, and which did not.

use thiserror::Error;

use crate::geo::Place;

/// An uplink as evidence.
#[derive(Debug, Clone, PartialEq)]
pub struct Observation {
    /// When, in seconds since 1970.
    pub at_s: i64,
    /// The device's DevEUI.
    pub device: u64,
    /// Where the device was; none if that is not known.
    pub place: Option<Place>,
    /// Whether the device tells its own position: it may move.
    pub moves: bool,
    /// The index of the data rate.
    pub data_rate: u8,
    /// The SNR that this data rate needs, in dB.
    pub needed_snr_db: f64,
    /// What the device transmitted (EIRP), in dBm.
    pub power_dbm: f64,
    /// How many dB more margin the device would have at full power and at the slowest data rate.
    pub reserve_db: f64,
    /// How many uplinks it stands for: those of a device that stands still are thinned.
    pub uplinks: u16,
    /// How many uplinks were lost since the one before.
    pub lost: u16,
    /// The gateways that heard it.
    pub heard: Vec<Heard>,
}

/// A gateway that heard an uplink.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Heard {
    /// Its EUI.
    pub gateway: u64,
    /// Signal strength, in dBm.
    pub rssi_dbm: f32,
    /// Signal over noise, in dB.
    pub snr_db: f32,
}

/// Why an observation is not taken.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum Implausible {
    /// What receivers without a position tell.
    #[error("the position is 0°, 0°: the device had none")]
    NullIsland,
    /// It is no place.
    #[error("{latitude_deg}, {longitude_deg} is no place")]
    NoPlace {
        /// Its latitude.
        latitude_deg: f64,
        /// Its longitude.
        longitude_deg: f64,
    },
    /// Too far from where the device was before.
    #[error("{distance_km:.0} km from where the device was {seconds} s before")]
    Jump {
        /// How far.
        distance_km: f64,
        /// In what time.
        seconds: i64,
    },
    /// A clock that cannot be right.
    #[error("the time {at_s} s after 1970 cannot be right")]
    Time {
        /// The time.
        at_s: i64,
    },
    /// A number that cannot be measured.
    #[error("{name} is {value}")]
    Number {
        /// Which.
        name: &'static str,
        /// What it is.
        value: f64,
    },
}

impl Implausible {
    /// The reasons, to count by.
    pub const REASONS: [&str; 4] = ["no position", "a jump", "a time that cannot be", "a number that cannot be"];

    /// The number of its reason in [`Self::REASONS`].
    pub fn reason(&self) -> usize {
        match self {
            Self::NullIsland | Self::NoPlace { .. } => 0,
            Self::Jump { .. } => 1,
            Self::Time { .. } => 2,
            Self::Number { .. } => 3,
        }
    }
}

/// Places nearer to 0°, 0° than this are no places, in degrees.
const NULL_ISLAND_DEG: f64 = 0.01;
/// LoRaWAN is younger than the year 2000, and no survey is from after 2200.
const TIMES_S: std::ops::Range<i64> = 946_684_800..7_258_118_400;

impl Observation {
    /// Checks what can be checked without knowing others.
    ///
    /// # Errors
    /// It cannot be.
    pub fn check(&self) -> Result<(), Implausible> {
        if !TIMES_S.contains(&self.at_s) {
            return Err(Implausible::Time { at_s: self.at_s });
        }
        if let Some(Place { latitude_deg, longitude_deg }) = self.place {
            Place::new(latitude_deg, longitude_deg).ok_or(Implausible::NoPlace { latitude_deg, longitude_deg })?;
            if latitude_deg.abs() < NULL_ISLAND_DEG && longitude_deg.abs() < NULL_ISLAND_DEG {
                return Err(Implausible::NullIsland);
            }
        }
        let own =
            [("needed_snr_db", self.needed_snr_db), ("power_dbm", self.power_dbm), ("reserve_db", self.reserve_db)];
        let heard = self
            .heard
            .iter()
            .flat_map(|one| [("rssi_dbm", f64::from(one.rssi_dbm)), ("snr_db", f64::from(one.snr_db))]);
        match own.into_iter().chain(heard).find(|(_, value)| !(-250.0..=150.0).contains(value)) {
            Some((name, value)) => Err(Implausible::Number { name, value }),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) const MIDDLE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
    pub(crate) const START_S: i64 = 1_770_000_000;

    /// An uplink of device 1 at this place that gateway 7 heard.
    pub(crate) fn observed(place: Place, after_s: i64, rssi_dbm: f32) -> Observation {
        Observation {
            at_s: START_S + after_s,
            device: 1,
            place: Some(place),
            moves: true,
            data_rate: 5,
            needed_snr_db: -7.5,
            power_dbm: 14.0,
            reserve_db: 12.5,
            uplinks: 1,
            lost: 0,
            heard: vec![Heard { gateway: 7, rssi_dbm, snr_db: 3.0 }],
        }
    }

    #[test]
    fn what_cannot_be_is_refused_with_the_reason() {
        let good = observed(MIDDLE, 0, -90.0);
        assert_eq!(good.check(), Ok(()));
        assert_eq!(Observation { place: None, ..good.clone() }.check(), Ok(()), "a place need not be known");
        let zero = Place { latitude_deg: 0.0, longitude_deg: 0.001 };
        assert_eq!(observed(zero, 0, -90.0).check(), Err(Implausible::NullIsland));
        let nowhere = Place { latitude_deg: 95.0, longitude_deg: 3.9 };
        assert!(matches!(observed(nowhere, 0, -90.0).check(), Err(Implausible::NoPlace { .. })));
        let why = |observed: Observation| observed.check().unwrap_err();
        assert!(why(observed(MIDDLE, 0, f32::NAN)).to_string().contains("rssi_dbm is NaN"));
        let early = why(Observation { at_s: 12, ..good.clone() });
        assert_eq!(Implausible::REASONS[early.reason()], "a time that cannot be");
        assert!(matches!(why(Observation { at_s: i64::MAX, ..good }), Implausible::Time { .. }));
    }
}
