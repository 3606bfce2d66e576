//! Calibrations: what may be asked for, and what is told of them.

use std::collections::BTreeMap;

use api::coverage::calibration::{Calibration, ClassCorrection, ForecastErrors, GatewayCorrection, NewCalibration};
use api::coverage::forecast::NewForecast;
use api::problem::{FieldProblems, Problem, bad_field};
use chrono::{DateTime, Utc};
use coverage::survey::calibration::{Calibration as Made, Errors};
use lorawan::Eui64;

use crate::input;

/// What a class of cover is, by its usual number.
pub fn class_name(class: u16) -> String {
    const NAMES: [&str; 11] = [
        "sea",
        "lake or river",
        "tidal flat",
        "grass and heath",
        "sand and dunes",
        "rock",
        "scrub",
        "wood",
        "village",
        "town",
        "dense town",
    ];
    let name = usize::from(class).checked_sub(1).and_then(|at| NAMES.get(at));
    name.map_or_else(|| format!("class {class}"), |name| (*name).to_owned())
}

/// Checks what is asked for.
///
/// # Errors
/// Names each field that cannot be, its value and what is allowed.
pub fn check(wanted: &NewCalibration) -> Result<(), Problem> {
    let mut wrong = FieldProblems::default();
    wrong.take(input::name("name", &wanted.name));
    wrong.take(input::range("time_percent", wanted.time_percent, 1.0, 99.0, "%"));
    wrong.take(input::range("places_percent", wanted.places_percent, 1.0, 99.0, "%"));
    wrong.end()
}

/// What is told of a calibration; `names` are those of gateways.
pub fn told(
    wanted: NewCalibration,
    made: &Made,
    (unheard, names): (usize, &BTreeMap<u64, String>),
    (made_by, made_at): (String, DateTime<Utc>),
) -> Calibration {
    let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    let errors = |errors: Errors| ForecastErrors {
        middle_db: errors.middle_db,
        spread_db: errors.spread_db,
        nine_of_ten_db: errors.nine_of_ten_db,
    };
    let by_gateway = made.by_gateway.iter().map(|(eui, correction)| GatewayCorrection {
        gateway_eui: Eui64(*eui),
        gateway: names.get(eui).cloned().unwrap_or_else(|| Eui64(*eui).to_string()),
        offset_db: correction.offset_db,
        points: count(correction.points),
    });
    let by_class = made.by_class.iter().map(|(class, correction)| ClassCorrection {
        class: *class,
        name: class_name(*class),
        offset_db: correction.offset_db,
        points: count(correction.points),
    });
    Calibration {
        wanted,
        offset_db: made.offset_db,
        by_gateway: by_gateway.collect(),
        by_class: by_class.collect(),
        points: count(made.points),
        unheard: count(unheard),
        before: errors(made.before),
        after: errors(made.after),
        made_by,
        made_at,
    }
}

/// Refuses a calibration of another model for a forecast.
///
/// # Errors
/// If it is.
pub fn fits(calibration: &Calibration, wanted: &NewForecast) -> Result<(), Problem> {
    let of = &calibration.wanted;
    let made = (of.model, of.region, of.time_percent, of.places_percent);
    let asked = (wanted.model, wanted.region, wanted.time_percent, wanted.places_percent);
    if made == asked {
        return Ok(());
    }
    let for_what = format!(
        "it was made for {} in {} with {} % of time and {} % of places; a forecast can only use a calibration of its own model",
        of.model.label(),
        of.region,
        of.time_percent,
        of.places_percent
    );
    Err(bad_field("calibration", &of.name, for_what))
}

/// By how much signals are stronger at a gateway than the model says, in dB; one that is only planned has the common offset.
pub fn at_gateway_db(calibration: &Calibration, gateway: Option<Eui64>) -> f64 {
    let own = calibration.by_gateway.iter().find(|one| Some(one.gateway_eui) == gateway);
    calibration.offset_db + own.map_or(0.0, |one| one.offset_db)
}

/// The same by class of cover, beyond that.
pub fn by_class_db(calibration: &Calibration) -> BTreeMap<u16, f64> {
    calibration.by_class.iter().map(|one| (one.class, one.offset_db)).collect()
}

#[cfg(test)]
mod tests {
    use coverage::survey::calibration::Correction;
    use lorawan::region::Region;

    use super::*;

    fn wanted() -> NewCalibration {
        serde_json::from_str(r#"{"name":"autumn"}"#).unwrap()
    }

    #[test]
    fn a_calibration_is_told_by_names_and_fits_its_own_model() {
        let made = Made {
            offset_db: -3.0,
            by_gateway: [(7, Correction { offset_db: -6.0, points: 40 })].into(),
            by_class: [(8, Correction { offset_db: -2.0, points: 9 })].into(),
            points: 200,
            before: Errors { middle_db: -4.0, spread_db: 6.0, nine_of_ten_db: 12.0 },
            after: Errors::default(),
        };
        let names = BTreeMap::from([(7, "north-weir".to_owned())]);
        let told = told(wanted(), &made, (12, &names), ("Mara".into(), DateTime::UNIX_EPOCH));
        assert_eq!((told.by_gateway[0].gateway.as_str(), told.by_class[0].name.as_str()), ("north-weir", "wood"));
        assert_eq!(at_gateway_db(&told, Some(Eui64(7))), -9.0);
        assert_eq!((at_gateway_db(&told, None), at_gateway_db(&told, Some(Eui64(8)))), (-3.0, -3.0));
        assert_eq!(by_class_db(&told), BTreeMap::from([(8, -2.0)]));
        assert_eq!(fits(&told, &NewForecast::default()), Ok(()));
        let why = fits(&told, &NewForecast { places_percent: 90.0, ..NewForecast::default() }).unwrap_err();
        assert!(why.to_string().contains("50 % of places"), "{why}");
        let why = fits(&told, &NewForecast { region: Region::Us915, ..NewForecast::default() }).unwrap_err();
        assert!(why.to_string().contains("in EU868"), "{why}");
        assert_eq!(class_name(99), "class 99");
    }

    #[test]
    fn what_cannot_be_asked_for_is_named() {
        assert_eq!(check(&wanted()), Ok(()));
        let bad = NewCalibration { name: String::new(), time_percent: 0.0, ..wanted() };
        let fields: Vec<String> = check(&bad).unwrap_err().fields.into_iter().map(|one| one.field).collect();
        assert_eq!(fields, ["name", "time_percent"]);
    }
}
