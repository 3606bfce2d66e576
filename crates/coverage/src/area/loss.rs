//! The loss from one site to each cell of an area. Cells near one another have nearly the same path, so that paths are computed
//! along radials whose samples are shared; the cells are filled from the nearest points of those.

use std::f64::consts::TAU;
use std::sync::atomic::{AtomicUsize, Ordering};

use super::{Area, AreaError, centre, centres, grid};
use crate::geo::Place;
use crate::model::{Model, Path, Polarization, free_space_db};
use crate::range::within;
use crate::terrain::grid::Grid;
use crate::terrain::mosaic::Terrain;
use crate::terrain::profile::{Profile, Sample};

/// One end of all paths of an area, and what the other ends have in common.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Source {
    /// Where it is.
    pub place: Place,
    /// Its antenna above the ground, in metres.
    pub height_m: f64,
    /// The antennas of receivers above the ground, in metres.
    pub receiver_height_m: f64,
    /// The frequency, in MHz.
    pub frequency_mhz: f64,
    /// The polarization.
    pub polarization: Polarization,
}

/// What is computed with what.
#[derive(Debug, Clone, Copy)]
pub struct Task<'a> {
    /// The ground.
    pub terrain: &'a Terrain,
    /// The model.
    pub model: &'a Model,
    /// The one end.
    pub source: Source,
    /// Where the other ends are.
    pub area: Area,
    /// Between samples of the ground, in metres.
    pub step_m: f64,
}

/// How many cells lie between two points of a radial, and between two radials at the edge. More is quicker and coarser.
const CELLS_APART: f64 = 2.0;
/// Nearer than this nothing is told: there the antennas themselves decide.
const NEAREST_M: f64 = 1.0;

/// What is told of a computation under way: parts done, and of how many. It is stopped where the answer is `false`.
pub type Progress<'a> = &'a (dyn Fn(usize, usize) -> bool + Sync);

impl Task<'_> {
    fn check(&self) -> Result<(), AreaError> {
        within("step_m", self.step_m, 1.0..=10_000.0, "m")?;
        within("height_m", self.source.height_m, 0.0..=3_000.0, "m")?;
        within("receiver_height_m", self.source.receiver_height_m, 0.0..=3_000.0, "m")?;
        match self.terrain.sample(self.source.place) {
            Some(_) => Ok(()),
            None => Err(AreaError::Site(self.source.place)),
        }
    }

    fn path<'p>(&self, profile: &'p Profile, last: usize) -> Path<'p> {
        Path {
            profile: profile.until(last),
            frequency_mhz: self.source.frequency_mhz,
            polarization: self.source.polarization,
            tx_height_m: self.source.height_m,
            rx_height_m: self.source.receiver_height_m,
            latitude_deg: self.source.place.latitude_deg,
        }
    }

    fn free_db(&self, distance_m: f64) -> f64 {
        free_space_db(self.source.frequency_mhz, distance_m.max(NEAREST_M) / 1000.0)
    }

    /// What a path loses beyond free space, without what is around the receiver; not a number where it cannot be computed.
    /// Nearer than the model reaches there is nothing.
    fn excess_db(&self, profile: &Profile, last: usize) -> f64 {
        let distance_m = profile.step_m() * last as f64;
        if distance_m < self.model.shortest_m() || last < 2 {
            return 0.0;
        }
        let path = self.path(profile, last);
        self.model.without_receiver_db(&path).map_or(f64::NAN, |db| db - self.free_db(distance_m))
    }

    /// Why a path cannot be computed.
    fn reason(&self, profile: &Profile) -> Option<AreaError> {
        let last = profile.samples().len() - 1;
        self.model.without_receiver_db(&self.path(profile, last)).err().map(AreaError::from)
    }

    /// The loss of a cell, from what its path loses beyond free space.
    fn total_db(&self, place: Place, distance_m: f64, excess_db: f64) -> f32 {
        let around = |sample: Sample| {
            self.model.at_receiver_db(self.source.frequency_mhz, sample, self.source.receiver_height_m)
        };
        match self.terrain.sample(place) {
            Some(sample) => (self.free_db(distance_m) + excess_db + around(sample)) as f32,
            None => f32::NAN,
        }
    }

    /// The losses in dB; not a number beyond the radius, off the terrain and where the model cannot tell.
    ///
    /// # Errors
    /// The area is empty or too large, the site is off the terrain, no cell can be computed, or it was stopped.
    pub fn losses(&self, progress: Progress<'_>) -> Result<Grid, AreaError> {
        self.check()?;
        let layout = self.area.layout()?;
        let (radius_m, apart_m) = (self.area.radius_m, self.area.cell_m * CELLS_APART);
        let every = ((apart_m / self.step_m).floor() as usize).max(1);
        let point_m = self.step_m * every as f64;
        let points = (radius_m / point_m).ceil() as usize + 1;
        let count = ((TAU * radius_m / apart_m).ceil() as usize).max(8);
        let done = AtomicUsize::new(0);
        let radial = |n: usize| -> Result<Vec<f32>, AreaError> {
            let bearing_deg = 360.0 * n as f64 / count as f64;
            let length_m = point_m * points as f64;
            let profile = self.terrain.radial((self.source.place, bearing_deg), length_m, self.step_m)?;
            let Some(profile) = profile else { return Ok(Vec::new()) };
            let values = (0..=points).map(|k| k * every).take_while(|last| *last < profile.samples().len());
            let values = values.map(|last| self.excess_db(&profile, last) as f32).collect();
            if progress(done.fetch_add(1, Ordering::Relaxed) + 1, count) { Ok(values) } else { Err(AreaError::Stopped) }
        };
        let radials = each(count, radial)?;
        let near = (self.model.shortest_m() / point_m).ceil() as usize;
        if points > near && radials.iter().all(|radial| radial.iter().skip(near).all(|value| value.is_nan())) {
            let profile = self.terrain.radial((self.source.place, 0.0), radius_m, self.step_m)?;
            return Err(profile
                .and_then(|profile| self.reason(&profile))
                .unwrap_or(AreaError::Site(self.source.place)));
        }
        let width = layout.width;
        let row = |row: usize| -> Result<Vec<f32>, AreaError> {
            let cells = row * width..(row + 1) * width;
            Ok(cells.map(|at| self.cell(centre(&layout, at), &radials, point_m)).collect())
        };
        let values = each(layout.height, row)?.concat();
        grid(layout, values)
    }

    /// A cell between the points of the two radials next to it.
    fn cell(&self, place: Place, radials: &[Vec<f32>], point_m: f64) -> f32 {
        let distance_m = self.source.place.distance_m(place);
        if distance_m > self.area.radius_m {
            return f32::NAN;
        }
        if distance_m < self.model.shortest_m() {
            return self.total_db(place, distance_m, 0.0);
        }
        let turn = self.source.place.bearing_deg(place) / 360.0 * radials.len() as f64;
        let steps = distance_m / point_m;
        let (first, low) = (turn as usize % radials.len(), steps as usize);
        let (across, along) = (turn.fract(), steps.fract());
        let (one, two) = (&radials[first], &radials[(first + 1) % radials.len()]);
        let at = |radial: &Vec<f32>, k: usize| radial.get(k).copied().filter(|value| !value.is_nan());
        let corners = [
            (at(one, low), (1.0 - across) * (1.0 - along)),
            (at(one, low + 1), (1.0 - across) * along),
            (at(two, low), across * (1.0 - along)),
            (at(two, low + 1), across * along),
        ];
        let there = corners.iter().filter_map(|(value, weight)| Some((f64::from((*value)?), *weight)));
        let (sum, weight) = there.fold((0.0, 0.0), |(sum, all), (value, weight)| (sum + value * weight, all + weight));
        if weight < 0.5 { f32::NAN } else { self.total_db(place, distance_m, sum / weight) }
    }

    /// The same by a path of its own for each cell: the reference that the radials are held against, and slow.
    ///
    /// # Errors
    /// As [`Task::losses`].
    pub fn losses_cell_by_cell(&self, progress: Progress<'_>) -> Result<Grid, AreaError> {
        self.check()?;
        let layout = self.area.layout()?;
        let mut values = Vec::with_capacity(layout.width * layout.height);
        for (n, place) in centres(layout).enumerate() {
            if n % layout.width == 0 && !progress(n / layout.width, layout.height) {
                return Err(AreaError::Stopped);
            }
            values.push(self.alone(place));
        }
        grid(layout, values)
    }

    fn alone(&self, place: Place) -> f32 {
        let distance_m = self.source.place.distance_m(place);
        if distance_m > self.area.radius_m {
            return f32::NAN;
        }
        if distance_m < self.model.shortest_m() {
            return self.total_db(place, distance_m, 0.0);
        }
        let Ok(profile) = self.terrain.profile(self.source.place, place, self.step_m) else { return f32::NAN };
        let excess_db = self.excess_db(&profile, profile.samples().len() - 1);
        self.total_db(place, distance_m, excess_db)
    }
}

/// Each part by itself, on all cores where the feature is on; the first error ends it.
pub(super) fn each<T: Send>(
    count: usize,
    part: impl Fn(usize) -> Result<T, AreaError> + Send + Sync,
) -> Result<Vec<T>, AreaError> {
    #[cfg(feature = "parallel")]
    {
        use rayon::iter::{IntoParallelIterator as _, ParallelIterator as _};
        (0..count).into_par_iter().map(part).collect()
    }
    #[cfg(not(feature = "parallel"))]
    (0..count).map(part).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::model::{Surroundings, p1812};
    use crate::terrain::grid::{Layout, Projection};
    use crate::terrain::mosaic::NoData;

    const CENTRE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    /// Hills of 120 m, 3 km from one another.
    fn hills(no_data: NoData) -> Terrain {
        let layout = Layout {
            projection: Projection::Geographic,
            width: 400,
            height: 400,
            west: 3.8,
            north: 54.76,
            dx: 0.0005,
            dy: 0.0003,
        };
        let height = |at: usize| {
            let (x, y) = ((at % 400) as f64 / 15.0, (at / 400) as f64 / 15.0);
            (60.0 * (1.0 + x.sin() * y.cos())) as f32
        };
        let heights = vec![Arc::new(Grid::new(layout, (0..160_000).map(height).collect()).unwrap())];
        Terrain { heights, no_data, ..Terrain::default() }
    }

    fn task<'a>(terrain: &'a Terrain, model: &'a Model, radius_m: f64) -> Task<'a> {
        let source = Source {
            place: CENTRE,
            height_m: 15.0,
            receiver_height_m: 1.5,
            frequency_mhz: 868.3,
            polarization: Polarization::Vertical,
        };
        Task { terrain, model, source, area: Area { centre: CENTRE, radius_m, cell_m: 30.0 }, step_m: 30.0 }
    }

    #[test]
    fn radials_agree_with_a_path_for_each_cell() {
        let terrain = hills(NoData::Refused);
        for model in [Model::P1812(p1812::Settings::default()), Model::Diffraction] {
            let task = task(&terrain, &model, 1_500.0);
            let (quick, slow) = (task.losses(&|_, _| true).unwrap(), task.losses_cell_by_cell(&|_, _| true).unwrap());
            let both = quick.values().iter().zip(slow.values());
            let mut off: Vec<f32> =
                both.filter(|(a, b)| !a.is_nan() && !b.is_nan()).map(|(a, b)| (a - b).abs()).collect();
            off.sort_by(f32::total_cmp);
            assert!(off.len() > 7_000, "{}", off.len());
            let (median, most) = (off[off.len() / 2], off[off.len() * 99 / 100]);
            assert!(median <= 0.5 && most <= 3.0, "{model:?}: {median} {most}");
        }
    }

    #[test]
    fn what_lies_off_the_terrain_or_out_of_the_circle_has_no_loss() {
        let terrain = hills(NoData::Refused);
        let model = Model::Diffraction;
        let far = task(&terrain, &model, 9_000.0).losses(&|_, _| true).unwrap();
        assert!(far.between(CENTRE.towards(0.0, 3_000.0)).is_some());
        assert_eq!(far.between(CENTRE.towards(0.0, 8_000.0)), None, "the terrain ends at 6.7 km");
        let sea = hills(NoData::Sea);
        let there = task(&sea, &model, 9_000.0).losses(&|_, _| true).unwrap();
        assert!(there.between(CENTRE.towards(0.0, 8_000.0)).is_some());
        assert_eq!(there.between(CENTRE.towards(45.0, 9_500.0)), None);
        let away = Task {
            source: Source { place: CENTRE.towards(0.0, 20_000.0), ..task(&terrain, &model, 500.0).source },
            ..task(&terrain, &model, 500.0)
        };
        assert!(away.losses(&|_, _| true).unwrap_err().to_string().contains("is not on the terrain"));
    }

    #[test]
    fn it_tells_how_far_it_has_come_and_can_be_stopped() {
        let terrain = hills(NoData::Refused);
        let model = Model::FreeSpace;
        let most = AtomicUsize::new(0);
        let seen = |done: usize, of: usize| most.fetch_max(done * 100 / of, Ordering::Relaxed) <= 100;
        task(&terrain, &model, 1_000.0).losses(&seen).unwrap();
        assert_eq!(most.load(Ordering::Relaxed), 100);
        assert_eq!(task(&terrain, &model, 1_000.0).losses(&|done, _| done < 5).unwrap_err(), AreaError::Stopped);
        // A model that is valid nowhere in the area says why.
        let hata = Model::Hata(Surroundings::Open);
        let low = Task {
            source: Source { frequency_mhz: 2_400.0, ..task(&terrain, &hata, 2_000.0).source },
            ..task(&terrain, &hata, 2_000.0)
        };
        let why = low.losses(&|_, _| true).unwrap_err().to_string();
        assert!(why.contains("frequency_mhz is 2400 MHz"), "{why}");
    }
}
