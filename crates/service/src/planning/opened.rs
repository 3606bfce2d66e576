//! An open forecast: the losses of its sites in memory, and the region's cells computed from them.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use anyhow::Result;
use api::coverage::forecast::{Figures, Forecast as Told, LayerLegend, LayerValue, Legends, PlaceForecast};
use api::coverage::site::Site as SiteAbout;
use api::ground::GroundExtent;
use api::problem::{Problem, bad_field};
use coverage::area::forecast::{Forecast, Layer, Question, Site};
use coverage::area::ranking::Heard;
use coverage::area::statistics::{of_area, of_places};
use coverage::area::{Area, AreaError, layout_over, picture};
use coverage::geo::{Extent, Place};
use coverage::link::budget::{Budget, Terminal};
use coverage::link::path::{Calibrated, Method};
use coverage::terrain::geotiff::{Samples, write};
use coverage::terrain::grid::{Grid, Layout};
use coverage::terrain::relief::Tile;
use domain::coverage::calibration::{at_gateway_db, by_class_db};
use domain::coverage::forecast::{Computed, affordable, check, figures, layer_word, legend_classes, value_words};
use domain::coverage::ground_extent;
use domain::coverage::site::terminal;
use store::ForecastRow;

use crate::ground::Ground;
use crate::planning::compared::Kept;
use crate::planning::links;
use crate::planning::losses::{LossKey, Losses, STEP_M};
use crate::planning::sites::{Placed, placed};

/// By how much the cells of a first look are larger.
const COARSE: f64 = 8.0;
/// A first look has so many cells from the site to the edge, at least.
const LEAST_CELLS: f64 = 10.0;
/// Cells of the region around all sites, at most.
const MOST_REGION_CELLS: usize = 4_000_000;

/// What a forecast computes with: its request, checked.
#[derive(Debug, Clone)]
pub(crate) struct Plan {
    pub sites: Vec<Placed>,
    pub computed: Computed,
    pub terminal: Terminal,
    pub radius_m: f64,
    pub cell_m: f64,
    /// The cells of the region around all sites.
    pub layout: Layout,
    /// By how much signals from each class of cover are stronger than the model says, if it is calibrated, in dB.
    pub by_class: Option<BTreeMap<u16, f64>>,
}

impl Plan {
    /// Checks what was asked for.
    ///
    /// # Errors
    /// Names what cannot be, and what is allowed.
    pub(crate) fn of(told: &Told) -> Result<Self, Problem> {
        let wanted = &told.wanted;
        let computed = check(wanted)?;
        affordable(wanted, told.sites.len())?;
        let site = |site: &SiteAbout| {
            let calibrated_db = told.calibration.as_ref().map_or(0.0, |made| at_gateway_db(made, site.gateway));
            Ok(Placed { calibrated_db, ..placed(site)? })
        };
        let sites: Vec<Placed> = told.sites.iter().map(site).collect::<Result<_, Problem>>()?;
        let terminal = terminal(&told.receiver)?;
        let too_large = |why: AreaError| bad_field("cell_m", &wanted.cell_m.to_string(), why);
        let area = |site: &Placed| Area { centre: site.place, radius_m: wanted.radius_m, cell_m: wanted.cell_m };
        sites.iter().try_for_each(|site| area(site).layout().map(drop)).map_err(too_large)?;
        let boxes = sites.iter().filter_map(|site| Extent::of(site.place, wanted.radius_m));
        let corners = boxes.flat_map(|extent| {
            [(extent.south_deg, extent.west_deg), (extent.north_deg, extent.east_deg)]
                .map(|(latitude_deg, longitude_deg)| Place { latitude_deg, longitude_deg })
        });
        let extent = Extent::around(corners).ok_or_else(|| {
            bad_field("sites", "none", "a forecast needs a site with a place: add one, or give a gateway its place")
        })?;
        let layout = layout_over(&extent, wanted.cell_m).map_err(too_large)?;
        let cells = layout.width * layout.height;
        if cells > MOST_REGION_CELLS {
            let least_m = (wanted.cell_m * (cells as f64 / MOST_REGION_CELLS as f64).sqrt()).ceil();
            let allowed = format!(
                "the region around all sites has {:.1} million cells; at most {} million are held in memory: cells of {least_m} m \
                 would do, or forecasts of sites that are nearer to one another",
                cells as f64 / 1e6,
                MOST_REGION_CELLS / 1_000_000
            );
            return Err(bad_field("cell_m", &wanted.cell_m.to_string(), allowed));
        }
        let by_class = told.calibration.as_ref().map(by_class_db);
        Ok(Self { sites, computed, terminal, radius_m: wanted.radius_m, cell_m: wanted.cell_m, layout, by_class })
    }

    /// What the losses of a site depend on.
    pub(crate) fn key(&self, ground: &Ground, site: &Placed) -> LossKey {
        self.key_in_cells_of(ground, site, self.cell_m)
    }

    /// The same in larger cells, for a first look.
    pub(crate) fn coarse_key(&self, ground: &Ground, site: &Placed) -> LossKey {
        let cell_m = (self.cell_m * COARSE).min(self.radius_m / LEAST_CELLS).max(self.cell_m);
        self.key_in_cells_of(ground, site, cell_m)
    }

    fn key_in_cells_of(&self, ground: &Ground, site: &Placed, cell_m: f64) -> LossKey {
        let radio = (&self.computed.model, self.computed.frequency_mhz, self.terminal.height_m);
        LossKey::new(ground, site, radio, (self.radius_m, cell_m))
    }

    /// The box that it covers.
    pub(crate) fn extent(&self) -> Option<GroundExtent> {
        self.layout.check().ok().as_ref().map(ground_extent)
    }

    /// How links are computed one by one.
    pub(crate) fn method<'a>(&'a self, ground: &'a Ground) -> Method<'a> {
        Method {
            terrain: ground.terrain(),
            model: &self.computed.model,
            frequency_mhz: self.computed.frequency_mhz,
            step_m: STEP_M,
            rates: &self.computed.rates,
            judgement: &self.computed.judgement,
            calibrated: Calibrated { gateway_db: 0.0, by_class: self.by_class.as_ref() },
        }
    }
}

/// A forecast in memory.
pub(crate) struct OpenForecast {
    ground: Arc<Ground>,
    plan: Arc<Plan>,
    losses: Vec<Arc<Grid>>,
    region: Forecast,
    /// What was last compared with the survey.
    residuals: Mutex<Option<Kept>>,
}

impl OpenForecast {
    /// Reads the losses of the sites that are done. Blocks.
    ///
    /// # Errors
    /// What was asked for cannot be computed any more, no site is done, or a file of losses is gone.
    pub(crate) fn read(ground: &Arc<Ground>, saved: &Losses, row: &ForecastRow) -> Result<Self, Problem> {
        let plan = Arc::new(Plan::of(&row.forecast)?);
        let read = |(site, file): (&Placed, &String)| {
            let missing = || {
                let why =
                    "a file of its losses is not in the data folder any more: remove this forecast and make it again";
                Problem::new(409, "gone", "This forecast is not whole any more").detail(why)
            };
            saved.load_from(file, &plan.key(ground, site)).ok_or_else(missing)
        };
        let done = plan.sites.iter().zip(&row.losses).take(row.forecast.sites_done as usize);
        let losses: Vec<Arc<Grid>> = done.map(|one| read(one).map(Arc::new)).collect::<Result<_, _>>()?;
        Self::of(Arc::clone(ground), plan, losses)
    }

    /// Of losses that are in memory. Blocks.
    ///
    /// # Errors
    /// There are none, or they cannot be put together.
    pub(crate) fn of(ground: Arc<Ground>, plan: Arc<Plan>, losses: Vec<Arc<Grid>>) -> Result<Self, Problem> {
        if losses.is_empty() {
            let problem = Problem::new(409, "not_ready", "No site of this forecast is computed yet");
            return Err(problem.detail("look at it again in a moment, or see why it failed"));
        }
        let layout = plan.layout;
        let made = with(&ground, &plan, &losses, |sites, question| Forecast::of(layout, sites, question));
        let region = made.map_err(|why| bad_field("sites", "these", why))?;
        Ok(Self { ground, plan, losses, region, residuals: Mutex::default() })
    }

    /// What it takes of memory, in bytes.
    pub(crate) fn bytes(&self) -> usize {
        let losses: usize = self.losses.iter().map(|grid| size_of_val(grid.values())).sum();
        losses + size_of_val(self.region.cells())
    }

    /// A tile of a layer as pixels. Blocks.
    pub(crate) fn tile(&self, layer: Layer, tile: Tile) -> Vec<u8> {
        let value = |place| self.region.cell(place)?.value(layer).map(f64::from);
        picture::tile(&layer.legend(), tile, value)
    }

    /// A layer as a georeferenced raster. Blocks.
    ///
    /// # Errors
    /// If it cannot be written.
    pub(crate) fn geotiff(&self, layer: Layer) -> Result<Vec<u8>> {
        let mut bytes = Cursor::new(Vec::new());
        let about = format!("A forecast of Keen Heron: {}", layer.legend().title);
        write(&self.region.layer(layer)?, Samples::Float, &about, &mut bytes)?;
        Ok(bytes.into_inner())
    }

    /// Figures of the area, and of devices at these places. Blocks.
    pub(crate) fn figures(&self, places: &[Place]) -> Figures {
        let devices = self.asked(|sites, question| of_places(sites, question, places));
        figures(&of_area(&self.region), &devices, &self.names())
    }

    /// Which sites hear which cells, and devices at these places. Blocks.
    ///
    /// # Errors
    /// There are too many sites.
    pub(crate) fn heard(&self, places: &[Place]) -> Result<Heard, Problem> {
        let heard = self.asked(|sites, question| Heard::of(&self.region, sites, question, places));
        heard.map_err(|why| bad_field("sites", "these", why))
    }

    /// The cells of the region.
    pub(crate) fn region(&self) -> &Forecast {
        &self.region
    }

    /// What it computes with.
    pub(crate) fn plan(&self) -> &Plan {
        &self.plan
    }

    /// The ground that it was computed from.
    pub(crate) fn ground(&self) -> &Ground {
        &self.ground
    }

    /// What was last compared with the survey: one compares at a time.
    pub(crate) fn kept_residuals(&self) -> MutexGuard<'_, Option<Kept>> {
        self.residuals.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn asked<T>(&self, what: impl FnOnce(&[Site<'_>], &Question<'_>) -> T) -> T {
        with(&self.ground, &self.plan, &self.losses, what)
    }

    /// The legends of all layers.
    pub(crate) fn legends(&self) -> Legends {
        legends(&self.names())
    }

    /// The names of its sites, in the order of their numbers.
    pub(crate) fn names(&self) -> Vec<&str> {
        self.plan.sites.iter().map(|site| site.name.as_str()).collect()
    }

    /// What it says of a place. Blocks.
    pub(crate) fn at(&self, place: Place) -> PlaceForecast {
        let names = self.names();
        let cell = self.region.cell(place);
        let value = |layer: Layer| {
            let value = f64::from(cell?.value(layer)?);
            Some(LayerValue { layer: layer_word(layer), value, words: value_words(layer, value, &names) })
        };
        let near = |site: &&Placed| site.place.distance_m(place) <= self.plan.radius_m;
        let method = self.plan.method(&self.ground);
        let link = |site: &Placed| links::between(&method, site, (place, &self.plan.terminal)).ok();
        let mut links: Vec<_> = self.plan.sites.iter().filter(near).filter_map(link).collect();
        links.sort_by(|a, b| b.uplink_dbm.total_cmp(&a.uplink_dbm));
        PlaceForecast { values: Layer::ALL.into_iter().filter_map(value).collect(), links }
    }
}

/// The margin of a budget at the slowest data rate, in dB.
pub(crate) fn slowest_margin_db(budget: &Budget) -> f64 {
    budget.rates.iter().map(|rate| rate.margin_db).fold(f64::NEG_INFINITY, f64::max)
}

/// Does something with the sites that are done and the question that is asked of them.
fn with<T>(
    ground: &Ground,
    plan: &Plan,
    losses: &[Arc<Grid>],
    what: impl FnOnce(&[Site<'_>], &Question<'_>) -> T,
) -> T {
    let terrain = ground.terrain();
    let sites = plan.sites.iter().zip(losses).map(|(Placed { place, station, calibrated_db, .. }, losses)| {
        let antenna_m = terrain.sample(*place).map_or(0.0, |sample| sample.ground_m) + station.height_m;
        let calibrated = Calibrated { gateway_db: *calibrated_db, by_class: plan.by_class.as_ref() };
        Site { place: *place, antenna_m, station, losses, calibrated }
    });
    let sites: Vec<Site<'_>> = sites.collect();
    let Computed { rates, judgement, loads, .. } = &plan.computed;
    what(&sites, &Question { terminal: &plan.terminal, rates, judgement, loads, terrain })
}

/// The legends of all layers, for sites of these names.
fn legends(names: &[&str]) -> Legends {
    let one = |layer: Layer| {
        let legend = layer.legend();
        LayerLegend {
            layer: layer_word(layer),
            title: legend.title.to_owned(),
            unit: legend.unit.trim().to_owned(),
            classes: legend_classes(&legend, names),
        }
    };
    Legends { layers: Layer::ALL.into_iter().map(one).collect() }
}

#[cfg(test)]
mod tests {
    use api::coverage::forecast::NewForecast;
    use api::coverage::site::{ReceiverRadio, SiteRadio};
    use chrono::Utc;

    use super::*;

    fn told(wanted: NewForecast, places: &[(f64, f64)]) -> Told {
        let site = |(n, (latitude_deg, longitude_deg)): (usize, &(f64, f64))| SiteAbout {
            revision: String::new(),
            name: format!("site-{n}"),
            gateway: None,
            latitude_deg: Some(*latitude_deg),
            longitude_deg: Some(*longitude_deg),
            radio: SiteRadio::default(),
        };
        let sites = places.iter().enumerate().map(site).collect();
        let id = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C".into();
        Told::waiting(id, wanted, (sites, ReceiverRadio::default()), "Mara".into(), Utc::now())
    }

    fn small() -> NewForecast {
        NewForecast { radius_m: 1_000.0, cell_m: 100.0, ..NewForecast::default() }
    }

    #[test]
    fn a_plan_covers_all_sites_and_refuses_what_cannot_be() {
        let plan = Plan::of(&told(small(), &[(54.7, 3.9), (54.71, 3.93)])).unwrap();
        let extent = plan.extent().unwrap();
        assert!(extent.south_deg < 54.691 + 0.001 && extent.north_deg > 54.719 - 0.001, "{extent:?}");
        assert!(extent.west_deg < 3.885 && extent.east_deg > 3.945, "{extent:?}");
        let why = |told: Told| Plan::of(&told).unwrap_err().to_string();
        assert!(why(told(small(), &[])).contains("needs a site with a place"));
        let mut nowhere = told(small(), &[(54.7, 3.9)]);
        nowhere.sites[0].latitude_deg = None;
        assert!(why(nowhere).contains("its place is not known"));
        let wide = why(told(NewForecast { cell_m: 20.0, ..small() }, &[(54.7, 3.9), (55.2, 4.6)]));
        assert!(wide.contains("million cells") && wide.contains("would do"), "{wide}");
        let apart = why(told(NewForecast { cell_m: 20.0, ..small() }, &[(54.7, 3.9), (-30.0, 150.0)]));
        assert!(apart.contains("cells") && apart.contains("hours"), "{apart}");
    }

    #[test]
    fn a_forecast_in_memory_answers_for_its_sites_that_are_done() {
        let (ground, folder) = (Arc::new(Ground::read(&[], &[]).unwrap()), tempfile::tempdir().unwrap());
        let saved = Losses::new(folder.path());
        let told = told(small(), &[(54.7, 3.9), (54.71, 3.93)]);
        let plan = Plan::of(&told).unwrap();
        let losses: Vec<String> = plan.sites.iter().map(|site| plan.key(&ground, site).file_name()).collect();
        let done = |sites_done: u32| ForecastRow {
            estate_id: 1,
            forecast: Told { sites_done, ..told.clone() },
            losses: losses.clone(),
        };
        assert_eq!(OpenForecast::read(&ground, &saved, &done(0)).err().unwrap().code, "not_ready");
        assert_eq!(OpenForecast::read(&ground, &saved, &done(1)).err().unwrap().code, "gone");
        for site in &plan.sites {
            let key = plan.key(&ground, site);
            saved.save(&key, &key.computed(&ground, &|_, _| true).unwrap()).unwrap();
        }
        let one = OpenForecast::read(&ground, &saved, &done(1)).unwrap();
        let place = Place { latitude_deg: 54.702, longitude_deg: 3.903 };
        let said = one.at(place);
        let best = said.values.iter().find(|value| value.words == "site-0");
        assert!(best.is_some() && said.links.len() == 1, "{said:?}");
        assert!(one.at(Place { latitude_deg: 54.71, longitude_deg: 3.93 }).values.is_empty(), "the second is not done");
        let both = OpenForecast::read(&ground, &saved, &done(2)).unwrap();
        assert!(!both.at(Place { latitude_deg: 54.71, longitude_deg: 3.93 }).values.is_empty());
        let figures = both.figures(&[place]);
        assert!((figures.computed.area_km2 - 2.0 * std::f64::consts::PI).abs() < 0.5, "{figures:?}");
        assert_eq!(figures.covered.devices, 1);
        assert_eq!(both.legends().layers.len(), Layer::ALL.len());
        assert!(both.bytes() > 2 * 441 * 4 && both.bytes() < 1_000_000, "{}", both.bytes());
        assert!(both.legends().layers.iter().all(|legend| legend.classes.iter().all(|class| class.colour.len() == 7)));
    }
}
