//! Several grids as one terrain: heights and cover, the first that has a value counts.

use std::sync::Arc;

use thiserror::Error;

use super::cover::{CoverTable, Shield};
use super::grid::Grid;
use super::profile::{Profile, ProfileError, Sample};
use crate::geo::{Extent, Place, Way};

/// How places without a height are treated.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum NoData {
    /// It is the sea, in files and around them.
    Sea,
    /// Holes of files are filled from what lies before and behind them on the path; around files it is refused.
    Interpolated,
    /// It is refused.
    #[default]
    Refused,
}

/// A path cannot be read from a terrain.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum TerrainError {
    /// It leaves what the files cover.
    #[error("the path leaves the terrain {distance_m:.0} m from its beginning, at {place}")]
    Outside {
        /// Where.
        place: Place,
        /// Along the path.
        distance_m: f64,
    },
    /// There is a hole.
    #[error("there is no height {distance_m:.0} m from the path's beginning, at {place}")]
    Hole {
        /// Where.
        place: Place,
        /// Along the path.
        distance_m: f64,
    },
    /// The step is too small or too large.
    #[error("a step of {0} m cannot be used; 1 to 10,000 m can")]
    Step(f64),
    /// It is no profile.
    #[error(transparent)]
    Profile(#[from] ProfileError),
}

/// Heights and cover. Grids can be part of several terrains.
#[derive(Debug, Default)]
pub struct Terrain {
    /// Heights above the sea; the first grid with a value counts.
    pub heights: Vec<Arc<Grid>>,
    /// Numbers of cover classes; the first grid with a value counts.
    pub covers: Vec<Arc<Grid>>,
    /// What the numbers stand for.
    pub classes: CoverTable,
    /// How places without a height are treated.
    pub no_data: NoData,
}

impl Terrain {
    /// The height above the sea, where a file has one.
    pub fn height_m(&self, place: Place) -> Option<f64> {
        self.heights.iter().find_map(|grid| grid.between(place))
    }

    /// The number of the cover class; none where no file has one.
    pub fn class(&self, place: Place) -> Option<u16> {
        let number = self.covers.iter().find_map(|grid| grid.nearest(place))?;
        (0.0..=f64::from(u16::MAX)).contains(&number).then_some(number as u16)
    }

    /// The box around all heights.
    pub fn extent(&self) -> Option<Extent> {
        let corners = self.heights.iter().map(|grid| grid.extent()).flat_map(|extent| {
            [(extent.south_deg, extent.west_deg), (extent.north_deg, extent.east_deg)]
                .map(|(latitude_deg, longitude_deg)| Place { latitude_deg, longitude_deg })
        });
        Extent::around(corners)
    }

    /// What there is at a place: none where there is no height, unless that is the sea.
    pub fn sample(&self, place: Place) -> Option<Sample> {
        let ground_m = match (self.height_m(place), self.no_data) {
            (Some(height_m), _) => height_m,
            (None, NoData::Sea) => return Some(Sample { shield: Shield::Sea, ..Sample::bare(0.0) }),
            (None, _) => return None,
        };
        let Some(number) = self.class(place) else { return Some(Sample::bare(ground_m)) };
        let class = self.classes.class(number);
        Some(Sample { ground_m, cover_m: class.height_m, loss_db: class.loss_db, shield: class.shield })
    }

    /// The profile between two places, in steps of at most this size.
    ///
    /// # Errors
    /// The path is too short or too long, or leaves the terrain, or there is a hole that is not to be filled.
    pub fn profile(&self, from: Place, to: Place, step_m: f64) -> Result<Profile, TerrainError> {
        if !(1.0..=10_000.0).contains(&step_m) {
            return Err(TerrainError::Step(step_m));
        }
        let way = Way::between(from, to);
        let length_m = way.length_m();
        let steps = (length_m / step_m).ceil().max(2.0);
        if steps >= Profile::MOST as f64 {
            return Err(ProfileError::Count(steps as usize + 1).into());
        }
        let steps = steps as usize;
        let mut samples: Vec<Option<Sample>> = Vec::with_capacity(steps + 1);
        for at in 0..=steps {
            let share = at as f64 / steps as f64;
            let place = way.at(share);
            let sample = self.sample(place);
            if sample.is_none() {
                let distance_m = length_m * share;
                if !self.heights.iter().any(|grid| grid.reaches(place)) {
                    return Err(TerrainError::Outside { place, distance_m });
                }
                if self.no_data == NoData::Refused {
                    return Err(TerrainError::Hole { place, distance_m });
                }
            }
            samples.push(sample);
        }
        let samples = filled(&samples).ok_or(TerrainError::Hole { place: from, distance_m: 0.0 })?;
        Ok(Profile::new(length_m, samples)?)
    }

    /// The profile from a place in a direction, in steps of exactly this size, as far as the terrain reaches; none if that is
    /// less than three samples.
    ///
    /// # Errors
    /// The step or the length cannot be used.
    pub fn radial(
        &self,
        (from, bearing_deg): (Place, f64),
        length_m: f64,
        step_m: f64,
    ) -> Result<Option<Profile>, TerrainError> {
        if !(1.0..=10_000.0).contains(&step_m) {
            return Err(TerrainError::Step(step_m));
        }
        let steps = (length_m / step_m).ceil().max(2.0);
        if steps >= Profile::MOST as f64 {
            return Err(ProfileError::Count(steps as usize + 1).into());
        }
        let mut samples = Vec::with_capacity(steps as usize + 1);
        for at in 0..=steps as usize {
            let place = from.towards(bearing_deg, step_m * at as f64);
            let sample = self.sample(place);
            let goes_on = sample.is_some()
                || self.no_data == NoData::Interpolated && self.heights.iter().any(|grid| grid.reaches(place));
            if !goes_on {
                break;
            }
            samples.push(sample);
        }
        let Some(samples) = filled(&samples).filter(|samples| samples.len() > 2) else { return Ok(None) };
        Ok(Some(Profile::new(step_m * (samples.len() - 1) as f64, samples)?))
    }
}

/// Holes filled with bare ground on the line between what lies around them; none if there is nothing at all.
fn filled(samples: &[Option<Sample>]) -> Option<Vec<Sample>> {
    let known: Vec<(usize, Sample)> =
        samples.iter().enumerate().filter_map(|(at, sample)| Some((at, (*sample)?))).collect();
    let (first, last) = (known.first()?, known.last()?);
    let between = |at: usize| {
        let next = known.partition_point(|(known, _)| *known < at);
        match (next.checked_sub(1).map(|before| known[before]), known.get(next)) {
            (Some((a, before)), Some((b, after))) => {
                let share = (at - a) as f64 / (b - a) as f64;
                before.ground_m + (after.ground_m - before.ground_m) * share
            }
            (None, _) => first.1.ground_m,
            (_, None) => last.1.ground_m,
        }
    };
    Some(samples.iter().enumerate().map(|(at, sample)| sample.unwrap_or_else(|| Sample::bare(between(at)))).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terrain::grid::{Layout, Projection};

    /// A slope of 1 m a column, 0.01° wide, with a hole in the middle.
    fn terrain(no_data: NoData) -> Terrain {
        let layout = Layout {
            projection: Projection::Geographic,
            width: 11,
            height: 3,
            west: 3.0,
            north: 54.71,
            dx: 0.01,
            dy: 0.01,
        };
        let mut heights: Vec<f32> = (0..33).map(|at| (at % 11) as f32).collect();
        for row in 0..3 {
            heights[row * 11 + 5] = f32::NAN;
        }
        let covers = (0..33).map(|at| if at % 11 < 5 { 8.0 } else { 1.0 }).collect();
        Terrain {
            heights: vec![Arc::new(Grid::new(layout, heights).unwrap())],
            covers: vec![Arc::new(Grid::new(layout, covers).unwrap())],
            no_data,
            ..Terrain::default()
        }
    }

    fn place(longitude_deg: f64) -> Place {
        Place { latitude_deg: 54.7, longitude_deg }
    }

    #[test]
    fn holes_are_treated_as_told() {
        let ends = (place(3.0), place(3.1));
        let refused = terrain(NoData::Refused).profile(ends.0, ends.1, 50.0).unwrap_err();
        assert!(refused.to_string().starts_with("there is no height 29"), "{refused}");
        let filled = terrain(NoData::Interpolated).profile(ends.0, ends.1, 50.0).unwrap();
        let middle = filled.samples()[filled.samples().len() / 2];
        assert!((middle.ground_m - 5.0).abs() < 0.2 && middle.cover_m == 0.0, "{middle:?}");
        let sea = terrain(NoData::Sea).profile(ends.0, ends.1, 50.0).unwrap();
        assert_eq!(sea.samples()[sea.samples().len() / 2].shield, Shield::Sea);
        assert_eq!((sea.whole().first().cover_m, sea.whole().last().shield), (15.0, Shield::Sea));
        assert!(sea.whole().water_share() > 0.4);
    }

    #[test]
    fn a_path_that_leaves_the_terrain_is_refused_unless_there_is_sea() {
        let outside = terrain(NoData::Interpolated).profile(place(3.0), place(3.5), 50.0).unwrap_err();
        assert!(
            outside.to_string().contains("leaves the terrain") && outside.to_string().contains("54.70"),
            "{outside}"
        );
        assert!(terrain(NoData::Sea).profile(place(3.0), place(3.5), 50.0).is_ok());
        assert!(matches!(terrain(NoData::Sea).profile(place(3.0), place(3.5), 0.0), Err(TerrainError::Step(_))));
        assert!(matches!(terrain(NoData::Sea).profile(place(3.0), place(3.0), 50.0), Err(TerrainError::Profile(_))));
        assert!(terrain(NoData::Sea).profile(place(-170.0), place(170.0), 1.0).is_err());
    }

    #[test]
    fn the_first_file_with_a_value_counts() {
        let mut two = terrain(NoData::Refused);
        let layout = Layout { dx: 0.1, dy: 0.1, width: 2, height: 2, ..*two.heights[0].layout() };
        two.heights.push(Arc::new(Grid::new(layout, vec![99.0; 4]).unwrap()));
        assert_eq!((two.height_m(place(3.05)), two.height_m(place(3.0))), (Some(99.0), Some(0.0)));
        assert!(two.profile(place(3.0), place(3.1), 50.0).is_ok(), "the second fills the hole of the first");
        assert!(two.extent().unwrap().east_deg > 3.12);
    }
}
