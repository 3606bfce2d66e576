//! Rehearsals.

use std::sync::Arc;

use api::device::rehearsal::{RehearsalOutcome, Rehearse};
use api::heard::{HeardBy, Radio};
use api::message::{Body, DeviceRef, Message, Rehearsed, Uplink, UplinkFrame};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use chrono::Utc;
use domain::Check;
use domain::input::stored_tag;
use lorawan::region::Region;
use lorawan::{Eui64, Modulation, airtime};
use store::WrittenMessage;
use ulid::Ulid;

use crate::decoding::decoder;
use crate::decoding::workers::Lane;
use crate::http::app::App;
use crate::http::devices::outbox::known;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{PathEui, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::models::turns::Purpose;

/// Told of a rehearsal for a device that was never heard.
const ASSUMED_RADIO: &str =
    "radio: the region's first channel at its slowest data rate, since this device was never heard";

/// A frame's overhead beside its payload: MHDR, FHDR without options, FPort and MIC (L2 1.0.4 §4).
const OVERHEAD: usize = 13;

/// Runs bytes through decoding and everything after it as if they had been received. The message is marked as rehearsed
/// everywhere; no counter, ledger, reading or state is touched, and nothing is stored.
#[utoipa::path(post, path = "/estates/{estate}/devices/{eui}/rehearse", tag = "decoders",
    extensions(("x-right" = json!("send"))),
    params(("eui" = String, Path)), request_body = Rehearse,
    responses((status = 200, body = RehearsalOutcome), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn rehearse(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(wanted): Json<Rehearse>,
) -> Answer<RehearsalOutcome> {
    let given = wanted.check()?;
    let device = known(&app, &estate, eui)?;
    let before = match &wanted.again {
        Some(id) => Some(uplink_of(&app, &estate, eui, id).await?),
        None => None,
    };
    // Fields that are not given are those of the last uplink.
    let like = match &before {
        Some((_, uplink)) => Some(uplink.clone()),
        None => app.store.last_uplinks(estate.id, &[eui], 1).await?.pop().and_then(|last| uplink_in(last.body)),
    };
    let heard_by = heard_by(&app, &estate, &wanted, like.as_ref()).await?;
    let payload = match (given, &before) {
        (Some(bytes), _) => bytes,
        (None, Some((_, uplink))) => hex::decode(&uplink.frame.payload).unwrap_or_default(),
        (None, None) => Vec::new(),
    };
    let assumed = if like.is_none() { vec![ASSUMED_RADIO.to_owned()] } else { Vec::new() };
    let uplink = Uplink {
        frame: frame_of(&wanted, before.as_ref().map(|(_, uplink)| &uplink.frame), &payload),
        phy_payload: String::new(),
        readings: std::collections::BTreeMap::new(),
        radio: like.map_or_else(|| slow(device.region, payload.len()), |like| like.radio),
        heard_by,
        warnings: Vec::new(),
        decode_warnings: Vec::new(),
        decode_error: None,
        rehearsed: Some(Rehearsed { by: estate.person.clone(), again: wanted.again.clone(), assumed }),
    };
    let message = Message {
        id: Ulid::generate().to_string(),
        time: wanted.time.or(before.map(|(time, _)| time)).unwrap_or_else(Utc::now),
        estate: app.directory.estate_slug(estate.id),
        fleet: Some(device.fleet),
        device: Some(DeviceRef { eui, name: device.name, model: device.model }),
        body: Body::Uplink(Box::new(uplink)),
    };
    let message = decoded(&app, &estate, eui, message).await?;
    let written = Arc::new(WrittenMessage::new(estate.id, message.clone())?);
    let listeners = app.live.takers(&written);
    let tags = app.store.device(estate.id, eui).await?.map(|row| row.tags).unwrap_or_default();
    let outlets = app.outlets.rehearse(&written, |tag| tags.iter().any(|of| *of == stored_tag(tag)));
    app.live.publish(written);
    let mut went_to = vec![match listeners {
        0 => "live stream: nobody listens".into(),
        1 => "live stream: 1 listener".into(),
        n => format!("live stream: {n} listeners"),
    }];
    // Who sees a part of the estate is not told of what goes beyond it.
    if estate.is_seen_whole() {
        went_to.extend(outlets.iter().map(|slug| format!("outlet {slug}")));
    }
    Ok(Json(RehearsalOutcome { message, went_to }))
}

/// The frame with the fields of the request; the other fields are those of the uplink that is repeated.
fn frame_of(wanted: &Rehearse, before: Option<&UplinkFrame>, payload: &[u8]) -> UplinkFrame {
    let port = wanted.port.or(before.and_then(|frame| frame.port)).unwrap_or(1);
    UplinkFrame {
        counter: wanted.counter.or(before.map(|frame| frame.counter)).unwrap_or(0),
        port: Some(port),
        confirmed: before.is_some_and(|frame| frame.confirmed),
        payload: hex::encode(payload),
        mac_commands: String::new(),
        mac: Vec::new(),
    }
}

/// The message with the result of the device's decoder.
async fn decoded(app: &App, estate: &WholeEstate, eui: Eui64, mut message: Message) -> Result<Message, Refusal> {
    let Some(decoder) = decoder::decoder_of(&app.directory, estate.id, &message) else { return Ok(message) };
    let totals = app.directory.totals.copy_of(eui);
    app.run_scripts(estate, Purpose::Calls, move || {
        let payload = decoder::payload_of(&message);
        let called = payload.and_then(|payload| decoder::call(&decoder, payload, Lane::People));
        decoder::write_down(&totals, &decoder, &mut message, called);
        message
    })
    .await
}

fn uplink_in(body: Body) -> Option<Uplink> {
    match body {
        Body::Uplink(uplink) => Some(*uplink),
        _ => None,
    }
}

async fn uplink_of(
    app: &App,
    estate: &WholeEstate,
    eui: Eui64,
    id: &str,
) -> Result<(chrono::DateTime<Utc>, Uplink), Refusal> {
    let message = app.store.message(estate.id, id).await?;
    let message = message.filter(|message| message.device.as_ref().is_some_and(|device| device.eui == eui));
    let message = message.ok_or_else(|| not_found("message of this device", id))?;
    let time = message.time;
    let uplink = uplink_in(message.body).ok_or_else(|| bad_field("again", id, "an uplink is wanted"))?;
    Ok((time, uplink))
}

/// The receptions of the rehearsed uplink.
async fn heard_by(
    app: &App,
    estate: &WholeEstate,
    wanted: &Rehearse,
    like: Option<&Uplink>,
) -> Result<Vec<HeardBy>, Refusal> {
    let mut copies = match wanted.gateway.as_deref().map(str::trim) {
        None => like.map(|like| like.heard_by.clone()).unwrap_or_default(),
        Some(text) => {
            let known = app.store.gateways(estate.id, "", u32::MAX).await?;
            let eui = domain::input::eui("gateway", text).ok();
            // Who sees a part of the estate knows the gateways that have heard the device, and no others.
            let heard = |eui| like.is_some_and(|like| like.heard_by.iter().any(|by| by.gateway == eui));
            let found = known
                .into_iter()
                .map(|row| row.gateway)
                .filter(|gateway| estate.is_seen_whole() || heard(gateway.eui))
                .find(|gateway| Some(gateway.eui) == eui || gateway.name == text);
            let found = found.ok_or_else(|| not_found("gateway", text))?;
            let before = like.and_then(|like| like.heard_by.iter().find(|by| by.gateway == found.eui));
            let rssi_dbm = wanted.rssi_dbm.or(before.map(|by| by.rssi_dbm)).ok_or_else(|| {
                let allowed =
                    format!("{} did not hear its last uplink: say how strong the signal is to be", found.name);
                bad_field("rssi_dbm", "nothing", allowed)
            })?;
            let snr_db = before.and_then(|by| by.snr_db);
            vec![HeardBy { gateway: found.eui, name: found.name, rssi_dbm, snr_db }]
        }
    };
    if wanted.rssi_dbm.is_some() || wanted.snr_db.is_some() {
        copies.truncate(1);
        if copies.is_empty() {
            let allowed = "a gateway is to be named, since none has heard the device yet";
            return Err(bad_field("gateway", "nothing", allowed).into());
        }
    }
    for copy in &mut copies {
        copy.rssi_dbm = wanted.rssi_dbm.unwrap_or(copy.rssi_dbm);
        copy.snr_db = wanted.snr_db.or(copy.snr_db);
    }
    Ok(copies)
}

/// The radio of an unknown device: the region's first channel, at its slowest data rate.
fn slow(region: Region, payload: usize) -> Radio {
    let plan = region.plan();
    let channel = plan.uplinks().next();
    let data_rate = channel.map(|channel| channel.min_data_rate);
    let modulation = data_rate.and_then(|index| plan.data_rate(index)).map(|rate| rate.modulation);
    let lora = modulation.and_then(Modulation::lora_parts);
    Radio {
        region: region.name().into(),
        data_rate,
        spreading_factor: lora.map(|(sf, _)| sf),
        bandwidth_khz: lora.map(|(_, khz)| khz),
        frequency_mhz: channel.map_or(0.0, |channel| f64::from(channel.frequency_hz) / 1e6),
        airtime_ms: modulation.map_or(0.0, |m| airtime::uplink_us(m, payload + OVERHEAD) as f64 / 1000.0),
        power_dbm: None,
    }
}
