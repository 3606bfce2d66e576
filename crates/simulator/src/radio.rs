//! A simple model of the air: how strongly a frame arrives, and whether it can be demodulated.
//!
//! It is made to look plausible in a demo, not to plan a network: loss over distance with one
//! exponent, a fixed shadow for each pair of places, and some fading for each frame.

use lorawan::Modulation;

/// A place on the ground.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// Latitude, in degrees north.
    pub latitude_deg: f64,
    /// Longitude, in degrees east.
    pub longitude_deg: f64,
}

impl Place {
    /// Distance over ground in kilometres; on this scale a flat earth will do.
    pub fn distance_km(self, other: Place) -> f64 {
        const KM_PER_DEGREE: f64 = 111.2;
        let mean = f64::midpoint(self.latitude_deg, other.latitude_deg).to_radians();
        let north = (self.latitude_deg - other.latitude_deg) * KM_PER_DEGREE;
        let east = (self.longitude_deg - other.longitude_deg) * KM_PER_DEGREE * mean.cos();
        north.hypot(east)
    }
}

/// How a frame arrives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arrival {
    /// Signal strength, in dBm.
    pub rssi_dbm: f64,
    /// Signal-to-noise ratio, in dB.
    pub snr_db: f64,
    /// Whether a receiver gets the frame out of the noise.
    pub heard: bool,
}

/// Loss grows with this power of distance: low antennas over marsh and water.
const EXPONENT: f64 = 3.1;
/// Receiver noise figure.
const NOISE_FIGURE_DB: f64 = 6.0;
/// SNR reported by receivers stops growing about here.
const SNR_CEILING_DB: f64 = 11.0;
/// SNR that FSK needs.
const FSK_REQUIRED_SNR_DB: f64 = 10.0;
/// One carrier of an LR-FHSS packet: 488.28 bit/s of GMSK.
const LR_FHSS_HOP_HZ: f64 = 488.28;
const LR_FHSS_REQUIRED_SNR_DB: f64 = 3.0;

/// Path loss: free space at one kilometre, `32.45 + 20 log10(f)` with f in MHz (ITU-R P.525-4, eq. 4),
/// and more than free space beyond.
fn path_loss_db(distance_km: f64, frequency_hz: u32) -> f64 {
    let at_one_km = 32.45 + 20.0 * (f64::from(frequency_hz) / 1e6).log10();
    at_one_km + 10.0 * EXPONENT * distance_km.max(0.01).log10()
}

/// What a hill or a house between two places takes: up to 8 dB, the same each time.
fn shadow_db(a: Place, b: Place) -> f64 {
    let mix = (a.latitude_deg + b.latitude_deg) * 7919.0 + (a.longitude_deg + b.longitude_deg) * 104_729.0;
    mix.sin().abs() * 8.0
}

/// How a frame sent with `eirp_dbm` arrives. `fading` is 0 to 1, one draw for each frame.
pub fn arrival(
    from: Place,
    to: Place,
    eirp_dbm: f64,
    gain_dbi: f64,
    frequency_hz: u32,
    modulation: Modulation,
    fading: f64,
) -> Arrival {
    let loss = path_loss_db(from.distance_km(to), frequency_hz) + shadow_db(from, to) + 6.0 * fading;
    let rssi_dbm = eirp_dbm + gain_dbi - loss;
    let (bandwidth_hz, required_db) = match modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            (f64::from(bandwidth.khz()) * 1000.0, spreading_factor.required_snr_db())
        }
        Modulation::Fsk { bit_rate_bps } => (f64::from(bit_rate_bps) * 2.0, FSK_REQUIRED_SNR_DB),
        // Each hop is a carrier of 488 Hz, far down in the noise of the whole channel.
        Modulation::LrFhss { .. } => (LR_FHSS_HOP_HZ, LR_FHSS_REQUIRED_SNR_DB),
    };
    let noise_dbm = -174.0 + 10.0 * bandwidth_hz.log10() + NOISE_FIGURE_DB;
    let snr_db = rssi_dbm - noise_dbm;
    Arrival { rssi_dbm, snr_db: snr_db.min(SNR_CEILING_DB), heard: snr_db >= required_db }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CHAPEL: Place = Place { latitude_deg: 54.712, longitude_deg: 3.884 };

    #[test]
    fn free_space_at_one_kilometre() {
        assert!((path_loss_db(1.0, 868_100_000) - 91.22).abs() < 0.01);
        let north = Place { latitude_deg: 54.722, ..CHAPEL };
        assert!((CHAPEL.distance_km(north) - 1.112).abs() < 1e-6);
    }

    #[test]
    fn slower_data_rates_reach_further() {
        let far = Place { latitude_deg: 54.712, longitude_deg: 4.387 };
        let heard = |sf| arrival(far, CHAPEL, 14.0, 2.0, 868_100_000, Modulation::lora(sf, 125).unwrap(), 0.5).heard;
        assert!(heard(12) && !heard(7));
    }

    proptest! {
        #[test]
        fn further_is_never_stronger(near_deg in 0.001f64..0.05, more in 1.0f64..4.0) {
            let at = |deg| path_loss_db(CHAPEL.distance_km(Place { latitude_deg: CHAPEL.latitude_deg + deg, ..CHAPEL }), 868_100_000);
            prop_assert!(at(near_deg) <= at(near_deg * more));
        }
    }
}
