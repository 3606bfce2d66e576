//! What needs attention.

use api::message::DeviceRef;
use api::watch::{DecodeFailures, Decoding, Watch};
use axum::extract::State;
use chrono::Utc;
use store::DeviceQuery;

use super::App;
use super::error::{Answer, Refusal};
use super::extract::{InEstate, Json};
use super::gateway_access::endings;
use super::{devices, gateways};

/// Gateways and devices looked through in one go.
const ALL: u32 = 100_000;

/// What needs attention in an estate, worst first: gateways that are not there, credentials that end, devices that are
/// refused or silent, decoders that fail, and readings that look wrong.
#[utoipa::path(get, path = "/estates/{estate}/watch", tag = "service", security(("token" = [])),
    params(("estate" = String, Path)), responses((status = 200, body = Watch)))]
pub async fn show_watch(State(app): State<App>, estate: InEstate) -> Answer<Watch> {
    let gateways = gateways::shown(&app, app.store.gateways(estate.id, "", ALL).await?).await;
    let devices = app.store.devices(estate.id, &DeviceQuery::default(), ALL).await?;
    let devices: Vec<_> = devices.into_iter().map(devices::show).collect();
    let endings = endings(&app, &estate).await?;
    let strangers = app.presence.strangers().len();
    let (failures, doubts) = (failures_in(&app, &estate).await?, app.doubts.of(estate.id));
    let decoding = Decoding { failures: &failures, doubts: &doubts };
    Ok(Json(Watch::new(&gateways, &devices, &endings, decoding, strangers, Utc::now())))
}

async fn failures_in(app: &App, estate: &InEstate) -> Result<Vec<DecodeFailures>, Refusal> {
    let rows = app.store.decode_failures(estate.id).await?;
    let told = rows.into_iter().map(|row| DecodeFailures {
        device: DeviceRef { eui: row.dev_eui, name: row.device, model: Some(row.model.clone()) },
        model: row.model,
        failures: row.failures,
        first_message: row.first_message,
        first_at: row.first_at,
        last_at: row.last_at,
        why: row.why,
    });
    Ok(told.collect())
}

/// Uplinks that decoders could not read since their models were last changed, by device; those with the most first.
#[utoipa::path(get, path = "/estates/{estate}/decode-failures", tag = "decoders", security(("token" = [])),
    params(("estate" = String, Path)), responses((status = 200, body = Vec<DecodeFailures>)))]
pub async fn list_decode_failures(State(app): State<App>, estate: InEstate) -> Answer<Vec<DecodeFailures>> {
    failures_in(&app, &estate).await.map(Json)
}
