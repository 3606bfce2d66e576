//! Forecasts: what may be asked for, and what it is computed with.

use api::coverage::forecast::{
    Amount, Figures, GatewaysAmount, HeardAmount, Layer as LayerWord, LegendClass, NewForecast, PathModel, Ranking,
    RateAmount, SiteAmount, SiteWorth,
};
use api::problem::{FieldProblems, Problem, bad_field};
use coverage::area::forecast::Layer;
use coverage::area::legend::Legend;
use coverage::area::ranking::{self, Heard, Ranked, Reach};
use coverage::area::statistics::Share;
use coverage::link::budget::{DataRate, Judgement};
use coverage::model::{Model, Surroundings, irregular, p1812};
use lorawan::modulation::SpreadingFactor;
use lorawan::region::Region;

use super::outside;
use crate::input;

/// Sites of one forecast, at most.
pub const MOST_SITES: usize = 50;
/// Cells of all sites of one forecast, at most: they are held in memory, four bytes each.
pub const MOST_CELLS: u64 = 20_000_000;

/// What a forecast is computed with.
#[derive(Debug, Clone, PartialEq)]
pub struct Computed {
    /// How the loss of a path is computed.
    pub model: Model,
    /// The frequency, in MHz.
    pub frequency_mhz: f64,
    /// The data rates that devices use.
    pub rates: Vec<DataRate>,
    /// How a link is judged.
    pub judgement: Judgement,
    /// What else is on the air.
    pub loads: Vec<(SpreadingFactor, f64)>,
}

/// The model that a word stands for, for shares of time and of places in percent.
pub fn model(word: PathModel, time_percent: f64, places_percent: f64) -> Model {
    match word {
        PathModel::FreeSpace => Model::FreeSpace,
        PathModel::HataCity => Model::Hata(Surroundings::City),
        PathModel::HataSuburban => Model::Hata(Surroundings::Suburban),
        PathModel::HataOpen => Model::Hata(Surroundings::Open),
        PathModel::Diffraction => Model::Diffraction,
        PathModel::P1812 => {
            Model::P1812(p1812::Settings { time_percent, places_percent, ..p1812::Settings::default() })
        }
        PathModel::IrregularTerrain => {
            let usual = irregular::Settings::default();
            Model::IrregularTerrain(irregular::Settings { time_percent, places_percent, ..usual })
        }
    }
}

/// The data rates of uplinks in a region.
pub fn rates(region: Region) -> Vec<DataRate> {
    let plan = region.plan();
    let sent = plan.data_rates().filter(|(n, _)| plan.sends_at(*n, false));
    sent.map(|(n, rate)| (n, rate.modulation)).collect()
}

/// The frequency of a region's first uplink channel, in MHz.
pub fn first_frequency_mhz(region: Region) -> f64 {
    region.plan().uplinks().next().map_or(868.1, |channel| f64::from(channel.frequency_hz) / 1e6)
}

/// Checks what is asked for.
///
/// # Errors
/// Names each field that cannot be, its value and what is allowed.
pub fn check(wanted: &NewForecast) -> Result<Computed, Problem> {
    let mut wrong = FieldProblems::default();
    if !wanted.name.is_empty() {
        wrong.take(input::name("name", &wanted.name));
    }
    wrong.take(input::range("time_percent", wanted.time_percent, 1.0, 99.0, "%"));
    wrong.take(input::range("places_percent", wanted.places_percent, 1.0, 99.0, "%"));
    wrong.take(input::range("radius_m", wanted.radius_m, 100.0, coverage::area::LARGEST_M, "m"));
    wrong.take(input::range("cell_m", wanted.cell_m, 5.0, 10_000.0, "m"));
    if let Some(frequency_mhz) = wanted.frequency_mhz {
        wrong.take(input::range("frequency_mhz", frequency_mhz, 30.0, 6_000.0, "MHz"));
    }
    if wanted.sites.len() > MOST_SITES {
        let count = wanted.sites.len().to_string();
        wrong.add(bad_field("sites", &count, format!("at most {MOST_SITES} sites are computed at once")));
    }
    let judgement = Judgement {
        reliability: wanted.reliability,
        shadowing_db: wanted.shadowing_db,
        payload_bytes: usize::from(wanted.payload_bytes),
        interval_s: wanted.interval_s,
    };
    wrong.take(judgement.check().map_err(|why| outside(&why)));
    let mut loads = Vec::with_capacity(wanted.load.len());
    for load in &wanted.load {
        let value = load.spreading_factor.to_string();
        let factor = SpreadingFactor::new(load.spreading_factor);
        let factor = factor.ok_or_else(|| bad_field("load.spreading_factor", &value, "7 to 12 is allowed"));
        let erlang = input::range("load.erlang", load.erlang, 0.0, 10.0, "Erlang");
        loads.extend(wrong.take(factor).zip(wrong.take(erlang)));
    }
    wrong.end()?;
    Ok(Computed {
        model: model(wanted.model, wanted.time_percent, wanted.places_percent),
        frequency_mhz: wanted.frequency_mhz.unwrap_or_else(|| first_frequency_mhz(wanted.region)),
        rates: rates(wanted.region),
        judgement,
        loads,
    })
}

/// Refuses a forecast that is too large, with what it would cost.
///
/// # Errors
/// If it is.
pub fn affordable(wanted: &NewForecast, sites: usize) -> Result<(), Problem> {
    let side = 2.0 * (wanted.radius_m / wanted.cell_m).ceil() + 1.0;
    let cells = side * side * sites as f64;
    if cells <= MOST_CELLS as f64 {
        return Ok(());
    }
    let least_m = (2.0 * wanted.radius_m / (MOST_CELLS as f64 / sites as f64).sqrt()).ceil();
    let allowed = format!(
        "{sites} sites of {:.0} m around would be {:.0} million cells; at most {} million are computed: cells of {least_m} m would do",
        wanted.radius_m,
        cells / 1e6,
        MOST_CELLS / 1_000_000
    );
    Err(bad_field("cell_m", &wanted.cell_m.to_string(), allowed))
}

/// The layer that a word stands for.
pub const fn layer(word: LayerWord) -> Layer {
    match word {
        LayerWord::Margin => Layer::Margin,
        LayerWord::DataRate => Layer::DataRate,
        LayerWord::BestSite => Layer::BestSite,
        LayerWord::InReach => Layer::InReach,
        LayerWord::Uplink => Layer::Uplink,
        LayerWord::Downlink => Layer::Downlink,
        LayerWord::Snr => Layer::Snr,
        LayerWord::Snir => Layer::Snir,
        LayerWord::Airtime => Layer::Airtime,
        LayerWord::Reliability => Layer::Reliability,
    }
}

/// The word for a layer.
pub const fn layer_word(layer: Layer) -> LayerWord {
    match layer {
        Layer::Margin => LayerWord::Margin,
        Layer::DataRate => LayerWord::DataRate,
        Layer::BestSite => LayerWord::BestSite,
        Layer::InReach => LayerWord::InReach,
        Layer::Uplink => LayerWord::Uplink,
        Layer::Downlink => LayerWord::Downlink,
        Layer::Snr => LayerWord::Snr,
        Layer::Snir => LayerWord::Snir,
        Layer::Airtime => LayerWord::Airtime,
        Layer::Reliability => LayerWord::Reliability,
    }
}

/// The classes of a legend, from much to little.
pub fn legend_classes(legend: &Legend, names: &[&str]) -> Vec<LegendClass> {
    let class = |(class, words): (usize, String)| {
        let [red, green, blue] = legend.colour(class);
        LegendClass { colour: format!("#{red:02x}{green:02x}{blue:02x}"), words }
    };
    legend.classes(names).into_iter().map(class).collect()
}

/// A layer's value in words; `sites` are the names of the numbers of [`Layer::BestSite`].
pub fn value_words(layer: Layer, value: f64, sites: &[&str]) -> String {
    match layer {
        Layer::BestSite => sites.get(value as usize).map_or_else(|| value.to_string(), |name| (*name).to_owned()),
        Layer::DataRate => format!("DR{value}"),
        Layer::InReach => value.to_string(),
        Layer::Reliability => format!("{:.1} %", value * 100.0),
        _ => format!("{value:.1}{}", layer.legend().unit),
    }
}

/// A ranking of sites by what they hear; `base` are the numbers of those that are taken to be there.
pub fn ranking(heard: &Heard, base: &[u16], sites: &[&str]) -> Ranking {
    let amount =
        |one: ranking::Amount| Amount { area_km2: one.area_km2, devices: u32::try_from(one.devices).unwrap_or(0) };
    let told = |reach: Reach| HeardAmount { once: amount(reach.once), twice: amount(reach.twice) };
    let name = |site: u16| sites.get(usize::from(site)).copied().unwrap_or_default().to_owned();
    let worth = |one: &Ranked| SiteWorth { site: name(one.site), more: told(one.more) };
    Ranking {
        base: base.iter().map(|site| name(*site)).collect(),
        heard: told(heard.by(base.iter().copied())),
        add: heard.additions(base).iter().map(worth).collect(),
        remove: heard.losses(base).iter().map(worth).collect(),
    }
}

/// The figures of a forecast from those of its area and of devices.
pub fn figures(area: &Share, devices: &Share, sites: &[&str]) -> Figures {
    let amount = |area_km2: Option<&f64>, devices: Option<&f64>| Amount {
        area_km2: area_km2.copied().unwrap_or_default(),
        devices: devices.copied().unwrap_or_default() as u32,
    };
    let rates = area.by_data_rate.keys().chain(devices.by_data_rate.keys()).copied();
    let rates: std::collections::BTreeSet<u8> = rates.collect();
    let counts = area.by_gateways.keys().chain(devices.by_gateways.keys()).copied();
    let counts: std::collections::BTreeSet<u16> = counts.collect();
    Figures {
        computed: amount(Some(&area.total), Some(&devices.total)),
        covered: amount(Some(&area.covered()), Some(&devices.covered())),
        by_data_rate: rates
            .into_iter()
            .map(|data_rate| RateAmount {
                data_rate,
                amount: amount(area.by_data_rate.get(&data_rate), devices.by_data_rate.get(&data_rate)),
            })
            .collect(),
        by_gateways: counts
            .into_iter()
            .map(|gateways| GatewaysAmount {
                gateways,
                amount: amount(area.by_gateways.get(&gateways), devices.by_gateways.get(&gateways)),
            })
            .collect(),
        lost_with: sites
            .iter()
            .enumerate()
            .map(|(n, site)| SiteAmount {
                site: (*site).to_owned(),
                amount: amount(area.lost_with.get(&(n as u16)), devices.lost_with.get(&(n as u16))),
            })
            .collect(),
    }
}

#[cfg(test)]
mod tests {
    use api::coverage::forecast::Load;

    use super::*;

    #[test]
    fn the_usual_forecast_is_that_of_the_region() {
        let usual = check(&NewForecast::default()).unwrap();
        assert_eq!(usual.frequency_mhz, 868.1);
        assert!(usual.rates.iter().map(|(n, _)| *n).take(6).eq(0..6));
        assert!(matches!(usual.model, Model::P1812(settings) if settings.time_percent == 50.0));
    }

    #[test]
    fn all_that_is_wrong_is_told_at_once() {
        let bad = NewForecast {
            reliability: 1.5,
            cell_m: 0.0,
            load: vec![Load { spreading_factor: 99, erlang: f64::NAN }],
            ..NewForecast::default()
        };
        let problem = check(&bad).unwrap_err();
        let fields: Vec<&str> = problem.fields.iter().map(|one| one.field.as_str()).collect();
        assert_eq!(fields, ["cell_m", "reliability", "load.spreading_factor", "load.erlang"]);
        let large = NewForecast { radius_m: 150_000.0, cell_m: 10.0, ..NewForecast::default() };
        let why = affordable(&large, 4).unwrap_err().detail.unwrap();
        assert!(why.contains("3600 million cells") && why.contains("cells of 135 m would do"), "{why}");
        let coarser = NewForecast { cell_m: 136.0, ..large };
        assert!(affordable(&coarser, 4).is_ok());
    }

    #[test]
    fn each_layer_has_one_word() {
        assert!(Layer::ALL.into_iter().all(|one| layer(layer_word(one)) == one));
        assert_eq!(value_words(Layer::BestSite, 1.0, &["a", "b"]), "b");
        assert_eq!(value_words(Layer::Margin, 12.34, &[]), "12.3 dB");
        assert_eq!(value_words(Layer::Reliability, 0.956, &[]), "95.6 %");
    }
}
