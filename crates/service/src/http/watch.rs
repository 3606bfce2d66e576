//! What needs attention.

use api::watch::Watch;
use axum::extract::State;
use chrono::Utc;
use store::DeviceQuery;

use super::App;
use super::error::Answer;
use super::extract::{InEstate, Json};
use super::gateway_access::endings;
use super::{devices, gateways};

/// Gateways and devices looked through in one go.
const ALL: u32 = 100_000;

/// What needs attention in an estate, worst first: gateways that are not there, credentials that end, devices that are
/// refused or silent.
#[utoipa::path(get, path = "/estates/{estate}/watch", tag = "service", security(("token" = [])),
    params(("estate" = String, Path)), responses((status = 200, body = Watch)))]
pub async fn show_watch(State(app): State<App>, estate: InEstate) -> Answer<Watch> {
    let gateways = gateways::shown(&app, app.store.gateways(estate.id, "", ALL).await?).await;
    let devices = app.store.devices(estate.id, &DeviceQuery::default(), ALL).await?;
    let devices: Vec<_> = devices.into_iter().map(devices::show).collect();
    let endings = endings(&app, &estate).await?;
    let strangers = app.presence.strangers().len();
    Ok(Json(Watch::new(&gateways, &devices, &endings, strangers, Utc::now())))
}
