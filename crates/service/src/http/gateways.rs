//! Gateways and strangers.

use api::gateway::{self, Gateway, GatewayAbout, GatewayState, NewGateway, Stranger};
use api::problem::{Problem, bad_field};
use api::{BandUse, Page};
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use engine::{Command, GatewayStatus, Used};
use lorawan::Eui64;
use lorawan::region::SubBand;
use store::{GatewayRow, gateway_config};

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, Paging, Params, PathEui, page};
use crate::clock;

/// An account of airtime as it is shown.
pub fn band_uses(used: Vec<engine::BandUse>) -> Vec<BandUse> {
    used.into_iter()
        .map(|used| band_use(used.sub_band, Used { airtime_us: used.airtime_us, frames: used.frames }))
        .collect()
}

/// One sub-band of it.
pub fn band_use(band: &SubBand, used: Used) -> BandUse {
    let allowance_us = band.hourly_allowance_us();
    BandUse {
        sub_band: band.name.into(),
        from_mhz: f64::from(band.from_hz) / 1e6,
        to_mhz: f64::from(band.to_hz) / 1e6,
        airtime_ms: used.airtime_us as f64 / 1000.0,
        allowance_ms: allowance_us as f64 / 1000.0,
        used_percent: used.airtime_us as f64 * 100.0 / allowance_us as f64,
        frames: used.frames,
    }
}

fn show(app: &App, row: GatewayRow, status: Option<GatewayStatus>) -> Gateway {
    let known = app.presence.known(row.gateway.eui);
    let last_heard = known.as_ref().and_then(|k| k.last_heard).or(row.last_heard);
    Gateway {
        eui: row.gateway.eui,
        name: row.gateway.name,
        region: row.gateway.region,
        latitude_deg: row.gateway.latitude_deg,
        longitude_deg: row.gateway.longitude_deg,
        altitude_m: row.gateway.altitude_m,
        antenna_gain_dbi: row.gateway.antenna_gain_dbi,
        beacons: row.gateway.beacons,
        has_gps: status.as_ref().is_some_and(|s| s.has_gps),
        state: GatewayState::at(Utc::now(), last_heard),
        last_heard,
        address: known.as_ref().and_then(|k| k.address).map(|a| a.to_string()),
        frames: known.as_ref().map_or(0, |k| k.frames),
        report: known.and_then(|k| k.report),
        added_at: row.added_at,
        airtime: status.map(|s| band_uses(s.airtime)).unwrap_or_default(),
    }
}

/// An estate's gateways, by name.
#[utoipa::path(get, path = "/estates/{estate}/gateways", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path), Paging), responses((status = 200, body = Page<Gateway>)))]
pub async fn list_gateways(
    State(app): State<App>,
    estate: InEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Gateway>> {
    let limit = paging.limit()?;
    let rows = app.store.gateways(estate.id, paging.after(), limit + 1).await?;
    let mut status = app.network.gateways(rows.iter().map(|r| r.gateway.eui).collect()).await.into_iter();
    Ok(Json(page(rows, limit, |row| row.gateway.name.clone(), |row| show(&app, row, status.next().flatten()))))
}

/// Registers a gateway.
#[utoipa::path(post, path = "/estates/{estate}/gateways", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path)), request_body = NewGateway,
    responses((status = 200, body = Gateway), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_gateway(State(app): State<App>, estate: InEstate, Json(new): Json<NewGateway>) -> Answer<Gateway> {
    let mut gateway = new.check().map_err(|problem| offer_euis(&app, &new.eui, problem))?;
    if new.about.region.is_none()
        && let Some(heard_in) = app.presence.stranger(gateway.eui).and_then(|stranger| stranger.region)
    {
        gateway.region = heard_in;
    }
    let row = app.store.add_gateway(estate.id, &gateway).await?;
    let account = app.store.gateway_account(gateway.eui, clock::now()).await?;
    app.network.command(Command::PutGateway(gateway_config(&gateway))).await;
    for minute in account {
        app.network.command(minute).await;
    }
    app.presence.register(&row);
    Ok(Json(show(&app, row, None)))
}

/// Says which EUIs could be meant where a MAC address was entered, the one that calls here first.
fn offer_euis(app: &App, entered: &str, problem: Problem) -> Problem {
    if problem.field.as_deref() != Some("eui") {
        return problem;
    }
    let Some(mut meant) = gateway::meant_by_mac(entered) else { return problem };
    let calls = |eui: &Eui64| app.presence.stranger(*eui).is_some() || app.presence.known(*eui).is_some();
    meant.sort_by_key(|eui| !calls(eui));
    let [first, second] = meant;
    let seen = if calls(&first) { format!("; {first} calls here") } else { "; neither has called here yet".into() };
    let why = format!("12 hex digits are a MAC address. As an EUI that is {first} or {second}{seen}");
    Problem { offers: meant.map(|eui| eui.to_string()).into(), ..bad_field("eui", entered, why) }
}

/// One gateway.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = Gateway), (status = 404, body = Problem)))]
pub async fn show_gateway(State(app): State<App>, estate: InEstate, PathEui(eui): PathEui) -> Answer<Gateway> {
    let row = app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))?;
    let status = app.network.gateways(vec![eui]).await.pop().flatten();
    Ok(Json(show(&app, row, status)))
}

/// Changes what is told of a gateway: all of it. Its EUI stays.
#[utoipa::path(put, path = "/estates/{estate}/gateways/{eui}", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)), request_body = GatewayAbout,
    responses((status = 200, body = Gateway), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub async fn change_gateway(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    Json(about): Json<GatewayAbout>,
) -> Answer<Gateway> {
    let gateway = about.check(eui)?;
    let row = app.store.change_gateway(estate.id, &gateway).await?.ok_or_else(|| not_found("gateway", eui))?;
    app.network.command(Command::PutGateway(gateway_config(&gateway))).await;
    app.presence.change(&row);
    let status = app.network.gateways(vec![eui]).await.pop().flatten();
    Ok(Json(show(&app, row, status)))
}

/// Removes a gateway; its EUI can be used again.
#[utoipa::path(delete, path = "/estates/{estate}/gateways/{eui}", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_gateway(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    if !app.store.remove_gateway(estate.id, eui).await? {
        return Err(not_found("gateway", eui));
    }
    app.network.command(Command::RemoveGateway(eui)).await;
    app.presence.remove(eui);
    Ok(StatusCode::NO_CONTENT)
}

/// Gateways that call without being registered, since the service started. Their frames are not
/// accepted.
#[utoipa::path(get, path = "/estates/{estate}/strangers", tag = "gateways", security(("token" = [])),
    params(("estate" = String, Path)), responses((status = 200, body = Vec<Stranger>)))]
pub async fn list_strangers(State(app): State<App>, _estate: InEstate) -> Answer<Vec<Stranger>> {
    Ok(Json(app.presence.strangers()))
}
