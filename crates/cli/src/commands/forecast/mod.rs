//! `heron forecast`: coverage as the service computes and keeps it.

pub(crate) mod args;
mod compare;
mod export;
mod report;

use std::io::IsTerminal as _;
use std::time::Duration;

use anyhow::{Result, bail};
use api::coverage::forecast::{
    Amount, Forecast, ForecastState, HeardAmount, NewForecast, PlaceForecast, Ranking, SiteWorth,
};
use indicatif::{ProgressBar, ProgressStyle};

use crate::client::Client;
use crate::commands::forecast::args::{ForecastAddArgs, ForecastVerb, loads, path_model};
use crate::show::{self, Out};

/// How often it is asked how far a forecast has come.
const ASK_EVERY: Duration = Duration::from_millis(300);

fn sites(forecast: &Forecast) -> String {
    forecast.sites.iter().map(|site| site.name.as_str()).collect::<Vec<_>>().join(", ")
}

fn covered(forecast: &Forecast) -> String {
    let Some(figures) = &forecast.figures else { return String::new() };
    let Amount { area_km2, devices } = figures.covered;
    format!("{area_km2:.1} km², {devices} of {} devices", figures.computed.devices)
}

fn lines(forecast: &Forecast) -> Vec<(&'static str, String)> {
    let wanted = &forecast.wanted;
    let state = match forecast.state {
        ForecastState::Running => format!("running, {} %", forecast.percent),
        state => state.name().to_owned(),
    };
    let mut lines = vec![
        ("forecast", forecast.id.clone()),
        ("name", wanted.name.clone()),
        ("state", state),
        ("sites", format!("{}; {} of them known from before", sites(forecast), forecast.sites_reused)),
        ("receiver", format!("{}, {} m above the ground", wanted.receiver, forecast.receiver.height_m)),
        ("path model", wanted.model.label().into()),
        ("reliability", format!("{} % of places, {} dB of shadowing", wanted.reliability * 100.0, wanted.shadowing_db)),
        ("area", format!("{} m around each site, cells of {} m", wanted.radius_m, wanted.cell_m)),
        ("covered", covered(forecast)),
        ("begun", format!("{} by {}", show::moment(forecast.begun_at), forecast.begun_by)),
    ];
    if forecast.ground_changed {
        let told = "The files of the ground have changed since: make it again to see it on the present ground.";
        lines.push(("ground", told.into()));
    }
    if !forecast.note.is_empty() {
        lines.push(("note", forecast.note.clone()));
    }
    if let Some(calibration) = &forecast.calibration {
        let offset = format!("{}, {:+.1} dB", calibration.wanted.name, calibration.offset_db);
        lines.push(("calibration", offset));
    }
    lines.retain(|(_, value)| !value.is_empty());
    lines
}

/// The figures as tables.
fn figures(out: &Out, forecast: &Forecast) -> Result<()> {
    let Some(figures) = &forecast.figures else { return Ok(()) };
    let of = |amount: Amount| {
        let share = 100.0 * amount.area_km2 / figures.computed.area_km2.max(1e-9);
        vec![format!("{:.1} km²", amount.area_km2), format!("{share:.1} %"), amount.devices.to_string()]
    };
    let table = |first: &str, rows: Vec<(String, Amount)>| {
        let rows = rows.into_iter().map(|(name, amount)| [vec![name], of(amount)].concat());
        show::table(&[first, "AREA", "SHARE", "DEVICES"], rows)
    };
    let rates = figures.by_data_rate.iter().rev().map(|one| (format!("DR{}", one.data_rate), one.amount));
    let heard = figures.by_gateways.iter().map(|one| (one.gateways.to_string(), one.amount));
    let lost = figures.lost_with.iter().map(|one| (one.site.clone(), one.amount));
    for text in [
        table("BEST DATA RATE", rates.collect()),
        table("SITES THAT HEAR IT", heard.collect()),
        table("LOST WITHOUT", lost.collect()),
    ] {
        out.line("")?;
        out.line(text)?;
    }
    Ok(())
}

async fn at(client: &Client, out: &Out, path: &str, place: coverage::geo::Place) -> Result<()> {
    let query = [("latitude_deg", place.latitude_deg.to_string()), ("longitude_deg", place.longitude_deg.to_string())];
    let said: PlaceForecast = client.get(&format!("{path}/place"), &query).await?;
    if out.json {
        return out.json(&said);
    }
    if said.values.is_empty() {
        out.line("No site's losses reach there.")?;
    }
    for value in &said.values {
        let name = serde_json::to_value(value.layer)?.as_str().unwrap_or_default().replace('_', " ");
        out.line(format!("{name:<16}{}", value.words))?;
    }
    if said.links.is_empty() {
        return Ok(());
    }
    out.line("")?;
    let head = ["SITE", "DISTANCE", "LOSS", "RECEIVES", "SNR", "MARGIN", "BEST DR", "IN THE WAY"];
    let rows = said.links.iter().map(|link| {
        vec![
            link.site.clone(),
            format!("{:.2} km", link.distance_m / 1000.0),
            format!("{:.1} dB", link.loss_db),
            format!("{:.1} dBm", link.uplink_dbm),
            format!("{:.1} dB", link.uplink_snr_db),
            format!("{:.1} dB", link.margin_db),
            link.data_rate.map_or_else(|| "none".into(), |rate| format!("DR{rate}")),
            link.obstacle.clone(),
        ]
    });
    out.line(show::table(&head, rows))
}

/// What each site is worth.
async fn ranking(client: &Client, out: &Out, path: &str) -> Result<()> {
    let ranking: Ranking = client.get(&format!("{path}/ranking"), &[]).await?;
    if out.json {
        return out.json(&ranking);
    }
    let amount = |one: Amount| [format!("{:.1} km²", one.area_km2), one.devices.to_string()];
    let HeardAmount { once, twice } = ranking.heard;
    let base = if ranking.base.is_empty() { "No gateway".to_owned() } else { ranking.base.join(", ") };
    let heard = |one: Amount| format!("{:.1} km² and {} devices", one.area_km2, one.devices);
    out.line(format!("{base}: {} heard, {} by two or more.", heard(once), heard(twice)))?;
    let table = |first: &str, all: &[SiteWorth]| {
        let rows = all.iter().map(|one| {
            let numbers = [amount(one.more.once), amount(one.more.twice)].concat();
            std::iter::once(one.site.clone()).chain(numbers).collect()
        });
        show::table(&[first, "AREA", "DEVICES", "AREA BY TWO", "DEVICES BY TWO"], rows)
    };
    for (first, all) in [("WOULD ADD", &ranking.add), ("WITHOUT IT IS LOST", &ranking.remove)] {
        if !all.is_empty() {
            out.line("")?;
            out.line(table(first, all))?;
        }
    }
    Ok(())
}

async fn add(client: &Client, out: &Out, args: ForecastAddArgs) -> Result<()> {
    let wanted = NewForecast {
        name: args.name,
        sites: args.sites,
        receiver: args.receiver,
        model: path_model(args.model),
        time_percent: args.time,
        places_percent: args.places,
        region: args.region,
        frequency_mhz: args.frequency_mhz,
        reliability: args.reliability,
        shadowing_db: args.shadowing_db,
        payload_bytes: args.payload_bytes,
        interval_s: args.interval,
        radius_m: args.radius_m,
        cell_m: args.cell_m,
        load: loads(&args.load),
        calibration: args.calibration,
    };
    let mut forecast: Forecast = client.post(&client.in_estate("forecasts").await?, &wanted).await?;
    if !args.no_wait {
        forecast = wait(client, forecast).await?;
    }
    out.one(&forecast, lines)?;
    if !out.json {
        figures(out, &forecast)?;
    }
    if forecast.state == ForecastState::Failed {
        bail!("the forecast failed: {}", forecast.note);
    }
    Ok(())
}

/// Waits until a forecast has ended, and shows how far it has come.
async fn wait(client: &Client, mut forecast: Forecast) -> Result<Forecast> {
    let path = client.one("forecasts", &forecast.id).await?;
    let bar = if std::io::stderr().is_terminal() { ProgressBar::new(100) } else { ProgressBar::hidden() };
    bar.set_style(ProgressStyle::with_template("forecast {bar:40} {percent} % {msg}")?);
    while !forecast.state.has_ended() {
        tokio::time::sleep(ASK_EVERY).await;
        forecast = client.get(&path, &[]).await?;
        bar.set_position(u64::from(forecast.percent));
        bar.set_message(format!("{} of {} sites", forecast.sites_done, forecast.sites.len()));
    }
    bar.finish_and_clear();
    Ok(forecast)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: ForecastVerb, yes: bool) -> Result<()> {
    match verb {
        ForecastVerb::List(which) => {
            let all: Vec<Forecast> = client.all(&client.in_estate("forecasts").await?, &which.query()).await?;
            let none = "There is no forecast yet. Next: `heron forecast add`.";
            out.list(&all, none, &["FORECAST", "NAME", "STATE", "SITES", "RECEIVER", "COVERED", "BEGAN"], |one| {
                let (id, name) = (one.id.clone(), one.wanted.name.clone());
                let (state, receiver) = (one.state.name().into(), one.wanted.receiver.clone());
                vec![id, name, state, sites(one), receiver, covered(one), show::ago(Some(one.begun_at))]
            })
        }
        ForecastVerb::Show { id, at: place, next } => {
            let path = client.one("forecasts", &id).await?;
            if let Some(place) = place {
                return at(client, out, &path, place).await;
            }
            if next {
                return ranking(client, out, &path).await;
            }
            let forecast: Forecast = client.get(&path, &[]).await?;
            out.one(&forecast, lines)?;
            if out.json { Ok(()) } else { figures(out, &forecast) }
        }
        ForecastVerb::Add(args) => add(client, out, *args).await,
        ForecastVerb::Compare { id, with: None, gateway, since } => {
            compare::with_survey(client, out, (&id, gateway, since)).await
        }
        ForecastVerb::Compare { id, with: Some(with), .. } => compare::with_other(client, out, (&id, with)).await,
        ForecastVerb::Export { id, layer, frame, scale, output } => {
            let wanted = export::Wanted { layer, frame, scale };
            export::layer(client, (&id, &wanted), &output).await
        }
        ForecastVerb::Report { id, output } => report::write(client, &id, &output).await,
        ForecastVerb::Remove { id } => {
            let path = client.one("forecasts", &id).await?;
            let forecast: Forecast = client.get(&path, &[]).await?;
            let what = if forecast.state.has_ended() { "removed" } else { "stopped" };
            show::confirm(yes, &format!("The forecast {id} will be {what}."))?;
            client.delete(&path).await?;
            out.said(format!("{id} was {what}."))
        }
    }
}
