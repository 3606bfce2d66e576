//! What needs attention.

use api::Page;
use api::diagnosis::device::Weight;
use api::diagnosis::watch::{About, Concern, DecodeFailures, Watch};
use api::message::DeviceRef;
use api::outlet::OutletState;
use axum::extract::State;
use chrono::{TimeDelta, Utc};
use domain::diagnosis::watch;
use domain::radio::agreement::refused_setting;
use lorawan::Eui64;
use store::{AccessFilter, DeviceQuery, EstateId, KEPT_FOR_OUTLETS_DAYS};

use crate::http::app::App;
use crate::http::auth::recent::PATIENCE;
use crate::http::devices::device;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, VisibleEstate, WholeEstate};
use crate::http::gateways::access::endings;
use crate::http::gateways::{gateway, strangers};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::planning::signal::changes;
use crate::outlets::Troubled;

/// From then on it is told how long messages are kept for an outlet.
const WAITS_LONG: TimeDelta = TimeDelta::days(1);
/// Gateways and devices checked at a time.
const ALL: u32 = 100_000;

/// What needs attention in an estate, gravest first: gateways that are not heard, credentials that expire, devices that
/// are refused, silent, over their duty cycle or refusing settings, decoders that fail, and readings that look wrong.
#[utoipa::path(get, path = "/estates/{estate}/watch", tag = "service",
    extensions(("x-right" = json!("view"))), responses((status = 200, body = Watch)))]
pub(crate) async fn show_watch(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
) -> Answer<Watch> {
    let devices = DeviceQuery { within: within.clone(), ..DeviceQuery::default() };
    let asked = tokio::time::timeout(PATIENCE, app.store.devices(estate.id, &devices, ALL)).await;
    let devices = match asked {
        Ok(Err(error)) if error.is_refusal() => return Err(error.into()),
        Ok(Ok(devices)) => devices,
        // What is known without the database.
        _ => {
            let mut known = quarantined(&app, estate.id, within.as_ref());
            if within.is_none() {
                known.extend(app.condition.concerns(&app.network));
            }
            let mut watch = watch::build(watch::Seen { of_service: known, ..watch::Seen::default() }, Utc::now());
            (watch.gateways_listening, watch.devices_active) = (None, None);
            if within.is_none() {
                (watch.gateways, watch.devices) = (app.presence.count(estate.id), app.directory.count(estate.id));
            }
            return Ok(Json(watch));
        }
    };
    let heard_until = app.condition.heard_until(&app.network);
    let devices: Vec<_> = devices.into_iter().map(|row| device::show(row, heard_until)).collect();
    let mut of_service = quarantined(&app, estate.id, within.as_ref());
    let (mut failures, mut doubts) = (failures_in(&app, &estate).await?, app.doubts.of(estate.id));
    failures.retain(|failure| sees(&app, within.as_ref(), failure.device.eui));
    doubts.retain(|doubt| sees(&app, within.as_ref(), doubt.device.eui));
    let changes = changes(&app, estate.id, within.as_ref());
    // Gateways, what they get in with and strangers are the whole estate's.
    let (gateways, endings, strangers) = match within {
        None => {
            of_service.extend(app.condition.concerns(&app.network));
            of_service.extend(app.outlets.troubled(estate.id).into_iter().map(of_outlet));
            let gateways = gateway::shown(&app, app.store.gateways(estate.id, "", ALL).await?).await;
            (gateways, Some(endings(&app, &estate).await?), strangers::seen(&app, &estate, None).len())
        }
        Some(_) => (Vec::new(), None, 0),
    };
    let euis: Vec<Eui64> = devices.iter().filter(|device| !device.disabled).map(|device| device.dev_eui).collect();
    let troubles: Vec<_> = app.network.attention(&euis).await.into_iter().map(trouble).collect();
    let seen = watch::Seen {
        gateways: &gateways,
        devices: &devices,
        troubles: &troubles,
        endings: endings.as_ref(),
        of_service,
        failures: &failures,
        doubts: &doubts,
        changes: &changes,
        strangers,
    };
    Ok(Json(watch::build(seen, Utc::now())))
}

fn trouble(found: engine::DeviceAttention) -> watch::DeviceTrouble {
    let engine::DeviceAttention { dev_eui, airtime, refused } = found;
    let refused = refused.iter().map(refused_setting).collect();
    watch::DeviceTrouble { dev_eui, airtime: gateway::band_uses(airtime), refused }
}

/// Devices of an estate that are not served because their state cannot be stored.
fn quarantined(app: &App, estate_id: EstateId, within: Option<&AccessFilter>) -> Vec<Concern> {
    let ours = app.condition.all_quarantined().into_iter().filter_map(|(eui, quarantined)| {
        let device = app.directory.device(eui).filter(|device| device.estate_id == estate_id)?;
        sees(app, within, eui).then_some((device, quarantined))
    });
    ours.map(|(device, quarantined)| Concern {
        weight: Weight::Trouble,
        about: About::Device,
        eui: Some(device.dev_eui),
        name: Some(device.name),
        model: None,
        message: None,
        since: Some(quarantined.since),
        what: format!("Quarantined: its state cannot be stored: {}. Its frames are refused and kept.", quarantined.why),
        next_step: "Fix what the database reports, then restart the service: it tries again with the kept frames."
            .into(),
    })
    .collect()
}

/// An outlet that does not deliver as it should.
fn of_outlet(outlet: Troubled) -> Concern {
    let Troubled { slug, state, since, why, waiting, oldest } = outlet;
    let wait = match waiting {
        0 => "Nothing waits yet.".to_owned(),
        1 => "1 message waits.".to_owned(),
        n => format!("{n} messages wait."),
    };
    let (weight, next_step) = match state {
        OutletState::Paused => (Weight::Attention, "Resume it on its page; what waits is delivered then."),
        OutletState::Retrying => (Weight::Attention, "Its page shows the last request and the answer to it."),
        OutletState::Failing | OutletState::Delivering => {
            (Weight::Trouble, "Its page shows the last request and the answer to it; *Test* tries it at once.")
        }
    };
    let mut what = format!("{}: {why}. {wait}", capital(state.name()));
    if let Some(oldest) = oldest.filter(|oldest| Utc::now() - *oldest > WAITS_LONG) {
        what.push_str(&format!(
            " The oldest is of {}; they are kept for it at most {KEPT_FOR_OUTLETS_DAYS} days longer than their fleet keeps them.",
            oldest.format("%Y-%m-%d")
        ));
    }
    Concern {
        weight,
        about: About::Outlet,
        eui: None,
        name: Some(slug),
        model: None,
        message: None,
        since: Some(since),
        what,
        next_step: next_step.into(),
    }
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

fn sees(app: &App, within: Option<&AccessFilter>, dev_eui: Eui64) -> bool {
    let covered =
        |part: &AccessFilter| app.directory.device(dev_eui).is_some_and(|device| part.covers(dev_eui, &device.fleet));
    within.is_none_or(covered)
}

async fn failures_in(app: &App, estate: &WholeEstate) -> Result<Vec<DecodeFailures>, Refusal> {
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
#[utoipa::path(get, path = "/estates/{estate}/decode-failures", tag = "decoders",
    extensions(("x-right" = json!("view"))), params(Choice, Paging), responses((status = 200, body = Page<DecodeFailures>)))]
pub(crate) async fn list_decode_failures(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<DecodeFailures>> {
    let mut failures = failures_in(&app, &estate).await?;
    failures.retain(|failure| sees(&app, within.as_ref(), failure.device.eui));
    Ok(Json(choice.page_of(failures, &paging, |one| format!("{}.{}", one.device.eui, one.model))?))
}
