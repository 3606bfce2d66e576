//! Devices.

use std::sync::Arc;

use api::Page;
use api::device::join::DeviceStranger;
use api::device::{Device, DeviceDetail, DeviceState, Session, ShownKeys};
use api::diagnosis::device::DeviceWhy;
use api::diagnosis::join::Condition;
use api::problem::{Problem, bad_field};
use api::radio::settings::Class;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use domain::device::change::DeviceSnapshot;
use domain::device::keys;
use domain::device::state::{StateEvidence, device_keys, device_state};
use domain::diagnosis::join;
use domain::diagnosis::join::{JoinContext, OfEstate};
use domain::radio::agreement::{agreement, rate_decision};
use domain::radio::settings::wire_class;
use engine::Command;
use lorawan::Eui64;
use serde::Deserialize;
use store::{AccessFilter, DeviceCursor, DeviceOrder, DeviceQuery, DeviceRow, MessageQuery, Named};

use crate::decoding::ready::{Decoder, Ready};
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, VisibleEstate, WholeEstate, page, revision};
use crate::http::gateways::gateway;
use crate::http::gateways::gateway::band_uses;
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::planning::links;

/// A device as it is shown; `heard_until` is the time up to which receptions are stored.
pub(crate) fn show(row: DeviceRow, heard_until: DateTime<Utc>) -> Device {
    let known = StateEvidence {
        personalized: row.personalized,
        joined_at: row.joined_at,
        last_heard: row.last_heard,
        interval_s: expected_s(&row),
        refused_at: row.refusal.as_ref().map(|refusal| refusal.time),
    };
    let state = match row.disabled {
        true => DeviceState::Disabled,
        false => device_state(heard_until, known),
    };
    Device {
        dev_eui: row.dev_eui,
        join_eui: row.join_eui,
        name: row.name,
        fleet: row.fleet,
        model: row.model,
        region: row.region,
        state,
        last_heard: row.last_heard,
        usual_interval_s: row.usual_interval_s,
        refusal: row.refusal,
        refused_since: row.refused_since,
        tags: row.tags,
        place: row.place,
        disabled: row.disabled,
        added_at: row.added_at,
    }
}

/// A device as it is before a change.
pub(crate) fn as_is(row: DeviceRow) -> DeviceSnapshot {
    DeviceSnapshot {
        dev_eui: row.dev_eui,
        name: row.name,
        fleet: row.fleet,
        model: row.model,
        profile: row.profile,
        region: row.region,
        radio: row.radio,
        personalized: row.personalized,
        tags: row.tags,
        disabled: row.disabled,
        description: row.description,
        hardware: row.hardware,
        firmware: row.firmware,
        place: row.place,
        attributes: row.attributes,
    }
}

/// Filters and order.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Only those of this fleet.
    fleet: Option<String>,
    /// Only those of this model.
    model: Option<String>,
    /// Only those with this radio profile.
    profile: Option<String>,
    /// Only those with this tag.
    tag: Option<String>,
    /// Only those that this gateway hears, one of the eight that heard the device best in its last day: its EUI or name.
    gateway: Option<String>,
    /// Only those in this state.
    state: Option<DeviceState>,
    /// Only those with this in their name, an EUI, their address or a tag.
    find: Option<String>,
    /// `name`, `last_heard` or `added_at`; with a dash in front in descending order. By name if not given.
    sort: Option<String>,
}

/// What stands between the two parts of a cursor in an order by time.
const BETWEEN: char = '.';

impl Which {
    /// The query for these filters. A fleet, model, profile or gateway that does not exist is told, and not answered by an empty
    /// list; but not to callers who see only a part of the estate, whom its names do not concern.
    pub(crate) async fn checked(
        self,
        app: &App,
        (estate, within): (&WholeEstate, Option<AccessFilter>),
        after: &str,
    ) -> Result<DeviceQuery, Refusal> {
        let query = DeviceQuery { within, ..self.query(after)? };
        if query.within.is_some() {
            return Ok(query);
        }
        if let Some(fleet) = &query.fleet {
            app.store.fleet(estate.id, fleet).await?.ok_or_else(|| not_found("fleet", fleet))?;
        }
        if let Some(model) = &query.model {
            app.store.model(estate.id, model).await?.ok_or_else(|| not_found("model", model))?;
        }
        if let Some(profile) = &query.profile {
            app.store.radio_profile(estate.id, profile).await?.ok_or_else(|| not_found("radio profile", profile))?;
        }
        if let Some(gateway) = &query.gateway {
            app.eui_of(estate.id, Named::Gateway, gateway).await?;
        }
        Ok(query)
    }

    fn query(self, after: &str) -> Result<DeviceQuery, Problem> {
        let order = self.sort.as_deref().unwrap_or("name");
        let (backwards, word) = order.strip_prefix('-').map_or((false, order), |word| (true, word));
        let order = match word {
            "name" => DeviceOrder::Name,
            "last_heard" => DeviceOrder::LastHeard,
            "added_at" => DeviceOrder::Added,
            _ => return Err(bad_field("sort", order, "name, last_heard or added_at, with a dash in front or not")),
        };
        let after = match (after, order) {
            ("", _) => None,
            (name, DeviceOrder::Name) => Some(DeviceCursor::Name(name.to_owned())),
            (text, _) => {
                let parts = text.split_once(BETWEEN).and_then(|(us, eui)| Some((us.parse().ok()?, eui.parse().ok()?)));
                let (us, dev_eui) = parts.ok_or_else(|| bad_field("after", text, "the `next` of the page before"))?;
                Some(DeviceCursor::Time(DateTime::from_timestamp_micros(us).unwrap_or_default(), dev_eui))
            }
        };
        let find = self.find.map(|find| find.trim().to_owned()).filter(|find| !find.is_empty());
        if let Some(long) = find.as_ref().filter(|find| find.chars().count() > 80) {
            return Err(bad_field("find", long, "at most 80 characters are allowed"));
        }
        let Self { fleet, model, profile, tag, gateway, state, .. } = self;
        Ok(DeviceQuery { fleet, model, profile, tag, gateway, state, find, within: None, order, backwards, after })
    }
}

/// The cursor after a row.
fn cursor(order: DeviceOrder, row: &DeviceRow) -> String {
    let time = |at: DateTime<Utc>| format!("{}{BETWEEN}{}", at.timestamp_micros(), row.dev_eui);
    match order {
        DeviceOrder::Name => row.name.clone(),
        DeviceOrder::LastHeard => time(row.last_heard.unwrap_or_default()),
        DeviceOrder::Added => time(row.added_at),
    }
}

/// An estate's devices, by name by default.
#[utoipa::path(get, path = "/estates/{estate}/devices", tag = "devices",
    extensions(("x-right" = json!("view"))),
    params(Which, Paging),
    responses((status = 200, body = Page<Device>), (status = 422, body = Problem)))]
pub(crate) async fn list_devices(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(which): Params<Which>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Device>> {
    let limit = paging.limit()?;
    let query = which.checked(&app, (&estate, within), paging.after()).await?;
    let rows = app.store.devices(estate.id, &query, limit + 1).await?;
    let heard_until = app.condition.heard_until(&app.network);
    Ok(Json(page(rows, limit, |row| cursor(query.order, row), |row| show(row, heard_until))))
}

/// One device with session, readings and airtime.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}", tag = "devices",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem)))]
pub(crate) async fn show_device(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Answer<DeviceDetail> {
    detail(&app, &estate, eui).await.map(Json)
}

pub(crate) async fn detail(app: &App, estate: &WholeEstate, dev_eui: Eui64) -> Result<DeviceDetail, Refusal> {
    let row = app.store.device(estate.id, dev_eui).await?.ok_or_else(|| not_found("device", dev_eui))?;
    let status = app.network.device(dev_eui).await;
    let readings = app.store.last_readings(dev_eui).await?;
    let plan = row.region.plan();
    let revision = revision(&as_is(row.clone()));
    let decoder = row.model.as_deref().and_then(|model| app.directory.decoder(estate.id, model, dev_eui));
    let encodes = |decoder: &Arc<Decoder>| decoder.ready.as_ref().is_ok_and(Ready::encodes);
    let commands = decoder.filter(encodes).map(|decoder| decoder.commands.clone());
    let (radio, whole_radio) = (row.radio.clone(), row.whole_radio.clone());
    let (personalized, profile, description) = (row.personalized, row.profile.clone(), row.description.clone());
    let (hardware, firmware) = (row.hardware.clone(), row.firmware.clone());
    let attributes = row.attributes.clone();
    let registered = whole_radio.class.unwrap_or(Class::A);
    let status = status.as_ref();
    Ok(DeviceDetail {
        revision,
        device: show(row, app.condition.heard_until(&app.network)),
        description,
        hardware,
        firmware,
        attributes,
        profile,
        radio,
        whole_radio,
        class: status.map_or(registered, |s| wire_class(s.class)),
        personalized,
        session: status.and_then(|s| s.session.as_ref()).map(session),
        next_session: status.and_then(|s| s.next_session.as_ref()).map(session),
        agreement: status.and_then(|s| s.negotiated.as_ref()).map(|n| agreement(plan, n)),
        rate_decision: status.and_then(|s| s.adr.as_ref()).map(rate_decision),
        day_airtime_ms: status.map_or(0.0, |s| s.day.airtime_us as f64 / 1000.0),
        day_downlinks: status.map_or(0, |s| s.day_down.frames),
        readings,
        airtime: band_uses(status.map(|s| s.airtime.clone()).unwrap_or_default()),
        commands,
    })
}

/// How often a device is expected to send, in seconds.
fn expected_s(row: &DeviceRow) -> Option<f64> {
    row.whole_radio.uplink_interval_s.map(f64::from).or(row.usual_interval_s)
}

fn session(session: &engine::Session) -> Session {
    let counters = session.counters;
    Session {
        dev_addr: session.dev_addr,
        last_counter_up: counters.up,
        next_counter_down: counters.next_down,
        next_app_counter_down: session.speaks_1_1.then_some(counters.next_app_down),
        joined_at: DateTime::from_timestamp_micros(session.joined_at.0).unwrap_or_default(),
    }
}

/// Number of events.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HowMany {
    /// 1 to 500; 50 if not given.
    limit: Option<u32>,
}

/// The kinds of message in a timeline: all but ordinary uplinks.
const TIMELINE: [&str; 4] = ["join", "refused", "notice", "downlink"];

/// A device's diagnosis: findings with reasons and next steps, and a timeline.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/why", tag = "devices",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), HowMany),
    responses((status = 200, body = DeviceWhy), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn why(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(how_many): Params<HowMany>,
) -> Answer<DeviceWhy> {
    let limit = match how_many.limit.unwrap_or(50) {
        limit @ 1..=500 => limit,
        other => return Err(api::problem::bad_field("limit", &other.to_string(), "1 to 500 are allowed").into()),
    };
    let detail = detail(&app, &estate, eui).await?;
    let failed = app.store.last_failed(eui, OUTBOX_LOOKED_AT).await?;
    let kinds = TIMELINE.map(String::from).into();
    let which = MessageQuery { device: Some(eui), kinds, ..MessageQuery::default() };
    let timeline = app.store.messages(estate.id, &which, limit).await?;
    let next = app.store.next_in_outbox(eui).await?;
    let next = next.as_ref().map(|(waiting, item)| (*waiting, item));
    let asked_before = app.strangers.before_registration(estate.id, eui);
    let asked = asked_before.as_ref();
    let mut findings = domain::diagnosis::device::findings(&detail, failed.as_ref(), next, &timeline, asked);
    let coverage = links::of_one(&app, &estate, eui).await?;
    findings.extend(domain::coverage::verdict::as_finding(&coverage));
    findings.sort_by_key(|finding| finding.weight);
    let conditions = match detail.device.last_heard {
        None => conditions(&app, &estate, &detail, asked).await?,
        Some(_) => Vec::new(),
    };
    Ok(Json(DeviceWhy { findings, conditions, timeline }))
}

/// The conditions for a device to be heard, each checked as far as possible.
async fn conditions(
    app: &App,
    estate: &WholeEstate,
    detail: &DeviceDetail,
    asked_before: Option<&DeviceStranger>,
) -> Result<Vec<Condition>, Refusal> {
    let gateways = gateway::shown(app, app.store.gateways(estate.id, "", ALL_GATEWAYS).await?).await;
    if !estate.is_seen_whole() {
        let around = JoinContext { gateways: &gateways, of_estate: None, asked_before };
        return Ok(join::conditions(detail, &around));
    }
    let strangers = app.strangers.of(estate.id, &app.directory);
    let latest = DeviceQuery { order: DeviceOrder::LastHeard, backwards: true, ..DeviceQuery::default() };
    let latest = app.store.devices(estate.id, &latest, 1).await?;
    let last_heard = latest.first().and_then(|row| {
        let ago = (Utc::now() - row.last_heard?).num_seconds().max(0);
        Some((row.name.clone(), format!("{} ago", api::elapsed(ago))))
    });
    let of_estate = Some(OfEstate { strangers: &strangers, last_heard });
    let around = JoinContext { gateways: &gateways, of_estate, asked_before };
    Ok(join::conditions(detail, &around))
}

/// Gateways checked for whether they may hear a device.
const ALL_GATEWAYS: u32 = 10_000;

/// Unregistered devices that ask to join, the one heard last first, since the service started.
#[utoipa::path(get, path = "/estates/{estate}/devices/strangers", tag = "devices",
    extensions(("x-right" = json!("view"))), params(Choice, Paging), responses((status = 200, body = Page<DeviceStranger>)))]
pub(crate) async fn list_device_strangers(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<DeviceStranger>> {
    Ok(Json(choice.page_of(app.strangers.of(estate.id, &app.directory), &paging, |one| one.dev_eui.to_string())?))
}

/// Downlinks, newest first, that findings are drawn from.
const OUTBOX_LOOKED_AT: u32 = 200;

/// The device's keys. Each request is recorded in the audit log.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/keys", tag = "devices",
    extensions(("x-right" = json!("keys"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = ShownKeys), (status = 404, body = Problem)))]
pub(crate) async fn show_keys(State(app): State<App>, estate: WholeEstate, PathEui(eui): PathEui) -> Answer<ShownKeys> {
    let row = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let activation = app.store.activation_of(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    estate.audit().object(format!("keys of device {} ({eui})", row.name));
    let keys = device_keys(eui, &activation);
    Ok(Json(ShownKeys { forms: keys::forms(row.join_eui, &keys), join_eui: row.join_eui, keys }))
}

/// Removes a device with its session and outbox; its messages stay in the history.
#[utoipa::path(delete, path = "/estates/{estate}/devices/{eui}", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_device(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    let row = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let before = as_is(row);
    estate.still(&before)?;
    estate.audit().object(format!("device {} ({eui})", before.name)).removed(&before);
    // The engine first, so that it writes nothing more for the device afterwards.
    app.network.command(Command::RemoveDevice(eui)).await;
    app.directory.remove_device(eui);
    app.condition.release(eui);
    app.store.remove_devices(estate.id, &[eui]).await?;
    Ok(StatusCode::NO_CONTENT)
}
