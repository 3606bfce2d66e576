//! Links between devices and gateways: forecast beside what was measured, and what they come to.

use std::sync::Arc;

use api::Page;
use api::coverage::forecast::{NewForecast, PathModel};
use api::coverage::link::{AssignBy, DeviceCoverage, DeviceLink};
use api::coverage::site::Site;
use api::problem::Problem;
use axum::extract::State;
use coverage::link::path::{Calibrated, Method};
use domain::coverage::forecast::{check, first_frequency_mhz, rates};
use domain::coverage::site::{at_place, terminal};
use domain::coverage::verdict::assign;
use engine::DeviceStatus;
use lorawan::Eui64;
use rayon::iter::{IntoParallelIterator as _, ParallelIterator as _};
use serde::Deserialize;
use store::{DeviceCursor, DeviceQuery, DeviceRow, EstateId, MessageQuery, Named as Kind};

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, WholeEstate, page};
use crate::http::json::{Answer, Json};
use crate::http::models::scripts::blocking;
use crate::planning::links::{GatewaySite, Heard, Named, Power, of_device};
use crate::planning::losses::STEP_M;
use crate::planning::sites::{all, placed};

/// Uplinks of a device that are looked at.
const LOOKED_AT: u32 = 48;

/// Which devices, and how their links are computed.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct WhichDevices {
    /// Only devices of this fleet.
    fleet: Option<String>,
    /// Only devices of this model.
    model: Option<String>,
    /// Only devices with this tag.
    tag: Option<String>,
    /// Only this device, by name or DevEUI.
    device: Option<String>,
    /// How the loss of a path is computed; by ITU-R P.1812 if not given.
    #[param(inline)]
    path_model: Option<PathModel>,
}

/// Which of their links.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct WhichLinks {
    /// Only links to this gateway, by name or EUI.
    gateway: Option<String>,
    /// By what a gateway is assigned; by the forecast if not given.
    #[param(inline)]
    by: Option<AssignBy>,
}

/// A device's links and what they come to.
type Found = (Vec<DeviceLink>, DeviceCoverage);

/// The gateways of an estate that have a place. One whose radio cannot be computed is left out, so that it costs no other its
/// links.
pub(super) async fn gateways(app: &App, estate: EstateId) -> Result<Vec<GatewaySite>, Refusal> {
    let gateway = |site: &Site| Some(GatewaySite { eui: site.gateway?, site: placed(site).ok()? });
    Ok(all(&app.store, estate).await?.iter().filter_map(gateway).collect())
}

/// The links of devices with all gateways of the estate that have a place.
async fn compute(
    app: &App,
    estate: &WholeEstate,
    rows: Vec<DeviceRow>,
    path_model: PathModel,
) -> Result<Vec<Found>, Refusal> {
    let gateways = gateways(app, estate.id).await?;
    let mut work: Vec<(DeviceRow, Power, Heard)> = Vec::with_capacity(rows.len());
    for row in rows {
        let which = MessageQuery { device: Some(row.dev_eui), kinds: vec!["uplink".into()], ..MessageQuery::default() };
        let heard = Heard::of(&app.store.messages(estate.id, &which, LOOKED_AT).await?);
        let power = power(&row, app.network.device(row.dev_eui).await.as_ref());
        work.push((row, power, heard));
    }
    let named = if estate.is_seen_whole() { Named::All } else { Named::OnlyThoseThatHear };
    let computed = check(&NewForecast { model: path_model, ..NewForecast::default() })?;
    let (forecaster, ground) = (Arc::clone(&app.forecaster), app.grounds.of(estate.id).await?);
    let all = move || -> Vec<Found> {
        let one = |(row, power, heard): (DeviceRow, Power, Heard)| {
            let rates = rates(row.region);
            let method = Method {
                terrain: ground.terrain(),
                model: &computed.model,
                frequency_mhz: first_frequency_mhz(row.region),
                step_m: STEP_M,
                rates: &rates,
                judgement: &computed.judgement,
                calibrated: Calibrated::default(),
            };
            let terminal = terminal(&at_place(row.place, power.present_dbm)).ok();
            of_device(&method, (&gateways, named), (&row, terminal.as_ref(), power), heard)
        };
        forecaster.on_all_cores(|| work.into_par_iter().map(one).collect())
    };
    blocking(all).await
}

/// What a device transmits: as the network has set it, or else the most that its region allows.
fn power(row: &DeviceRow, status: Option<&DeviceStatus>) -> Power {
    let table = row.region.plan().tx_power;
    let index = status.and_then(|status| status.session.as_ref()).map_or(0, |session| session.settings.adr.tx_power);
    let (most_dbm, present_dbm) = (table.max_dbm, table.dbm(index).unwrap_or(table.max_dbm));
    Power { present_dbm: f64::from(present_dbm), lowered_db: f64::from(most_dbm - present_dbm) }
}

fn query(which: &WhichDevices, after: &str) -> DeviceQuery {
    let after = Some(after).filter(|after| !after.is_empty()).map(|after| DeviceCursor::Name(after.to_owned()));
    let (fleet, model, tag) = (which.fleet.clone(), which.model.clone(), which.tag.clone());
    DeviceQuery { fleet, model, tag, after, ..DeviceQuery::default() }
}

/// The devices of a page, and the cursor of the next.
async fn devices(
    app: &App,
    estate: &WholeEstate,
    (which, paging): (&WhichDevices, &Paging),
) -> Result<(Vec<DeviceRow>, Option<String>), Refusal> {
    if let Some(device) = &which.device {
        let eui = app.eui_of(estate.id, Kind::Device, device).await?;
        let row = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", device))?;
        return Ok((vec![row], None));
    }
    let limit = paging.limit()?;
    let query = query(which, paging.after());
    let rows = app.store.devices(estate.id, &query, limit + 1).await?;
    let Page { items, next } = page(rows, limit, |row| row.name.clone(), |row| row);
    Ok((items, next))
}

/// Links of placed devices to gateways with a place, the devices by name: forecast, measured in the latest 48 uplinks, and the
/// difference. A page holds all links of as many devices as `limit` says.
#[utoipa::path(get, path = "/estates/{estate}/links", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(WhichDevices, WhichLinks, Paging),
    responses((status = 200, body = Page<DeviceLink>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn list_links(
    State(app): State<App>,
    estate: WholeEstate,
    Params(which): Params<WhichDevices>,
    Params(links): Params<WhichLinks>,
    Params(paging): Params<Paging>,
) -> Answer<Page<DeviceLink>> {
    let gateway = match &links.gateway {
        Some(gateway) => Some(app.eui_of(estate.id, Kind::Gateway, gateway).await?),
        None => None,
    };
    let (rows, next) = devices(&app, &estate, (&which, &paging)).await?;
    let found = compute(&app, &estate, rows, which.path_model.unwrap_or_default()).await?;
    let mut items: Vec<DeviceLink> = found.into_iter().flat_map(|(links, _)| links).collect();
    assign(&mut items, links.by.unwrap_or_default());
    items.retain(|link| gateway.is_none_or(|gateway| gateway == link.gateway_eui));
    Ok(Json(Page { items, next }))
}

/// What the links of each device come to, the devices by name.
#[utoipa::path(get, path = "/estates/{estate}/coverage", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(WhichDevices, Paging),
    responses((status = 200, body = Page<DeviceCoverage>), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn list_coverage(
    State(app): State<App>,
    estate: WholeEstate,
    Params(which): Params<WhichDevices>,
    Params(paging): Params<Paging>,
) -> Answer<Page<DeviceCoverage>> {
    let (rows, next) = devices(&app, &estate, (&which, &paging)).await?;
    let found = compute(&app, &estate, rows, which.path_model.unwrap_or_default()).await?;
    Ok(Json(Page { items: found.into_iter().map(|(_, coverage)| coverage).collect(), next }))
}

/// What the links of one device come to.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/coverage", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("eui" = String, Path)),
    responses((status = 200, body = DeviceCoverage), (status = 404, body = Problem)))]
pub(crate) async fn show_coverage(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Answer<DeviceCoverage> {
    of_one(&app, &estate, eui).await.map(Json)
}

/// What the links of one device come to.
pub(crate) async fn of_one(app: &App, estate: &WholeEstate, eui: Eui64) -> Result<DeviceCoverage, Refusal> {
    let row = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let found = compute(app, estate, vec![row], PathModel::default()).await?;
    found.into_iter().next().map(|(_, coverage)| coverage).ok_or_else(|| not_found("device", eui))
}
