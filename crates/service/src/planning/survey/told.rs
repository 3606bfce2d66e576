//! What is told of a survey: names for EUIs, words for values.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use api::coverage::survey::{
    ChangedKind, HeardThere, HourlyLevel, LeftOut, LevelStep, SignalChange, SignalHistory, Survey, SurveyArea,
    SurveyAreaKind, SurveyHexagon, SurveyLegend, SurveyPlace, SurveyQuantity, SurveyValue, SurveyedGateway,
};
use chrono::{DateTime, Utc};
use coverage::geo::{Extent, Place};
use coverage::survey::areas::{AreaKind, FoundArea};
use coverage::survey::changes::Change;
use coverage::survey::gateways::gateways;
use coverage::survey::here::{HeardHere, Here};
use coverage::survey::hexagons::{Hexagon, Quantity, middle};
use coverage::survey::median;
use coverage::survey::observation::Implausible;
use coverage::survey::record::Filter;
use coverage::survey::steps::steps;
use domain::coverage::forecast::legend_classes;
use domain::coverage::ground_extent;
use domain::coverage::survey::{change_words, next_step, quantity_word, quantity_words};
use lorawan::Eui64;
use lorawan::limits::noise_dbm;

use crate::planning::survey::opened::OpenSurvey;

/// Names of devices that are told of a place or an area.
const MOST_NAMES: usize = 20;
/// The noise figure of a good gateway, in dB.
const GOOD_NOISE_FIGURE_DB: f64 = 6.0;
/// Smaller steps are not told, in dB.
const LEAST_STEP_DB: f64 = 3.0;
const HOUR_S: i64 = 3_600;

/// The names of a survey's gateways, in the order of their numbers.
pub(crate) struct Names {
    names: Vec<String>,
    of: HashMap<u64, usize>,
}

impl Names {
    /// Of EUIs in the order of their numbers; one that is not registered any more is named by its EUI.
    pub(crate) fn new(all: impl Iterator<Item = (u64, Option<String>)>) -> Self {
        let (mut names, mut of) = (Vec::new(), HashMap::new());
        for (n, (eui, name)) in all.enumerate() {
            names.push(name.unwrap_or_else(|| Eui64(eui).to_string()));
            of.insert(eui, n);
        }
        Self { names, of }
    }

    /// The name of a gateway.
    pub(crate) fn gateway(&self, eui: u64) -> String {
        self.of.get(&eui).map_or_else(|| Eui64(eui).to_string(), |n| self.names[*n].clone())
    }

    fn all(&self) -> Vec<&str> {
        self.names.iter().map(String::as_str).collect()
    }
}

fn time(at_s: i64) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp(at_s, 0)
}

/// A survey in figures. Blocks.
pub(crate) fn survey(opened: &OpenSurvey, filter: &Filter, names: &Names) -> Survey {
    let record = opened.record();
    let (mut uplinks, mut lost, mut placed) = (0u64, 0u64, 0u64);
    let (mut devices, mut times, mut extent) = (BTreeSet::new(), None::<(i64, i64)>, None::<Extent>);
    for seen in record.seen(filter, 0) {
        let (heard, missed) = seen.heard_and_not(None);
        (uplinks, lost) = (uplinks + u64::from(heard), lost + u64::from(missed));
        devices.insert(seen.device());
        let at_s = seen.at_s();
        times = Some(times.map_or((at_s, at_s), |(from, until)| (from.min(at_s), until.max(at_s))));
        if let Some(place) = seen.place() {
            placed += u64::from(heard);
            extent = Some(extent.unwrap_or(Extent::at(place)).with(place));
        }
    }
    let surveyed = gateways(&record, filter);
    let mut legends: Vec<SurveyLegend> = Quantity::ALL.into_iter().map(|quantity| legend(quantity, names)).collect();
    // Gateways that heard none of these uplinks are left out.
    let heard: BTreeSet<String> = surveyed.iter().map(|one| names.gateway(one.gateway)).collect();
    for legend in legends.iter_mut().filter(|legend| legend.quantity == SurveyQuantity::BestGateway) {
        legend.classes.retain(|class| heard.contains(&class.words));
    }
    let own_dbm = noise_dbm(125_000, GOOD_NOISE_FIGURE_DB);
    let gateway = |one: coverage::survey::gateways::Surveyed| SurveyedGateway {
        gateway_eui: Eui64(one.gateway),
        gateway: names.gateway(one.gateway),
        heard: one.heard,
        devices: u32::try_from(one.devices).unwrap_or(u32::MAX),
        noise_dbm: one.noise_dbm,
        noise_above_db: one.noise_dbm.map(|dbm| dbm - own_dbm),
    };
    let refused = Implausible::REASONS.iter().zip(record.refused());
    let refused =
        refused.filter(|(_, count)| *count > 0).map(|(reason, count)| LeftOut { reason: (*reason).into(), count });
    Survey {
        uplinks,
        lost,
        placed,
        devices: u32::try_from(devices.len()).unwrap_or(u32::MAX),
        from: times.and_then(|(from, _)| time(from)),
        until: times.and_then(|(_, until)| time(until)),
        cut: opened.cut,
        extent: extent.as_ref().map(ground_extent),
        gateways: surveyed.into_iter().map(gateway).collect(),
        // Whose they are is not known any more.
        refused: if filter.among.is_none() { refused.collect() } else { Vec::new() },
        legends,
    }
}

fn legend(quantity: Quantity, names: &Names) -> SurveyLegend {
    let legend = quantity.legend();
    SurveyLegend {
        quantity: quantity_word(quantity),
        title: legend.title.into(),
        unit: legend.unit.trim().into(),
        classes: legend_classes(&legend, &names.all()),
    }
}

/// A hexagon as it is sent; `None` if its index is not valid.
pub(crate) fn hexagon(quantity: Quantity, one: &Hexagon, names: &Names) -> Option<SurveyHexagon> {
    let Place { latitude_deg, longitude_deg } = middle(one.index)?;
    Some(SurveyHexagon {
        index: format!("{:x}", one.index),
        latitude_deg,
        longitude_deg,
        value: one.value,
        words: quantity_words(quantity, one.value, &names.names),
        spread: one.spread,
        uplinks: one.uplinks,
        unheard: one.unheard,
    })
}

/// A hexagon by a quantity.
fn value(quantity: Quantity, one: &Hexagon, names: &Names) -> Option<SurveyValue> {
    let title = quantity.legend().title.into();
    Some(SurveyValue { quantity: quantity_word(quantity), title, hexagon: hexagon(quantity, one, names)? })
}

/// Names of devices, and of drive tests.
fn device_names(opened: &OpenSurvey, all: impl IntoIterator<Item = u64>) -> Vec<String> {
    let import = |eui: u64| opened.imports.get(&u32::try_from(eui).ok()?).map(|(name, _)| format!("drive test {name}"));
    let name = |eui: u64| opened.device(eui).map(|one| one.name.clone()).or_else(|| import(eui));
    let mut names: Vec<String> = all.into_iter().filter_map(name).collect();
    names.sort_unstable();
    names.truncate(MOST_NAMES);
    names
}

/// What was measured around a place.
pub(crate) fn place(opened: &OpenSurvey, here: &Here, names: &Names) -> SurveyPlace {
    let gateway = |one: &HeardHere| HeardThere {
        gateway: names.gateway(one.gateway),
        rssi_dbm: one.rssi_dbm,
        snr_db: one.snr_db,
        heard: one.heard,
        unheard: one.unheard,
    };
    SurveyPlace {
        values: here.values.iter().filter_map(|(quantity, one)| value(*quantity, one, names)).collect(),
        gateways: here.gateways.iter().map(gateway).collect(),
        devices: device_names(opened, here.devices.iter().copied()),
    }
}

/// An area where coverage is poor.
pub(crate) fn area(opened: &OpenSurvey, one: &FoundArea, names: &Names) -> SurveyArea {
    let best_gateway = one.best_gateway.map(|gateway| names.gateway(gateway));
    SurveyArea {
        kind: match one.kind {
            AreaKind::Dark => SurveyAreaKind::Dark,
            AreaKind::Weak => SurveyAreaKind::Weak,
            AreaKind::OneGateway => SurveyAreaKind::OneGateway,
        },
        latitude_deg: one.centre.latitude_deg,
        longitude_deg: one.centre.longitude_deg,
        area_km2: one.area_km2,
        uplinks: one.uplinks,
        lost: one.lost,
        margin_db: Some(one.margin_db).filter(|db| db.is_finite()),
        devices: device_names(opened, one.devices.iter().copied()),
        next_step: next_step(one, best_gateway.as_deref()),
        best_gateway,
    }
}

/// A change of signal.
pub(crate) fn change(change: &Change, (kind, eui, name): (ChangedKind, Eui64, String)) -> SignalChange {
    let (what, next_step) = change_words(change, &name);
    let count = |links: usize| u32::try_from(links).unwrap_or(u32::MAX);
    SignalChange {
        kind,
        eui,
        name,
        since: time(change.step.at_s).unwrap_or_default(),
        change_db: change.step.change_db(),
        links: count(change.links),
        of: count(change.of),
        what,
        next_step,
    }
}

/// The signal of a link: one point an hour, and its steps. Blocks.
pub(crate) fn signal(levels: &[(i64, f64)], (device, gateway): (String, String)) -> SignalHistory {
    let mut hours: BTreeMap<i64, Vec<f64>> = BTreeMap::new();
    levels.iter().for_each(|(at_s, db)| hours.entry(at_s.div_euclid(HOUR_S)).or_default().push(*db));
    let point = |(hour, mut levels): (i64, Vec<f64>)| HourlyLevel {
        at_ms: hour * HOUR_S * 1000,
        level_db: median(&mut levels).unwrap_or_default(),
        uplinks: u32::try_from(levels.len()).unwrap_or(u32::MAX),
    };
    let found = steps(levels, LEAST_STEP_DB);
    let step = |one: &coverage::survey::steps::Step| {
        Some(LevelStep { at: time(one.at_s)?, before_db: one.before_db, after_db: one.after_db })
    };
    SignalHistory {
        device,
        gateway,
        points: hours.into_iter().map(point).collect(),
        steps: found.iter().filter_map(step).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOON_S: i64 = 1_777_896_000;

    #[test]
    fn a_signal_is_told_by_the_hour_with_its_steps() {
        let level = |hour: i64| if hour < 240 { -120.0 } else { -127.0 };
        let fading = |n: i64| (n * 31 % 11) as f64 / 5.0 - 1.0;
        let levels: Vec<(i64, f64)> = (0..480 * 4).map(|n| (NOON_S + n * 900, level(n / 4) + fading(n))).collect();
        let told = signal(&levels, ("tide-05".into(), "mast".into()));
        assert_eq!((told.points.len(), told.points[0].uplinks), (480, 4));
        assert_eq!(told.points[0].at_ms, NOON_S * 1000);
        assert!((told.points[0].level_db + 120.0).abs() < 1.1);
        let [step] = told.steps.as_slice() else { panic!("{:?}", told.steps) };
        assert!((step.after_db - step.before_db + 7.0).abs() < 0.5, "{step:?}");
        let none = signal(&[], ("tide-05".into(), "mast".into()));
        assert!(none.points.is_empty() && none.steps.is_empty());
    }

    #[test]
    fn gateways_have_names_or_else_their_eui() {
        let names = Names::new([(7, Some("mast".to_owned())), (9, None)].into_iter());
        assert_eq!((names.gateway(7), names.gateway(9)), ("mast".into(), "0000000000000009".into()));
        assert_eq!(names.gateway(11), "000000000000000b", "a gateway that has heard nothing yet");
        let hexagon = Hexagon { index: 0x0891_9618_0237_ffff, value: 0.0, spread: None, uplinks: 3, unheard: 1 };
        let told = super::hexagon(Quantity::BestGateway, &hexagon, &names).unwrap();
        assert_eq!((told.words.as_str(), told.index.as_str()), ("mast", "89196180237ffff"));
        assert!(super::hexagon(Quantity::Rssi, &Hexagon { index: 5, ..hexagon }, &names).is_none());
    }

    #[test]
    fn a_change_is_told_with_its_day_and_what_to_do() {
        let step = coverage::survey::steps::Step { at_s: NOON_S, before_db: 0.0, after_db: -6.0 };
        let whose = coverage::survey::changes::Whose::Device(7);
        let found = Change { whose, step, links: 2, of: 3 };
        let told = change(&found, (ChangedKind::Device, Eui64(7), "tide-05".into()));
        assert_eq!((told.change_db, told.links, told.of), (-6.0, 2, 3));
        assert_eq!(told.since.timestamp(), NOON_S);
        assert!(told.what.starts_with("tide-05 is 6.0 dB weaker") && told.next_step.contains("antenna"), "{told:?}");
    }
}
