//! Forecasts held against the survey, and against one another.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::coverage::comparison::{ForecastComparison, GatewayDifference, SurveyComparison, WorsePlace};
use api::coverage::forecast::{Amount, Forecast as Told};
use coverage::area::comparison::{compare, covers, difference};
use coverage::area::forecast::{Layer, budgets_at};
use coverage::area::legend::DIFFERENCE_DB;
use coverage::area::picture;
use coverage::geo::Place;
use coverage::survey::hexagons::index_at;
use coverage::survey::record::Filter;
use coverage::survey::residuals::{Residual, by_gateway, middle_and_spread, worse};
use coverage::terrain::relief::Tile;
use domain::coverage::comparison::{cause, parameters};
use domain::coverage::forecast::legend_classes;
use lorawan::Eui64;

use crate::planning::opened::OpenForecast;
use crate::planning::survey::calibrate::{Middle, POWER_DBM, Spots};
use crate::planning::survey::opened::OpenSurvey;

/// Hexagons with sides of some 200 m.
const RESOLUTION: u8 = 9;
/// How long what was compared is believed: the survey grows.
const FRESH: Duration = Duration::from_secs(60);
/// Times that differ by less are the same, in seconds.
const SAME_S: i64 = 3_600;

/// What was compared: uplinks from this time on, in seconds since 1970.
pub(crate) struct Kept {
    made: Instant,
    from_s: i64,
    residuals: Arc<Vec<Residual>>,
}

/// A survey from a time on, and a gateway that is asked about.
#[derive(Clone)]
pub(crate) struct Against {
    pub survey: Arc<OpenSurvey>,
    /// In seconds since 1970.
    pub from_s: i64,
    pub gateway: Option<u64>,
}

impl OpenForecast {
    /// What was measured less what is forecast, by hexagon and gateway. Blocks.
    fn residuals(&self, against: &Against) -> Arc<Vec<Residual>> {
        let mut kept = self.kept_residuals();
        let same = |kept: &&Kept| kept.made.elapsed() < FRESH && (kept.from_s - against.from_s).abs() < SAME_S;
        if let Some(kept) = kept.as_ref().filter(same) {
            return Arc::clone(&kept.residuals);
        }
        let residuals = Arc::new(self.compared_with(against));
        let from_s = against.from_s;
        *kept = Some(Kept { made: Instant::now(), from_s, residuals: Arc::clone(&residuals) });
        residuals
    }

    fn compared_with(&self, against: &Against) -> Vec<Residual> {
        let plan = self.plan();
        let numbers: HashMap<u64, u16> =
            (0u16..).zip(&plan.sites).filter_map(|(n, site)| Some((site.gateway?.0, n))).collect();
        let noise =
            plan.sites.iter().filter_map(|site| Some((site.gateway?.0, site.station.noise_figure_db))).collect();
        let filter = Filter { from_s: Some(against.from_s), ..Filter::default() };
        let spots = Spots::of(&against.survey, &filter, (&noise, RESOLUTION));
        let terrain = self.ground().terrain();
        self.asked(|sites, question| {
            let residual = |Middle { index, gateway, place, dbm: measured_dbm, at_most, uplinks }| {
                let number = numbers.get(&gateway)?;
                let budgets = budgets_at(sites, question, place);
                let (_, budget) = budgets.iter().find(|(n, _)| n == number)?;
                let residual_db = measured_dbm - (budget.uplink_dbm - question.terminal.power_dbm + POWER_DBM);
                let class = terrain.class(place);
                Some(Residual { index, place, gateway, class, residual_db, measured_dbm, at_most, uplinks })
            };
            spots.middles().filter_map(residual).collect()
        })
    }

    /// The differences to the survey as pixels: of one gateway, or of the best of each hexagon. Blocks.
    pub(crate) fn survey_difference_tile(&self, against: &Against, tile: Tile) -> Vec<u8> {
        let mut shown: HashMap<u64, &Residual> = HashMap::new();
        let all = self.residuals(against);
        for one in all.iter().filter(|one| against.gateway.is_none_or(|gateway| gateway == one.gateway)) {
            // Silence says something only where a signal is forecast.
            if one.at_most && one.residual_db > 0.0 {
                continue;
            }
            let best = shown.entry(one.index).or_insert(one);
            if (best.at_most, -best.measured_dbm) > (one.at_most, -one.measured_dbm) {
                *best = one;
            }
        }
        let value = |place: Place| Some(shown.get(&index_at(place, RESOLUTION)?)?.residual_db);
        picture::tile(&DIFFERENCE_DB, tile, value)
    }

    /// The differences to another forecast as pixels. Blocks.
    pub(crate) fn difference_tile(&self, other: &Self, layer: Layer, tile: Tile) -> Vec<u8> {
        picture::tile(&DIFFERENCE_DB, tile, |place| difference(self.region(), other.region(), layer, place))
    }

    /// The comparison with the survey; `names` are those of gateways. Blocks.
    pub(crate) fn survey_comparison(&self, against: &Against) -> SurveyComparison {
        let all = self.residuals(against);
        let all: Vec<Residual> =
            all.iter().filter(|one| against.gateway.is_none_or(|gateway| gateway == one.gateway)).copied().collect();
        let names: BTreeMap<u64, &str> =
            self.plan().sites.iter().filter_map(|site| Some((site.gateway?.0, site.name.as_str()))).collect();
        let name = |eui: u64| names.get(&eui).copied().unwrap_or_default().to_owned();
        let middle = middle_and_spread(&all);
        let place = |one: &coverage::survey::residuals::Worse| {
            let (kind, words) = cause(one, &name(one.residual.gateway));
            WorsePlace {
                latitude_deg: one.residual.place.latitude_deg,
                longitude_deg: one.residual.place.longitude_deg,
                gateway: name(one.residual.gateway),
                difference_db: one.residual.residual_db,
                unheard: one.residual.at_most,
                cause: kind,
                words,
            }
        };
        let gateways = by_gateway(&all).into_iter().map(|(eui, middle_db)| GatewayDifference {
            gateway_eui: Eui64(eui),
            gateway: name(eui),
            middle_db,
        });
        SurveyComparison {
            compared: u32::try_from(all.len()).unwrap_or(u32::MAX),
            middle_db: middle.map(|(middle_db, _)| middle_db),
            spread_db: middle.map(|(_, spread_db)| spread_db),
            gateways: gateways.collect(),
            worse: worse(&all).iter().map(place).collect(),
            legend: legend_classes(&DIFFERENCE_DB, &[]),
        }
    }

    /// The comparison with another forecast, for devices at these places. Blocks.
    pub(crate) fn comparison(
        &self,
        other: &Self,
        (this_told, other_told): (&Told, &Told),
        (layer, places): (Layer, &[Place]),
    ) -> ForecastComparison {
        let compared = compare(self.region(), other.region(), layer);
        let devices = |covered: (bool, bool)| {
            let is = |place: &&Place| (covers(self.region(), **place), covers(other.region(), **place)) == covered;
            u32::try_from(places.iter().filter(is).count()).unwrap_or(u32::MAX)
        };
        ForecastComparison {
            parameters: parameters(this_told, other_told),
            gained: Amount { area_km2: compared.gained_km2, devices: devices((true, false)) },
            lost: Amount { area_km2: compared.lost_km2, devices: devices((false, true)) },
            both: Amount { area_km2: compared.both_km2, devices: devices((true, true)) },
            middle_db: compared.middle,
            legend: legend_classes(&DIFFERENCE_DB, &[]),
        }
    }
}
