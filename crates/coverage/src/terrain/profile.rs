//! The ground under a path, sampled from one end to the other.

use thiserror::Error;

use super::cover::Shield;

/// One sample of a profile.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sample {
    /// Of the ground, in metres above the sea.
    pub ground_m: f64,
    /// How high the cover stands on it, in metres.
    pub cover_m: f64,
    /// Lost by an antenna within the cover, in dB.
    pub loss_db: f64,
    /// How the cover shields.
    pub shield: Shield,
}

impl Sample {
    /// Bare ground.
    pub const fn bare(ground_m: f64) -> Self {
        Self { ground_m, cover_m: 0.0, loss_db: 0.0, shield: Shield::Open }
    }
}

/// Why samples are no profile.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum ProfileError {
    /// Fewer than three, or more than [`Profile::MOST`].
    #[error("{0} samples are no profile; 3 to {most} are", most = Profile::MOST)]
    Count(usize),
    /// The path is too short or too long.
    #[error("a path of {0} m cannot be computed; 1 m to 3,000 km can")]
    Length(f64),
    /// A height is not a number, or none on earth.
    #[error("the ground is {ground_m} m high at {distance_m:.0} m; -500 to 9,000 m is allowed")]
    Height {
        /// Where.
        distance_m: f64,
        /// How high.
        ground_m: f64,
    },
}

/// The ground under a path, in equal steps.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    length_m: f64,
    samples: Vec<Sample>,
}

impl Profile {
    /// The most samples of a profile: a path of 3,000 km in steps of 30 m.
    pub const MOST: usize = 100_001;

    /// A profile of samples at equal distances, the first and the last at the ends.
    ///
    /// # Errors
    /// There are too few or too many, or one cannot be.
    pub fn new(length_m: f64, samples: Vec<Sample>) -> Result<Self, ProfileError> {
        if !(3..=Self::MOST).contains(&samples.len()) {
            return Err(ProfileError::Count(samples.len()));
        }
        if !(1.0..=3_000_000.0).contains(&length_m) {
            return Err(ProfileError::Length(length_m));
        }
        let profile = Self { length_m, samples };
        let wrong = |sample: &Sample| !(-500.0..=9_000.0).contains(&sample.ground_m);
        if let Some(at) = profile.samples.iter().position(wrong) {
            let ground_m = profile.samples[at].ground_m;
            return Err(ProfileError::Height { distance_m: profile.distance_m(at), ground_m });
        }
        Ok(profile)
    }

    /// Level bare ground.
    ///
    /// # Errors
    /// As [`Profile::new`].
    pub fn level(length_m: f64, ground_m: f64, count: usize) -> Result<Self, ProfileError> {
        Self::new(length_m, vec![Sample::bare(ground_m); count.min(Self::MOST + 1)])
    }

    /// All of it.
    pub fn whole(&self) -> Stretch<'_> {
        Stretch { step_m: self.step_m(), samples: &self.samples }
    }

    /// Its beginning up to a sample; all of it if there are fewer, and never less than three samples.
    pub fn until(&self, last: usize) -> Stretch<'_> {
        Stretch { step_m: self.step_m(), samples: &self.samples[..=last.clamp(2, self.samples.len() - 1)] }
    }

    /// Its length in metres.
    pub fn length_m(&self) -> f64 {
        self.length_m
    }

    /// Metres between two samples.
    pub fn step_m(&self) -> f64 {
        self.length_m / (self.samples.len() - 1) as f64
    }

    /// The samples.
    pub fn samples(&self) -> &[Sample] {
        &self.samples
    }

    /// How far a sample is from the beginning, in metres.
    pub fn distance_m(&self, at: usize) -> f64 {
        self.step_m() * at as f64
    }

    /// The same from the other end.
    #[must_use]
    pub fn reversed(&self) -> Self {
        Self { length_m: self.length_m, samples: self.samples.iter().rev().copied().collect() }
    }
}

/// A profile, or the beginning of one. Paths that begin alike share their samples.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretch<'a> {
    step_m: f64,
    samples: &'a [Sample],
}

impl<'a> Stretch<'a> {
    /// Its length in metres.
    pub fn length_m(&self) -> f64 {
        self.step_m * (self.samples.len() - 1) as f64
    }

    /// Metres between two samples.
    pub fn step_m(&self) -> f64 {
        self.step_m
    }

    /// The samples: three at least.
    pub fn samples(&self) -> &'a [Sample] {
        self.samples
    }

    /// The sample at the beginning.
    pub fn first(&self) -> Sample {
        self.samples[0]
    }

    /// The sample at the end.
    pub fn last(&self) -> Sample {
        self.samples[self.samples.len() - 1]
    }

    /// The share of the path that leads over water, 0 to 1.
    pub fn water_share(&self) -> f64 {
        let water = |sample: &Sample| usize::from(sample.shield.is_water());
        // Each step counts the samples at both of its ends.
        let twice = 2 * self.samples.iter().map(water).sum::<usize>();
        (twice - water(&self.first()) - water(&self.last())) as f64 / (2 * (self.samples.len() - 1)) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_profile_is_checked_and_measured() {
        assert_eq!(Profile::level(1000.0, 0.0, 2), Err(ProfileError::Count(2)));
        assert_eq!(Profile::level(0.0, 0.0, 5), Err(ProfileError::Length(0.0)));
        let high = Profile::new(100.0, vec![Sample::bare(0.0), Sample::bare(f64::NAN), Sample::bare(0.0)]).unwrap_err();
        assert!(high.to_string().contains("at 50 m"), "{high}");
        let sea = Sample { shield: Shield::Sea, ..Sample::bare(0.0) };
        let half = vec![sea, sea, sea, Sample::bare(1.0), Sample::bare(2.0)];
        let profile = Profile::new(400.0, half).unwrap();
        assert_eq!((profile.step_m(), profile.distance_m(3), profile.whole().water_share()), (100.0, 300.0, 0.625));
        assert_eq!(
            (profile.reversed().whole().first(), profile.whole().last()),
            (Sample::bare(2.0), Sample::bare(2.0))
        );
    }
}
