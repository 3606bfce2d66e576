//! Forecasts held against the survey, and against one another: causes and parameters in words.

use api::coverage::comparison::{ParameterDifference, WorseCause};
use api::coverage::forecast::Forecast;
use api::coverage::site::{Site, SiteRadio};
use api::problem::{Problem, bad_field};
use coverage::area::forecast::Layer;
use coverage::survey::residuals::{Cause, Worse};

use super::calibration::class_name;

/// Refuses a layer whose values are no decibels.
///
/// # Errors
/// If it is one.
pub fn in_decibels(layer: Layer) -> Result<Layer, Problem> {
    match layer {
        Layer::Margin | Layer::Uplink | Layer::Downlink | Layer::Snr | Layer::Snir => Ok(layer),
        _ => Err(bad_field("layer", layer.legend().title, "margin, uplink, downlink, snr and snir can be subtracted")),
    }
}

/// The likely cause of a place that is worse than forecast, and it in words.
pub fn cause(worse: &Worse, gateway: &str) -> (WorseCause, String) {
    match worse.cause {
        Cause::Gateway(db) => {
            let words = format!("All that {gateway} hears is {:.0} dB weaker: look at its antenna and its cable.", -db);
            (WorseCause::Gateway, words)
        }
        Cause::Cover(db) => {
            let class = worse.residual.class.map_or_else(|| "this cover".into(), class_name);
            let words = format!(
                "All that comes from {class} is {:.0} dB weaker: it shields more than was assumed. A calibration takes that into account.",
                -db
            );
            (WorseCause::Cover, words)
        }
        Cause::Here => {
            let words =
                "Only here: something in the way that the files of the ground do not have, or the antenna of a device.";
            (WorseCause::Here, words.into())
        }
    }
}

/// The parameters of two forecasts that differ.
pub fn parameters(this: &Forecast, other: &Forecast) -> Vec<ParameterDifference> {
    let sites =
        |forecast: &Forecast| forecast.sites.iter().map(|site| site.name.as_str()).collect::<Vec<_>>().join(", ");
    // Of sites that both have.
    let in_both = |site: &&Site| [this, other].iter().all(|all| all.sites.iter().any(|one| one.name == site.name));
    let radios = |forecast: &Forecast| {
        let one = |site: &Site| {
            let SiteRadio { height_m, power_dbm, cable_loss_db, antenna, .. } = &site.radio;
            let [height_m, power_dbm, lost_db] = [height_m, power_dbm, cable_loss_db].map(|of| of.unwrap_or_default());
            let gain_dbi = antenna.as_ref().and_then(|antenna| antenna.gain_dbi).unwrap_or_default();
            format!("{}: {height_m} m, {power_dbm} dBm, {gain_dbi} dBi, {lost_db} dB lost in the cable", site.name)
        };
        let mut all: Vec<String> = forecast.sites.iter().filter(in_both).map(one).collect();
        all.sort_unstable();
        all.join("; ")
    };
    let receiver = |forecast: &Forecast| {
        let radio = forecast.receiver;
        format!(
            "{}: {} m, {} dBi, {} dBm, {} dB lost",
            forecast.wanted.receiver, radio.height_m, radio.gain_dbi, radio.power_dbm, radio.penetration_loss_db
        )
    };
    let calibration = |forecast: &Forecast| {
        forecast.calibration.as_ref().map_or_else(|| "none".into(), |one| one.wanted.name.clone())
    };
    let both = |name: &str, of: &dyn Fn(&Forecast) -> String| ParameterDifference {
        name: name.into(),
        this: of(this),
        other: of(other),
    };
    let all = [
        both("sites", &sites),
        both("radios", &radios),
        both("receiver", &receiver),
        both("path model", &|one| one.wanted.model.label().into()),
        both("share of time", &|one| format!("{} %", one.wanted.time_percent)),
        both("share of places", &|one| format!("{} %", one.wanted.places_percent)),
        both("reliability", &|one| format!("{} %", one.wanted.reliability * 100.0)),
        both("shadowing", &|one| format!("{} dB", one.wanted.shadowing_db)),
        both("region", &|one| one.wanted.region.to_string()),
        both("frequency", &|one| {
            one.wanted.frequency_mhz.map_or_else(|| "the first".into(), |mhz| format!("{mhz} MHz"))
        }),
        both("radius", &|one| format!("{} m", one.wanted.radius_m)),
        both("cell", &|one| format!("{} m", one.wanted.cell_m)),
        both("calibration", &calibration),
        both("edition of the ground", &|one| one.ground.clone()),
    ];
    all.into_iter().filter(|one| one.this != one.other).collect()
}

#[cfg(test)]
mod tests {
    use api::coverage::forecast::NewForecast;
    use api::coverage::site::ReceiverRadio;
    use chrono::DateTime;
    use coverage::geo::Place;
    use coverage::survey::residuals::Residual;

    use super::*;

    #[test]
    fn only_what_differs_is_told() {
        let made = |wanted: NewForecast| {
            Forecast::waiting(
                "a".into(),
                wanted,
                (Vec::new(), ReceiverRadio::default()),
                "Mara".into(),
                DateTime::UNIX_EPOCH,
            )
        };
        let this = made(NewForecast::default());
        let other = made(NewForecast { cell_m: 100.0, reliability: 0.95, ..NewForecast::default() });
        let names: Vec<String> = parameters(&this, &other).into_iter().map(|one| one.name).collect();
        assert_eq!(names, ["reliability", "cell"]);
        let on_other_ground = Forecast { ground: "5f0c9b21aa03e7d4".into(), ..this.clone() };
        assert_eq!(parameters(&this, &on_other_ground)[0].name, "edition of the ground");
        assert_eq!(parameters(&this, &this), []);
        assert_eq!(in_decibels(Layer::Margin), Ok(Layer::Margin));
        assert!(in_decibels(Layer::BestSite).unwrap_err().to_string().contains("best site"));
    }

    #[test]
    fn a_cause_is_told_in_words() {
        let place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let residual = Residual {
            index: 1,
            place,
            gateway: 7,
            class: Some(8),
            residual_db: -14.0,
            measured_dbm: -120.0,
            at_most: false,
            uplinks: 9,
        };
        let of = |cause| super::cause(&Worse { residual, cause }, "north-weir");
        assert!(of(Cause::Gateway(-6.0)).1.contains("north-weir hears is 6 dB weaker"));
        let (kind, words) = of(Cause::Cover(-9.0));
        assert!(kind == WorseCause::Cover && words.contains("from wood is 9 dB weaker"), "{words}");
        assert_eq!(of(Cause::Here).0, WorseCause::Here);
    }
}
