//! `heron survey`: coverage as the network's own uplinks tell it.

pub(crate) mod args;
mod file;

use std::path::Path;

use anyhow::{Context as _, Result, ensure};
use api::coverage::survey::{
    NewSurveyImport, SignalChange, SignalHistory, Survey, SurveyArea, SurveyHexagons, SurveyImport, SurveyImportEffect,
    SurveyPlace, SurveyQuantity,
};
use coverage::geo::Place;

use crate::client::Client;
use crate::commands::survey::args::{FilterArgs, SurveyVerb};
use crate::show::{self, Out};

fn lines(survey: &Survey) -> Vec<(&'static str, String)> {
    let sent = (survey.uplinks + survey.lost).max(1) as f64;
    let lost = format!("{}, {:.1} % of what was sent", survey.lost, 100.0 * survey.lost as f64 / sent);
    let mut lines = vec![
        ("uplinks", survey.uplinks.to_string()),
        ("lost", lost),
        ("with a place", survey.placed.to_string()),
        ("devices", survey.devices.to_string()),
    ];
    if let Some((from, until)) = survey.from.zip(survey.until) {
        lines.push(("from", show::moment(from)));
        lines.push(("until", show::moment(until)));
    }
    if survey.cut {
        lines.push(("note", "Older uplinks are not counted: the latest million is.".into()));
    }
    lines.extend(survey.refused.iter().map(|left| ("left out", format!("{} uplinks: {}", left.count, left.reason))));
    lines
}

async fn figures(client: &Client, out: &Out, filter: &FilterArgs) -> Result<()> {
    let survey: Survey = client.get(&client.in_estate("survey").await?, &filter.query()).await?;
    out.one(&survey, lines)?;
    if out.json || survey.gateways.is_empty() {
        return Ok(());
    }
    out.line("")?;
    let rows = survey.gateways.iter().map(|one| {
        let noise = one.noise_dbm.map_or_else(|| "–".into(), |dbm| format!("{dbm:.1} dBm"));
        let above = one.noise_above_db.map_or_else(|| "–".into(), |db| format!("{db:+.1} dB"));
        vec![one.gateway.clone(), one.heard.to_string(), one.devices.to_string(), noise, above]
    });
    out.line(show::table(&["GATEWAY", "HEARD", "DEVICES", "NOISE", "ABOVE A GOOD RECEIVER'S"], rows))
}

async fn at(client: &Client, out: &Out, filter: &FilterArgs, place: Place) -> Result<()> {
    let mut query = filter.query();
    query.push(("latitude_deg", place.latitude_deg.to_string()));
    query.push(("longitude_deg", place.longitude_deg.to_string()));
    let said: SurveyPlace = client.get(&client.in_estate("survey/place").await?, &query).await?;
    if out.json {
        return out.json(&said);
    }
    if said.values.is_empty() {
        return out.line("Nothing was measured within some 200 m.");
    }
    for one in &said.values {
        let spread = one.hexagon.spread.filter(|spread| *spread > 0.0).map(|spread| format!(", spread {spread:.0}"));
        out.line(format!("{:<48}{}{}", one.title, one.hexagon.words, spread.unwrap_or_default()))?;
    }
    out.line(format!("{:<48}{}", "devices", said.devices.join(", ")))?;
    out.line("")?;
    let rows = said.gateways.iter().map(|one| {
        let value = |value: Option<f64>, unit: &str| value.map_or_else(|| "–".into(), |v| format!("{v:.0} {unit}"));
        let heard = format!("{} of {}", one.heard, one.heard + one.unheard);
        vec![one.gateway.clone(), value(one.rssi_dbm, "dBm"), value(one.snr_db, "dB"), heard]
    });
    out.line(show::table(&["GATEWAY", "RSSI", "SNR", "HEARD"], rows))
}

async fn areas(client: &Client, out: &Out, filter: &FilterArgs) -> Result<()> {
    let all: Vec<SurveyArea> = client.all(&client.in_estate("survey/areas").await?, &filter.query()).await?;
    let head = ["AREA", "PLACE", "SIZE", "UPLINKS", "LOST", "MARGIN", "BEST", "DEVICES", "WHAT TO DO"];
    out.list(&all, "No weak or dark area was found.", &head, |one| {
        vec![
            one.kind.label().into(),
            format!("{:.4},{:.4}", one.latitude_deg, one.longitude_deg),
            format!("{:.2} km²", one.area_km2),
            one.uplinks.to_string(),
            one.lost.to_string(),
            one.margin_db.map_or_else(|| "–".into(), |db| format!("{db:.0} dB")),
            one.best_gateway.clone().unwrap_or_else(|| "–".into()),
            named(&one.devices),
            one.next_step.clone(),
        ]
    })
}

/// A few names, and how many more there are.
fn named(all: &[String]) -> String {
    let more = all.len().saturating_sub(3);
    let first = all.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}

async fn changes(client: &Client, out: &Out, query: &[(&'static str, String)]) -> Result<()> {
    let all: Vec<SignalChange> = client.all(&client.in_estate("survey/changes").await?, query).await?;
    out.list(&all, "No signal has changed for good.", &["SINCE", "WHOSE", "CHANGE", "LINKS", "WHAT"], |one| {
        let links = format!("{} of {}", one.links, one.of);
        let what = format!("{} {}", one.what, one.next_step);
        vec![show::day(one.since), one.name.clone(), format!("{:+.1} dB", one.change_db), links, what]
    })?;
    let weaker = all.iter().filter(|one| one.change_db < 0.0).count();
    ensure!(weaker == 0, "{weaker} of {} changes are for the worse", all.len());
    Ok(())
}

async fn signal(client: &Client, out: &Out, device: &str, gateway: &str) -> Result<()> {
    let query = [("device", device.to_owned()), ("gateway", gateway.to_owned())];
    let said: SignalHistory = client.get(&client.in_estate("survey/signal").await?, &query).await?;
    if out.json {
        return out.json(&said);
    }
    if said.points.is_empty() {
        return out.line(format!("{} was not heard by {}.", said.device, said.gateway));
    }
    let uplinks: u32 = said.points.iter().map(|point| point.uplinks).sum();
    let lowest = said.points.iter().map(|point| point.level_db).fold(f64::INFINITY, f64::min);
    let highest = said.points.iter().map(|point| point.level_db).fold(f64::NEG_INFINITY, f64::max);
    let hours = said.points.len();
    out.line(format!(
        "{} at {}: {uplinks} uplinks in {hours} hours, {:.0} to {:.0} dB below what was transmitted.",
        said.device, said.gateway, -highest, -lowest
    ))?;
    if said.steps.is_empty() {
        return out.line("No step of 3 dB or more that stayed.");
    }
    let rows = said.steps.iter().map(|step| {
        let change = step.after_db - step.before_db;
        vec![
            show::moment(step.at),
            format!("{:.1} dB", step.before_db),
            format!("{:.1} dB", step.after_db),
            format!("{change:+.1} dB"),
        ]
    });
    out.line(show::table(&["SINCE", "BEFORE", "AFTER", "CHANGE"], rows))
}

fn import_lines(import: &SurveyImport) -> Vec<(&'static str, String)> {
    let mut lines = vec![
        ("drive test", import.name.clone()),
        ("region", import.region.to_string()),
        ("uplinks", format!("{}, of which {} were heard", import.uplinks, import.heard)),
    ];
    if let Some((from, until)) = import.from.zip(import.until) {
        lines.push(("from", show::moment(from)));
        lines.push(("until", show::moment(until)));
    }
    lines
}

async fn import(client: &Client, out: &Out, path: &Path, new: NewSurveyImport) -> Result<()> {
    let bytes = std::fs::read(path).with_context(|| path.display().to_string())?;
    let decoded = domain::csv::text_of(&bytes)?;
    let new = NewSurveyImport { csv: decoded.text, ..new };
    let effect: SurveyImportEffect = client.post(&client.in_estate("survey/imports").await?, &new).await?;
    if out.json {
        return out.json(&effect);
    }
    out.one(&effect.import, import_lines)?;
    if !effect.passed_over.is_empty() {
        out.line("")?;
        out.line(format!("Columns that were passed over: {}.", effect.passed_over.join(", ")))?;
    }
    if effect.left_out > 0 {
        out.line("")?;
        out.line(format!("{} rows are left out:", effect.left_out))?;
        for one in &effect.wrong {
            out.line(format!("  line {}: {}", one.line, one.problem))?;
        }
    }
    out.said(if effect.done { "It was imported." } else { "Nothing was imported: this is what would be." })
}

async fn export(client: &Client, query: Vec<(&'static str, String)>, path: &Path) -> Result<()> {
    file::is_known(path)?;
    let all: SurveyHexagons = client.get(&client.in_estate("survey/hexagons").await?, &query).await?;
    file::write(path, &all)
}

fn word(quantity: SurveyQuantity) -> Result<String> {
    Ok(serde_json::to_value(quantity)?.as_str().unwrap_or_default().to_owned())
}

pub(crate) async fn run(client: &Client, out: &Out, verb: SurveyVerb, yes: bool) -> Result<()> {
    match verb {
        SurveyVerb::Show { filter, at: None } => figures(client, out, &filter).await,
        SurveyVerb::Show { filter, at: Some(place) } => at(client, out, &filter, place).await,
        SurveyVerb::Areas(filter) => areas(client, out, &filter).await,
        SurveyVerb::Changes(which) => changes(client, out, &which.query()).await,
        SurveyVerb::Signal { device, gateway } => signal(client, out, &device, &gateway).await,
        SurveyVerb::Export { filter, quantity, resolution, output } => {
            let mut query = filter.query();
            query.push(("quantity", word(quantity.into())?));
            query.push(("resolution", resolution.to_string()));
            export(client, query, &output).await
        }
        SurveyVerb::Import { file, name, columns, region, check } => {
            let stem = || file.file_stem().and_then(|stem| stem.to_str()).unwrap_or("drive test").to_owned();
            let columns = columns.into_iter().map(|(ours, theirs)| (theirs, ours)).collect();
            let name = name.unwrap_or_else(stem);
            let new = NewSurveyImport { name, region, columns, csv: String::new(), preview: check };
            import(client, out, &file, new).await
        }
        SurveyVerb::Imports(which) => {
            let all: Vec<SurveyImport> = client.all(&client.in_estate("survey/imports").await?, &which.query()).await?;
            let none = "No drive test was imported yet. Next: `heron survey import FILE`.";
            out.list(&all, none, &["DRIVE TEST", "UPLINKS", "HEARD", "FROM", "IMPORTED BY"], |one| {
                let from = one.from.map_or_else(|| "–".into(), show::moment);
                vec![one.name.clone(), one.uplinks.to_string(), one.heard.to_string(), from, one.imported_by.clone()]
            })
        }
        SurveyVerb::Remove { name } => {
            show::confirm(yes, &format!("The measurements of the drive test {name} will be removed from the survey."))?;
            client.delete(&client.one("survey/imports", &name).await?).await?;
            out.said(format!("{name} was removed."))
        }
    }
}
