//! `heron coverage path`.

use anyhow::Result;
use coverage::geo::{Extent, Place};
use coverage::link::budget::{Budget, RateBudget};
use coverage::link::path::{Calibrated, Link, Method};
use coverage::model::obstacle::Obstacle;
use coverage::model::{Loss, Model};
use coverage::terrain::profile::Profile;
use serde::Serialize;

use crate::commands::coverage::args::PathArgs;
use crate::commands::coverage::picture::PictureForm;
use crate::commands::coverage::{drawing, ground, profile_picture};
use crate::save;
use crate::show::{self, Out};
use crate::terminal;

/// A computed path, for programs.
#[derive(Serialize)]
struct Answer<'a> {
    from: [f64; 2],
    to: [f64; 2],
    distance_m: f64,
    bearing_deg: f64,
    frequency_mhz: f64,
    model: &'a Model,
    loss: &'a Loss,
    budget: &'a Budget,
    obstacle: &'a Obstacle,
    blocked: bool,
}

pub(super) fn run(out: &Out, args: &PathArgs) -> Result<()> {
    let PathArgs { from, to, radio, .. } = args;
    let form = args.output.as_deref().map(PictureForm::of).transpose()?;
    let extent = Extent::around([*from, *to]).ok_or_else(|| anyhow::anyhow!("there is no path"))?;
    let terrain = ground::terrain(&args.ground, &extent)?;
    let frequency_mhz = radio.frequency_mhz();
    let model = args.model.model();
    let (station, terminal, judgement) = (radio.station()?, radio.terminal()?, radio.judgement()?);
    let rates = radio.rates();
    let method = Method {
        terrain: &terrain,
        model: &model,
        frequency_mhz,
        step_m: args.ground.step_m,
        rates: &rates,
        judgement: &judgement,
        calibrated: Calibrated::default(),
    };
    let link = Link::between(&method, (*from, &station), (*to, &terminal))?;
    let Link { profile, loss, budget, obstacle, .. } = &link;
    let path = link.path();
    if let (Some(file), Some(form)) = (&args.output, form) {
        let title = [headline(args, frequency_mhz, profile), obstacle.to_string()];
        let title = [format!("{} Loss {:.1} dB.", title[0], loss.total_db), title[1].clone()];
        save::bytes(file, &profile_picture::picture(&path, obstacle, title).bytes(form)?)?;
    }
    if out.json {
        let pair = |place: &Place| [place.latitude_deg, place.longitude_deg];
        return out.json(&Answer {
            from: pair(from),
            to: pair(to),
            distance_m: profile.length_m(),
            bearing_deg: link.bearing_deg,
            frequency_mhz,
            model: &model,
            loss,
            budget,
            obstacle,
            blocked: obstacle.blocks(),
        });
    }
    out.line(headline(args, frequency_mhz, profile))?;
    out.line("")?;
    for line in drawing::profile(&path, obstacle, terminal::width().unwrap_or(100)) {
        out.line(line)?;
    }
    out.line("")?;
    out.line(obstacle.to_string())?;
    out.line("")?;
    tell_loss(out, loss)?;
    tell_budget(out, budget)
}

/// What is computed, in a sentence.
fn headline(args: &PathArgs, frequency_mhz: f64, profile: &Profile) -> String {
    let PathArgs { from, to, radio, .. } = args;
    format!(
        "{from} to {to}: {:.2} km towards {:.0}°, {frequency_mhz} MHz, antennas {} m and {} m above the ground.",
        profile.length_m() / 1000.0,
        from.bearing_deg(*to),
        radio.gateway_height_m,
        radio.device_height_m
    )
}

fn tell_loss(out: &Out, loss: &Loss) -> Result<()> {
    for part in &loss.parts {
        let what = part.mechanism.label();
        out.line(format!("{what:<22}{:>8.1} dB", part.loss_db))?;
    }
    out.line(format!("{:<22}{:>8.1} dB", "loss", loss.total_db))
}

fn tell_budget(out: &Out, budget: &Budget) -> Result<()> {
    let heard = |dbm: f64, snr_db: f64| format!("{dbm:>8.1} dBm, SNR {snr_db:.1} dB");
    out.line(format!("{:<22}{}", "the gateway receives", heard(budget.uplink_dbm, budget.uplink_snr_db)))?;
    out.line(format!("{:<22}{}", "the device receives", heard(budget.downlink_dbm, budget.downlink_snr_db)))?;
    out.line(format!("{:<22}{:>8.1} dB, taken off the margins below", "kept for worse places", budget.fade_margin_db))?;
    out.line("")?;
    let head = ["DR", "MODULATION", "SENSITIVITY", "MARGIN", "WORKS AT", "AIRTIME", "DUTY CYCLE", "CHARGE"];
    let row = |rate: &RateBudget| {
        vec![
            rate.data_rate.to_string(),
            format!("SF{}/{} kHz", rate.spreading_factor.value(), rate.bandwidth_khz),
            format!("{:.1} dBm", rate.sensitivity_dbm),
            format!("{:.1} dB", rate.margin_db),
            format!("{:.1} % of places", rate.reliability * 100.0),
            format!("{:.1} ms", rate.airtime_ms),
            format!("{:.3} %", rate.duty_cycle * 100.0),
            format!("{:.1} µAh", rate.charge_uah),
        ]
    };
    out.line(show::table(&head, budget.rates.iter().map(row)))?;
    out.line("")?;
    out.line(match budget.best_data_rate {
        Some(data_rate) => format!("DR{data_rate} works with the margin kept."),
        None => "No data rate works with the margin kept.".to_owned(),
    })
}
