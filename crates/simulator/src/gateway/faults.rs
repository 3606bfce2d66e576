//! What can be wrong with a gateway and its way to the service. Two gateways with one EUI need no fault: a scenario may
//! name the same EUI twice.

use lorawan::region::Region;
use serde::Deserialize;

/// What is wrong; nothing, unless told.
#[derive(Debug, Clone, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Faults {
    /// Share of the frames it hears that get lost on their way, 0 to 1.
    pub loss: f64,
    /// How long frames take on their way.
    pub delay_ms: u64,
    /// By how much its concentrator's clock is fast.
    pub clock_drift_ppm: f64,
    /// Every so often its connection breaks, or its datagrams come from another port, and it goes on at once.
    pub reconnects_every_s: Option<f64>,
    /// Its concentrator is set to another region's channels, and it says so of the frames it hears. One that is told
    /// its channels by the service cannot have this.
    pub set_to: Option<Region>,
}

impl Faults {
    /// Whether a frame gets lost.
    pub fn loses(&self) -> bool {
        self.loss > 0.0 && rand::random::<f64>() < self.loss
    }

    /// What it says it heard a frame on.
    pub fn heard_on_hz(&self, region: Region, frequency_hz: u32) -> u32 {
        let Some(other) = self.set_to else { return frequency_hz };
        let at = region.plan().network_uplinks().position(|channel| channel.frequency_hz == frequency_hz);
        let there = at.and_then(|at| other.plan().network_uplinks().nth(at));
        there.map_or(frequency_hz, |channel| channel.frequency_hz)
    }

    /// What a fast clock shows after this many microseconds.
    pub fn drifted_us(&self, elapsed_us: u128) -> u128 {
        let off = elapsed_us as f64 * self.clock_drift_ppm / 1e6;
        if off >= 0.0 { elapsed_us + off as u128 } else { elapsed_us.saturating_sub(-off as u128) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_plan_shows_in_frequencies() {
        let faults = Faults { set_to: Some(Region::Us915), ..Faults::default() };
        assert_eq!(faults.heard_on_hz(Region::Eu868, 868_100_000), 902_300_000);
        assert_eq!(faults.heard_on_hz(Region::Eu868, 868_300_000), 902_500_000);
        assert_eq!(faults.heard_on_hz(Region::Eu868, 1), 1);
        assert_eq!(Faults::default().heard_on_hz(Region::Eu868, 868_100_000), 868_100_000);
    }

    #[test]
    fn a_clock_drifts_either_way() {
        let drifted = |ppm| Faults { clock_drift_ppm: ppm, ..Faults::default() }.drifted_us(10_000_000);
        assert_eq!((drifted(0.0), drifted(20.0), drifted(-20.0)), (10_000_000, 10_000_200, 9_999_800));
    }

    #[test]
    fn a_share_of_frames_is_lost() {
        let lost = |loss| (0..1000).filter(|_| Faults { loss, ..Faults::default() }.loses()).count();
        assert_eq!((lost(0.0), lost(1.0)), (0, 1000));
        assert!((350..650).contains(&lost(0.5)));
    }
}
