//! A forecast held against the survey, or against another forecast.

use anyhow::Result;
use api::coverage::comparison::{ForecastComparison, SurveyComparison};
use api::coverage::forecast::Amount;

use crate::args::moment::Moment;
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn with_survey(
    client: &Client,
    out: &Out,
    (id, gateway, since): (&str, Option<String>, Moment),
) -> Result<()> {
    let mut query = vec![("since", since.since().to_rfc3339())];
    query.extend(gateway.map(|gateway| ("gateway", gateway)));
    let said: SurveyComparison = client.get(&format!("{}/survey", client.one("forecasts", id).await?), &query).await?;
    if out.json {
        return out.json(&said);
    }
    let Some((middle_db, spread_db)) = said.middle_db.zip(said.spread_db) else {
        return out.line("Nothing was measured where there is a forecast.");
    };
    out.line(format!(
        "Measured less forecast, in {} hexagons and gateways: {middle_db:+.1} dB in the middle, {spread_db:.1} dB around it.",
        said.compared
    ))?;
    if !said.gateways.is_empty() {
        out.line("")?;
        let rows = said.gateways.iter().map(|one| vec![one.gateway.clone(), format!("{:+.1} dB", one.middle_db)]);
        out.line(show::table(&["GATEWAY", "MIDDLE"], rows))?;
    }
    out.line("")?;
    if said.worse.is_empty() {
        return out.line("No place is 12 dB worse than forecast.");
    }
    let rows = said.worse.iter().map(|one| {
        let at = format!("{:.4},{:.4}", one.latitude_deg, one.longitude_deg);
        let than = if one.unheard { "at least " } else { "" };
        vec![at, one.gateway.clone(), format!("{than}{:.0} dB", -one.difference_db), one.words.clone()]
    });
    out.line(show::table(&["PLACE", "GATEWAY", "WORSE BY", "WHY THAT MAY BE"], rows))
}

pub(super) async fn with_other(client: &Client, out: &Out, (id, with): (&str, String)) -> Result<()> {
    let path = format!("{}/comparison", client.one("forecasts", id).await?);
    let said: ForecastComparison = client.get(&path, &[("with", with)]).await?;
    if out.json {
        return out.json(&said);
    }
    let amount = |one: Amount| format!("{:.1} km² and {} devices", one.area_km2, one.devices);
    out.line(format!("Only this one covers {}.", amount(said.gained)))?;
    out.line(format!("Only the other covers {}.", amount(said.lost)))?;
    out.line(format!("Both cover {}.", amount(said.both)))?;
    if let Some(middle_db) = said.middle_db {
        out.line(format!("Where both have a value, the margin of this one is {middle_db:+.1} dB in the middle."))?;
    }
    if said.parameters.is_empty() {
        return out.line("They were asked for in the same way.");
    }
    out.line("")?;
    let rows = said.parameters.iter().map(|one| vec![one.name.clone(), one.this.clone(), one.other.clone()]);
    out.line(show::table(&["PARAMETER", "THIS ONE", "THE OTHER"], rows))
}
