//! Firmware for gateways, and which gateway gets which.

use api::Page;
use api::gateway::firmware::{Firmware, HandFirmware, NewFirmware};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;

use crate::gateways::firmware;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, PathName, WholeEstate};
use crate::http::gateways::access::{asks_over_cups, registered, tell};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;

/// Firmware for gateways, newest first.
#[utoipa::path(get, path = "/estates/{estate}/gateway-firmware", tag = "gateways",
    extensions(("x-right" = json!("view"))), params(Choice, Paging), responses((status = 200, body = Page<Firmware>)))]
pub(crate) async fn list_firmware(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Firmware>> {
    let all = app.store.firmware(estate.id).await?.into_iter().map(|row| row.firmware).collect();
    Ok(Json(choice.page_of(all, &paging, |one: &Firmware| one.id.clone())?))
}

/// A firmware takes a third more in base64.
pub(crate) const MAX_BODY: usize = domain::gateway::firmware::LARGEST / 3 * 4 + (1 << 16);

/// Adds a firmware for gateways, after its signature is checked.
#[utoipa::path(post, path = "/estates/{estate}/gateway-firmware", tag = "gateways",
    extensions(("x-right" = json!("gateways")), ("x-max-body-bytes" = json!(MAX_BODY))), request_body = NewFirmware,
    responses((status = 201, body = Firmware), (status = 422, body = Problem)))]
pub(crate) async fn add_firmware(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewFirmware>,
) -> Made<Firmware> {
    // Hashing 64 MB takes a while.
    let checked = tokio::task::spawn_blocking(move || firmware::check(&new)).await;
    let (row, bytes) = checked.map_err(|_| lost())??;
    app.gateway_services.firmware.keep(&row.firmware.id, bytes).await.map_err(|error| {
        tracing::error!("a firmware could not be written: {error:#}");
        lost()
    })?;
    app.store.add_firmware(estate.id, &row).await?;
    Ok(Created { at: estate.path(format_args!("gateway-firmware/{}", row.firmware.id)), made: row.firmware })
}

/// One firmware for gateways.
#[utoipa::path(get, path = "/estates/{estate}/gateway-firmware/{id}", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("id" = String, Path)),
    responses((status = 200, body = Firmware), (status = 404, body = Problem)))]
pub(crate) async fn show_firmware(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Answer<Firmware> {
    let all = app.store.firmware(estate.id).await?.into_iter();
    let found = all.map(|row| row.firmware).find(|firmware| firmware.id == id);
    found.map(Json).ok_or_else(|| not_found("firmware", id))
}

fn lost() -> Refusal {
    Refusal(Problem::new(500, "not_kept", "The firmware could not be kept; the service's log says why"))
}

/// Removes a firmware; no gateway gets it any more.
#[utoipa::path(delete, path = "/estates/{estate}/gateway-firmware/{id}", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_firmware(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    if !app.store.remove_firmware(estate.id, &id).await? {
        return Err(not_found("firmware", id));
    }
    app.gateway_services.firmware.throw_away(&id).await;
    Ok(StatusCode::NO_CONTENT)
}

/// Sets the firmware that a gateway gets, once, when it next asks for updates; or none.
#[utoipa::path(put, path = "/estates/{estate}/gateways/{eui}/firmware", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)), request_body = HandFirmware,
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn hand_firmware(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(hand): Json<HandFirmware>,
) -> Result<StatusCode, Refusal> {
    registered(&app, &estate, eui).await?;
    let mut text = "It is not to be handed a firmware any more.".to_owned();
    if let Some(id) = &hand.firmware {
        let all = app.store.firmware(estate.id).await?;
        let found = all.iter().find(|row| row.firmware.id == *id);
        let Some(row) = found else { return Err(bad_field("firmware", id, "it is none of those kept").into()) };
        if !asks_over_cups(&app.gateway_services.credentials.of(eui)) {
            let problem = Problem::new(409, "no_updates", "This gateway cannot fetch a firmware")
                .detail("it has no valid credential for updates; make it a connection kit with updates");
            return Err(problem.into());
        }
        text = format!("It is to be handed firmware {:?} when it next asks for updates.", row.firmware.name);
    }
    app.store.hand_firmware(eui, hand.firmware.as_deref()).await?;
    tell(&app, eui, text);
    Ok(StatusCode::NO_CONTENT)
}
