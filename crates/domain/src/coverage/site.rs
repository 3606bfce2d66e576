//! Sites and receivers: the allowed values of their radios, and the defaults.

use api::coverage::site::{AntennaAbout, ReceiverRadio, SiteRadio};
use api::device::place::Place as DevicePlace;
use api::problem::{FieldProblem, Problem, bad_field, bad_fields};
use coverage::link::antenna::{Antenna, AntennaError, AntennaTable};
use coverage::link::budget::{Station, Terminal};

use super::outside;

/// The defaults of a beam: its vertical width, and its front-to-back ratio.
const USUAL_BEAM_DEG: f64 = 30.0;
const USUAL_FRONT_TO_BACK_DB: f64 = 20.0;

/// The kinds of receiver that each estate has at first: a device in the open, and one behind an outer wall (about 15 dB at
/// 868 MHz, Recommendation ITU-R P.2109-1 §2, traditional buildings, median).
pub fn first_receivers() -> [(&'static str, ReceiverRadio); 2] {
    let outdoors = ReceiverRadio::default();
    [("outdoors", outdoors), ("indoors", ReceiverRadio { penetration_loss_db: 15.0, ..outdoors })]
}

/// A radio after a change: a value that is given replaces the value before.
pub fn changed(radio: &SiteRadio, change: &SiteRadio) -> SiteRadio {
    let antenna = match (&radio.antenna, &change.antenna) {
        (Some(own), Some(new)) => Some(changed_antenna(own, new)),
        (own, new) => new.clone().or_else(|| own.clone()),
    };
    SiteRadio {
        antenna,
        height_m: change.height_m.or(radio.height_m),
        power_dbm: change.power_dbm.or(radio.power_dbm),
        cable_loss_db: change.cable_loss_db.or(radio.cable_loss_db),
        noise_figure_db: change.noise_figure_db.or(radio.noise_figure_db),
    }
}

fn changed_antenna(own: &AntennaAbout, new: &AntennaAbout) -> AntennaAbout {
    let cut = |own: &[[f64; 2]], new: &[[f64; 2]]| if new.is_empty() { own.to_vec() } else { new.to_vec() };
    AntennaAbout {
        gain_dbi: new.gain_dbi.or(own.gain_dbi),
        azimuth_deg: new.azimuth_deg.or(own.azimuth_deg),
        tilt_deg: new.tilt_deg.or(own.tilt_deg),
        horizontal_beam_deg: new.horizontal_beam_deg.or(own.horizontal_beam_deg),
        vertical_beam_deg: new.vertical_beam_deg.or(own.vertical_beam_deg),
        front_to_back_db: new.front_to_back_db.or(own.front_to_back_db),
        horizontal_cut: cut(&own.horizontal_cut, &new.horizontal_cut),
        vertical_cut: cut(&own.vertical_cut, &new.vertical_cut),
    }
}

/// A radio with the defaults filled in.
pub fn whole(radio: &SiteRadio) -> SiteRadio {
    let usual = Station::default();
    let Antenna::Omni { gain_dbi, vertical_beam_deg } = usual.antenna else { return radio.clone() };
    let omni = AntennaAbout {
        gain_dbi: Some(gain_dbi),
        vertical_beam_deg: Some(vertical_beam_deg),
        ..AntennaAbout::default()
    };
    let antenna = radio.antenna.clone().unwrap_or(omni);
    let assumed = SiteRadio {
        antenna: Some(AntennaAbout { gain_dbi: antenna.gain_dbi.or(Some(gain_dbi)), ..antenna }),
        height_m: Some(usual.height_m),
        power_dbm: Some(usual.power_dbm),
        cable_loss_db: Some(usual.cable_loss_db),
        noise_figure_db: Some(usual.noise_figure_db),
    };
    let given = SiteRadio { antenna: None, ..radio.clone() };
    changed(&assumed, &given)
}

/// The radio to compute with.
///
/// # Errors
/// Names the field, its value and what is allowed.
pub fn station(radio: &SiteRadio) -> Result<Station, Problem> {
    let usual = Station::default();
    let radio = whole(radio);
    let station = Station {
        antenna: antenna(&radio.antenna.unwrap_or_default()).map_err(|problem| problem.inside("antenna"))?,
        height_m: radio.height_m.unwrap_or(usual.height_m),
        power_dbm: radio.power_dbm.unwrap_or(usual.power_dbm),
        cable_loss_db: radio.cable_loss_db.unwrap_or(usual.cable_loss_db),
        noise_figure_db: radio.noise_figure_db.unwrap_or(usual.noise_figure_db),
    };
    station.check().map_err(|why| of_antenna(&why))?;
    Ok(station)
}

/// An antenna to compute with.
///
/// # Errors
/// A part is missing or outside its range.
pub fn antenna(about: &AntennaAbout) -> Result<Antenna, Problem> {
    let gain_dbi = about.gain_dbi.unwrap_or_default();
    let tilt_deg = about.tilt_deg.unwrap_or_default();
    let cuts = [&about.horizontal_cut, &about.vertical_cut];
    if cuts.iter().any(|cut| !cut.is_empty()) {
        let [horizontal, vertical] = cuts.map(|cut| cut.iter().map(|&[angle, db]| (angle, db)).collect());
        let pointing = (gain_dbi, about.azimuth_deg.unwrap_or_default(), tilt_deg);
        return AntennaTable::new(pointing, horizontal, vertical).map(Antenna::Table).map_err(|why| of_antenna(&why));
    }
    let made = match (about.azimuth_deg, about.horizontal_beam_deg) {
        (Some(azimuth_deg), Some(horizontal_beam_deg)) => Antenna::Sector {
            gain_dbi,
            azimuth_deg,
            tilt_deg,
            horizontal_beam_deg,
            vertical_beam_deg: about.vertical_beam_deg.unwrap_or(USUAL_BEAM_DEG),
            front_to_back_db: about.front_to_back_db.unwrap_or(USUAL_FRONT_TO_BACK_DB),
        },
        (Some(_), None) => return Err(missing("horizontal_beam_deg")),
        (None, Some(_)) => return Err(missing("azimuth_deg")),
        (None, None) if about.tilt_deg.is_some() || about.front_to_back_db.is_some() => {
            return Err(missing("azimuth_deg"));
        }
        (None, None) => Antenna::Omni { gain_dbi, vertical_beam_deg: about.vertical_beam_deg.unwrap_or(180.0) },
    };
    made.check().map_err(|why| of_antenna(&why))?;
    Ok(made)
}

fn missing(field: &str) -> Problem {
    let detail = "it is missing; an antenna that points somewhere has azimuth_deg and horizontal_beam_deg".to_owned();
    bad_fields(vec![FieldProblem { field: field.to_owned(), detail }])
}

fn of_antenna(why: &AntennaError) -> Problem {
    let cut_field = |cut: &str| format!("{cut}_cut");
    match why {
        AntennaError::Range(why) => outside(why),
        AntennaError::Count { cut, .. } | AntennaError::Gap { cut, .. } | AntennaError::Twice { cut, .. } => {
            bad_field(&cut_field(cut), "these angles", why)
        }
    }
}

/// The radio of a device at its place, with this power. Defaults are those of the first kinds of receiver.
pub fn at_place(place: Option<DevicePlace>, power_dbm: f64) -> ReceiverRadio {
    let [(_, outdoors), (_, indoors)] = first_receivers();
    let place = place.unwrap_or_default();
    let usual = if place.indoor == Some(true) { indoors } else { outdoors };
    ReceiverRadio {
        height_m: place.height_m.unwrap_or(usual.height_m).max(0.0),
        gain_dbi: place.antenna_gain_dbi.unwrap_or(usual.gain_dbi),
        penetration_loss_db: place.penetration_loss_db.unwrap_or(usual.penetration_loss_db),
        power_dbm,
        ..usual
    }
}

/// A receiver to compute with.
///
/// # Errors
/// Names the field, its value and what is allowed.
pub fn terminal(radio: &ReceiverRadio) -> Result<Terminal, Problem> {
    let terminal = Terminal {
        gain_dbi: radio.gain_dbi,
        height_m: radio.height_m,
        power_dbm: radio.power_dbm,
        penetration_loss_db: radio.penetration_loss_db,
        noise_figure_db: radio.noise_figure_db,
        ..Terminal::default()
    };
    terminal.check().map_err(|why| outside(&why))?;
    Ok(terminal)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn beam(azimuth_deg: f64) -> AntennaAbout {
        AntennaAbout {
            gain_dbi: Some(8.0),
            azimuth_deg: Some(azimuth_deg),
            horizontal_beam_deg: Some(65.0),
            ..AntennaAbout::default()
        }
    }

    #[test]
    fn what_is_not_said_is_assumed_and_what_is_changed_is_only_that() {
        let usual = station(&SiteRadio::default()).unwrap();
        assert_eq!(usual, Station::default());
        assert_eq!(station(&whole(&SiteRadio::default())).unwrap(), usual, "told in full it is the same");
        let mast = SiteRadio { antenna: Some(beam(140.0)), height_m: Some(30.0), ..SiteRadio::default() };
        let tilt = AntennaAbout { tilt_deg: Some(4.0), ..AntennaAbout::default() };
        let change = SiteRadio { antenna: Some(tilt), cable_loss_db: Some(2.5), ..SiteRadio::default() };
        let after = station(&changed(&mast, &change)).unwrap();
        assert_eq!((after.height_m, after.cable_loss_db), (30.0, 2.5));
        assert!(matches!(after.antenna, Antenna::Sector { azimuth_deg: 140.0, tilt_deg: 4.0, gain_dbi: 8.0, .. }));
    }

    #[test]
    fn a_devices_radio_follows_its_place() {
        let cellar = DevicePlace {
            height_m: Some(-2.0),
            indoor: Some(true),
            antenna_gain_dbi: Some(-1.5),
            ..DevicePlace::default()
        };
        let radio = at_place(Some(cellar), 10.0);
        assert_eq!(
            (radio.height_m, radio.gain_dbi, radio.penetration_loss_db, radio.power_dbm),
            (0.0, -1.5, 15.0, 10.0)
        );
        let lid = DevicePlace { penetration_loss_db: Some(8.0), ..cellar };
        assert_eq!(at_place(Some(lid), 14.0).penetration_loss_db, 8.0);
        assert_eq!(at_place(None, 14.0), ReceiverRadio::default());
    }

    #[test]
    fn a_radio_that_cannot_be_names_its_field() {
        let why = |radio: SiteRadio| {
            let problem = station(&radio).unwrap_err();
            format!("{}: {}", problem.field.unwrap(), problem.detail.unwrap())
        };
        let of = |antenna| SiteRadio { antenna: Some(antenna), ..SiteRadio::default() };
        let high = SiteRadio { height_m: Some(4_000.0), ..SiteRadio::default() };
        assert_eq!(why(high), "height_m: \"4000\" was given; 0.5 to 1000 m is allowed");
        assert!(
            why(of(AntennaAbout { horizontal_beam_deg: None, ..beam(10.0) })).starts_with("antenna.horizontal_beam")
        );
        assert!(why(of(AntennaAbout { tilt_deg: Some(3.0), ..AntennaAbout::default() })).contains("azimuth_deg"));
        assert!(why(of(beam(700.0))).starts_with("antenna.azimuth_deg: \"700\""));
        let cut = AntennaAbout { horizontal_cut: vec![[0.0, 0.0]], ..AntennaAbout::default() };
        assert!(why(of(cut)).starts_with("antenna.horizontal_cut"));
        let deep = ReceiverRadio { penetration_loss_db: 90.0, ..ReceiverRadio::default() };
        assert_eq!(terminal(&deep).unwrap_err().field.as_deref(), Some("penetration_loss_db"));
        assert!(first_receivers().iter().all(|(_, radio)| terminal(radio).is_ok()));
    }
}
