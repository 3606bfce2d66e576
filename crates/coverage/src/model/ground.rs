//! What the formulas of ITU-R take of a profile: distances in km, heights in metres, horizons and the smooth earth under it
//! (ITU-R P.1812-4, Attachment 1).

use super::Path;
use crate::terrain::profile::Sample;

/// A path as the formulas take it.
pub(super) struct Ground<'a> {
    samples: &'a [Sample],
    step_km: f64,
    /// The transmitter's antenna above the sea, in metres.
    pub tx_m: f64,
    /// The receiver's antenna above the sea, in metres.
    pub rx_m: f64,
}

/// The heights of the smooth earth at both ends, in metres above the sea.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct SmoothEnds {
    pub tx_m: f64,
    pub rx_m: f64,
}

/// Where each antenna sees its horizon.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Horizon {
    /// The other antenna is beyond it.
    pub beyond: bool,
    /// Elevation of the transmitter's horizon, in mrad.
    pub tx_mrad: f64,
    /// Elevation of the receiver's, in mrad.
    pub rx_mrad: f64,
    /// The sample that is the transmitter's horizon.
    pub tx_at: usize,
    /// The sample that is the receiver's.
    pub rx_at: usize,
}

impl<'a> Ground<'a> {
    pub(super) fn of(path: &Path<'a>) -> Self {
        let (tx_m, rx_m) = path.antennas_m();
        Self { samples: path.profile.samples(), step_km: path.profile.step_m() / 1000.0, tx_m, rx_m }
    }

    /// The last sample.
    pub(super) fn last(&self) -> usize {
        self.samples.len() - 1
    }

    /// The samples between the ends.
    pub(super) fn between(&self) -> std::ops::Range<usize> {
        1..self.last()
    }

    /// How far a sample is from the transmitter, in km.
    pub(super) fn d_km(&self, at: usize) -> f64 {
        self.step_km * at as f64
    }

    /// The ground above the sea, in metres.
    pub(super) fn h_m(&self, at: usize) -> f64 {
        self.samples[at].ground_m
    }

    /// The same with what stands on it. Cover at the ends is counted apart.
    pub(super) fn g_m(&self, at: usize) -> f64 {
        self.samples[at].ground_m + self.samples[at].cover_m
    }

    pub(super) fn length_km(&self) -> f64 {
        self.d_km(self.last())
    }

    /// How far a sample stands above the straight line between the antennas, in metres.
    fn above_line_m(&self, at: usize) -> f64 {
        let (d, length) = (self.d_km(at), self.length_km());
        self.h_m(at) - (self.tx_m * (length - d) + self.rx_m * d) / length
    }

    /// The line that fits the ground best, at both ends (§5.6.1, equations 85 to 90).
    pub(super) fn smooth(&self) -> SmoothEnds {
        let length = self.length_km();
        let (mut v1, mut v2) = (0.0, 0.0);
        for at in 1..=self.last() {
            let (d0, d1) = (self.d_km(at - 1), self.d_km(at));
            let (h0, h1) = (self.h_m(at - 1), self.h_m(at));
            v1 += (d1 - d0) * (h1 + h0);
            v2 += (d1 - d0) * (h1 * (2.0 * d1 + d0) + h0 * (d1 + 2.0 * d0));
        }
        let square = length * length;
        SmoothEnds { tx_m: (2.0 * v1 * length - v2) / square, rx_m: (v2 - v1 * length) / square }
    }

    /// The same lowered where the path is obstructed, so that diffraction is not counted twice (§5.6.2, equations 91 to 93).
    pub(super) fn smooth_for_diffraction(&self) -> SmoothEnds {
        self.lowered(self.smooth())
    }

    pub(super) fn lowered(&self, SmoothEnds { mut tx_m, mut rx_m }: SmoothEnds) -> SmoothEnds {
        let length = self.length_km();
        let (mut obstacle_m, mut tx_slope, mut rx_slope) = (f64::NEG_INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY);
        for at in self.between() {
            let above = self.above_line_m(at);
            obstacle_m = obstacle_m.max(above);
            tx_slope = tx_slope.max(above / self.d_km(at));
            rx_slope = rx_slope.max(above / (length - self.d_km(at)));
        }
        if obstacle_m > 0.0 {
            tx_m -= obstacle_m * tx_slope / (tx_slope + rx_slope);
            rx_m -= obstacle_m * rx_slope / (tx_slope + rx_slope);
        }
        SmoothEnds { tx_m: tx_m.min(self.h_m(0)), rx_m: rx_m.min(self.h_m(self.last())) }
    }

    /// The horizons over an earth of this effective radius (§4 and §5, equations 74 to 84). Where the antennas see one another
    /// it is the sample that comes nearest to the line between them.
    pub(super) fn horizon(&self, earth_km: f64, wavelength_m: f64) -> Horizon {
        let length = self.length_km();
        let rise = |at: usize| (self.h_m(at) - self.tx_m) / self.d_km(at) - 500.0 * self.d_km(at) / earth_km;
        let fall = |at: usize| {
            let d = length - self.d_km(at);
            (self.h_m(at) - self.rx_m) / d - 500.0 * d / earth_km
        };
        let straight = (self.rx_m - self.tx_m) / length - 500.0 * length / earth_km;
        let highest = |of: &dyn Fn(usize) -> f64| {
            self.between()
                .map(|at| (at, of(at)))
                .fold((1, f64::NEG_INFINITY), |best, one| if one.1 > best.1 { one } else { best })
        };
        let (tx_at, tx_mrad) = highest(&rise);
        if tx_mrad > straight {
            let (rx_at, rx_mrad) = highest(&fall);
            return Horizon { beyond: true, tx_mrad, rx_mrad, tx_at, rx_at };
        }
        let nearest = |at: usize| {
            let d = self.d_km(at);
            let clear = self.above_line_m(at) + 500.0 * d * (length - d) / earth_km;
            clear * (0.002 * length / (wavelength_m * d * (length - d))).sqrt()
        };
        let (at, _) = highest(&nearest);
        let back = (self.tx_m - self.rx_m) / length - 500.0 * length / earth_km;
        Horizon { beyond: false, tx_mrad: straight, rx_mrad: back, tx_at: at, rx_at: at }
    }
}
