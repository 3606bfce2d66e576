//! `heron calibration`: what the survey shows of a path model.

use anyhow::Result;
use api::coverage::calibration::{Calibration, ForecastErrors, NewCalibration};
use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::args::ListArgs;
use crate::args::moment::Moment;
use crate::client::Client;
use crate::commands::coverage::args::ModelWord;
use crate::commands::forecast::args::path_model;
use crate::complete;
use crate::show::{self, Out};

#[derive(Subcommand)]
pub(crate) enum CalibrationVerb {
    /// List calibrations.
    List(ListArgs),
    /// Show one: what the model is off by, and its errors before and after.
    Show {
        /// Its name.
        #[arg(add = complete::calibrations())]
        name: String,
    },
    /// Calibrate a path model on the survey. `heron forecast add --calibration NAME` takes it into account.
    Add(Box<CalibrationAddArgs>),
    /// Remove one. Forecasts that used it stay as they are.
    Remove {
        /// Its name.
        #[arg(add = complete::calibrations())]
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct CalibrationAddArgs {
    /// Its name.
    name: String,
    /// The model.
    #[arg(long = "path-model", value_enum, default_value = "p1812")]
    model: ModelWord,
    /// The region, whose first frequency counts.
    #[arg(long, default_value = "EU868")]
    region: Region,
    /// For this share of the time its losses are no greater, in percent, 1 to 99; of models that know it.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    time: f64,
    /// At this share of places its losses are no greater, in percent, 1 to 99; of models that know it.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    places: f64,
    /// From when on: RFC 3339, a date, or how long ago (7d).
    #[arg(long, value_name = "TIME")]
    since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME")]
    until: Option<Moment>,
}

fn errors(errors: ForecastErrors) -> String {
    let ForecastErrors { middle_db, spread_db, nine_of_ten_db } = errors;
    format!("{middle_db:+.1} dB in the middle, {spread_db:.1} dB around it; nine of ten within {nine_of_ten_db:.1} dB")
}

fn lines(one: &Calibration) -> Vec<(&'static str, String)> {
    vec![
        ("calibration", one.wanted.name.clone()),
        ("path model", one.wanted.model.label().into()),
        ("stands on", format!("{} places and gateways, {} of them unheard", one.points, one.unheard)),
        ("offset", format!("{:+.1} dB", one.offset_db)),
        ("errors before", errors(one.before)),
        ("errors after", format!("{}, at places held out", errors(one.after))),
        ("made", format!("{} by {}", show::moment(one.made_at), one.made_by)),
    ]
}

fn corrections(out: &Out, one: &Calibration) -> Result<()> {
    let row = |name: &str, offset_db: f64, points: u32| {
        vec![name.to_owned(), format!("{offset_db:+.1} dB"), points.to_string()]
    };
    let gateways = one.by_gateway.iter().map(|by| row(&by.gateway, by.offset_db, by.points));
    let classes = one.by_class.iter().map(|by| row(&by.name, by.offset_db, by.points));
    for (first, rows) in [("GATEWAY", gateways.collect::<Vec<_>>()), ("COVER", classes.collect())] {
        if !rows.is_empty() {
            out.line("")?;
            out.line(show::table(&[first, "BEYOND THAT", "PLACES"], rows.into_iter()))?;
        }
    }
    Ok(())
}

fn shown(out: &Out, one: &Calibration) -> Result<()> {
    out.one(one, lines)?;
    if out.json { Ok(()) } else { corrections(out, one) }
}

pub(crate) async fn run(client: &Client, out: &Out, verb: CalibrationVerb, yes: bool) -> Result<()> {
    match verb {
        CalibrationVerb::List(which) => {
            let all: Vec<Calibration> = client.all(&client.in_estate("calibrations").await?, &which.query()).await?;
            let none = "There is no calibration yet. Next: `heron calibration add NAME`.";
            out.list(&all, none, &["CALIBRATION", "PATH MODEL", "PLACES", "OFFSET", "BEFORE", "AFTER"], |one| {
                let spread = |errors: ForecastErrors| format!("±{:.1} dB", errors.spread_db);
                vec![
                    one.wanted.name.clone(),
                    one.wanted.model.label().into(),
                    one.points.to_string(),
                    format!("{:+.1} dB", one.offset_db),
                    spread(one.before),
                    spread(one.after),
                ]
            })
        }
        CalibrationVerb::Show { name } => {
            shown(out, &client.get(&client.one("calibrations", &name).await?, &[]).await?)
        }
        CalibrationVerb::Add(args) => {
            let wanted = NewCalibration {
                name: args.name,
                model: path_model(args.model),
                region: args.region,
                time_percent: args.time,
                places_percent: args.places,
                since: args.since.map(Moment::since),
                until: args.until.map(Moment::until),
            };
            shown(out, &client.post(&client.in_estate("calibrations").await?, &wanted).await?)
        }
        CalibrationVerb::Remove { name } => {
            show::confirm(
                yes,
                &format!("The calibration {name} will be removed. Forecasts that used it stay as they are."),
            )?;
            client.delete(&client.one("calibrations", &name).await?).await?;
            out.said(format!("{name} was removed."))
        }
    }
}
