//! Gateways and strangers.

use api::gateway::import::{Fate, GatewayImport, ImportOutcome};
use api::gateway::{ChangeGateway, Gateway, NewGateway, Protocol, RefusedFrequency};
use api::problem::{Problem, bad_field};
use api::{BandUse, Page};
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use domain::Check;
use domain::gateway::check::{CheckedGateway, gateway_state};
use domain::gateway::{check, import};
use domain::patch::patched;
use engine::{CannotSend, Command, GatewayStatus, Used};
use gateway_link::mqtt::ROOT;
use lorawan::Eui64;
use lorawan::region::SubBand;
use store::{EstateId, GatewayRow, StoreError, gateway_config};

use crate::clock;
use crate::gateways::registry::{Known, broker_name};
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, WholeEstate, page, revision};
use crate::http::gateways::access::tell;
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::{ALL, Choice, whole};

/// An airtime account as it is shown.
pub(crate) fn band_uses(used: Vec<engine::BandUse>) -> Vec<BandUse> {
    used.into_iter()
        .map(|used| BandUse {
            near_since: used.near_since.map(domain::radio::agreement::time),
            ..band_use(used.sub_band, Used { airtime_us: used.airtime_us, frames: used.frames })
        })
        .collect()
}

/// One sub-band of it.
pub(crate) fn band_use(band: &SubBand, used: Used) -> BandUse {
    let allowance_us = band.hourly_allowance_us();
    BandUse {
        sub_band: band.name.into(),
        from_mhz: f64::from(band.from_hz) / 1e6,
        to_mhz: f64::from(band.to_hz) / 1e6,
        airtime_ms: used.airtime_us as f64 / 1000.0,
        allowance_ms: allowance_us as f64 / 1000.0,
        used_percent: used.airtime_us as f64 * 100.0 / allowance_us as f64,
        frames: used.frames,
        near_since: None,
    }
}

fn refused(cannot: &CannotSend) -> RefusedFrequency {
    RefusedFrequency {
        frequency_mhz: f64::from(cannot.frequency_hz) / 1e6,
        since: domain::radio::agreement::time(cannot.since),
        until: domain::radio::agreement::time(cannot.until),
    }
}

fn show(app: &App, row: GatewayRow, status: Option<GatewayStatus>) -> Gateway {
    let known = app.presence.known(row.gateway.eui);
    let last_heard = known.as_ref().and_then(|k| k.last_heard).or(row.last_heard);
    let name = broker_name(row.gateway.eui, row.added_at);
    let mqtt_topic = (row.gateway.protocol == Protocol::Mqtt).then(|| format!("{ROOT}/{name}"));
    let registered = row.gateway;
    Gateway {
        revision: revision(&settings(&registered)),
        eui: registered.eui,
        name: registered.name,
        description: registered.description,
        region: registered.region,
        channels: registered.channels.to_string(),
        protocol: registered.protocol,
        mqtt_topic,
        udp_source: registered.udp_source.as_ref().map(check::source_text),
        latitude_deg: registered.latitude_deg,
        longitude_deg: registered.longitude_deg,
        altitude_m: registered.altitude_m,
        antenna_gain_dbi: registered.antenna_gain_dbi,
        cable_loss_db: registered.cable_loss_db,
        open_to_others: registered.open_to_others,
        beacons: registered.beacons,
        has_gps: status.as_ref().is_some_and(|s| s.has_gps),
        refused_frequencies: status.as_ref().map(|s| s.cannot.iter().map(refused).collect()).unwrap_or_default(),
        state: gateway_state(Utc::now(), last_heard),
        last_heard,
        address: known.as_ref().and_then(|k| k.address).map(|a| a.to_string()),
        frames: known.as_ref().map_or(0, |k| k.frames),
        off_plan_mhz: known.as_ref().map(Known::off_plan_mhz).unwrap_or_default(),
        delay: known.as_ref().and_then(Known::delay),
        software: known.as_ref().and_then(|k| k.software.clone()),
        report: known.and_then(|k| k.report),
        added_at: row.added_at,
        airtime: status.map(|s| band_uses(s.airtime)).unwrap_or_default(),
    }
}

/// Gateways as they are shown, with the engine's state of them.
pub(crate) async fn shown(app: &App, rows: Vec<GatewayRow>) -> Vec<Gateway> {
    let mut status = app.network.gateways(rows.iter().map(|r| r.gateway.eui).collect()).await.into_iter();
    rows.into_iter().map(|row| show(app, row, status.next().flatten())).collect()
}

/// An estate's gateways, by name.
#[utoipa::path(get, path = "/estates/{estate}/gateways", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(Choice, Paging), responses((status = 200, body = Page<Gateway>), (status = 422, body = Problem)))]
pub(crate) async fn list_gateways(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Gateway>> {
    if !choice.is_plain() {
        let all = shown(&app, whole(app.store.gateways(estate.id, "", ALL).await?)?).await;
        return Ok(Json(choice.page_of(all, &paging, |gateway: &Gateway| gateway.eui.to_string())?));
    }
    let limit = paging.limit()?;
    let rows = app.store.gateways(estate.id, paging.after(), limit + 1).await?;
    let page = page(rows, limit, |row| row.gateway.name.clone(), |row| row);
    Ok(Json(Page { items: shown(&app, page.items).await, next: page.next }))
}

/// Registers a gateway.
#[utoipa::path(post, path = "/estates/{estate}/gateways", tag = "gateways",
    extensions(("x-right" = json!("gateways"))), request_body = NewGateway,
    responses((status = 201, body = Gateway), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_gateway(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewGateway>,
) -> Made<Gateway> {
    let gateway = checked(&app, estate.id, &new)?;
    let added_at = app.store.add_gateways(estate.id, &[&gateway]).await?;
    estate.audit().object(named(&gateway)).made(&settings(&gateway));
    let row = make_known(&app, GatewayRow { estate_id: estate.id, gateway, added_at, last_heard: None }).await?;
    Ok(Created { at: estate.path(format_args!("gateways/{}", row.gateway.eui)), made: show(&app, row, None) })
}

/// A new gateway with every field checked; missing fields follow from how the gateway calls already.
fn checked(app: &App, estate: EstateId, new: &NewGateway) -> Result<CheckedGateway, Problem> {
    let mut known = new.clone();
    let eui = new.eui.parse::<Eui64>().ok();
    if let Some(stranger) = eui.and_then(|eui| app.presence.stranger(eui)) {
        known.about.region = known.about.region.or(stranger.region);
        known.about.protocol = known.about.protocol.or(Some(stranger.protocol));
    }
    known.check().map_err(|problem| offer_euis(app, estate, &new.eui, problem))
}

/// Tells the engine and the registry about a stored gateway.
async fn make_known(app: &App, row: GatewayRow) -> Result<GatewayRow, StoreError> {
    let gateway = &row.gateway;
    let account = app.store.gateway_account(gateway.eui, clock::now()).await?;
    app.network.command(Command::PutGateway(gateway_config(row.estate_id, gateway))).await;
    for minute in account {
        app.network.command(minute).await;
    }
    app.presence.register(&row);
    tell(app, gateway.eui, "It was registered.");
    Ok(row)
}

/// Registers gateways from a CSV file, or previews the result for each row.
#[utoipa::path(post, path = "/estates/{estate}/gateways/import", tag = "gateways",
    extensions(("x-right" = json!("gateways"))), request_body = GatewayImport,
    responses((status = 200, body = ImportOutcome), (status = 422, body = Problem)))]
pub(crate) async fn import_gateways(
    State(app): State<App>,
    estate: WholeEstate,
    Json(file): Json<GatewayImport>,
) -> Answer<ImportOutcome> {
    let rows = import::read(&file)?.into_iter();
    let mut read: Vec<_> = rows
        .map(|row| {
            let gateway = row.new.clone().and_then(|new| checked(&app, estate.id, &new));
            (row, gateway)
        })
        .collect();
    import::refuse_twins(&mut read);
    let (euis, names) = app.store.taken_gateways(estate.id).await?;
    for (row, gateway) in &mut read {
        let taken = match gateway {
            Ok(gateway) if euis.contains(&gateway.eui) => bad_field("eui", &row.eui, "it is registered already"),
            Ok(gateway) if names.contains(&gateway.name) => {
                bad_field("name", &gateway.name, "a gateway has that name already")
            }
            _ => continue,
        };
        *gateway = Err(taken);
    }
    let bad = read.iter().filter(|(_, gateway)| gateway.is_err()).count();
    let write = !file.preview && (bad == 0 || file.skip_bad);
    let mut outcome = ImportOutcome { rows: Vec::new(), registered: 0, bad };
    if write {
        let good: Vec<&CheckedGateway> = read.iter().filter_map(|(_, gateway)| gateway.as_ref().ok()).collect();
        // All in one transaction; then the engine and the registry are told.
        let added_at = app.store.add_gateways(estate.id, &good).await?;
        for gateway in good {
            let gateway = gateway.clone();
            make_known(&app, GatewayRow { estate_id: estate.id, gateway, added_at, last_heard: None }).await?;
            outcome.registered += 1;
        }
        estate.audit().note(format!("{} gateways registered from a file", outcome.registered));
    }
    let fate = if write {
        Fate::Registered
    } else if file.preview {
        Fate::Ready
    } else {
        Fate::Held
    };
    outcome.rows = read
        .into_iter()
        .map(|(row, gateway)| match gateway {
            Ok(_) => row.shown(fate, None),
            Err(problem) => row.shown(Fate::Bad, Some(problem)),
        })
        .collect();
    Ok(Json(outcome))
}

/// The EUIs that a MAC address could mean; one that calls already comes first.
fn offer_euis(app: &App, estate: EstateId, entered: &str, problem: Problem) -> Problem {
    if problem.field.as_deref() != Some("eui") {
        return problem;
    }
    let Some(mut meant) = check::meant_by_mac(entered) else { return problem };
    let own = |eui: &Eui64| app.presence.known(*eui).is_some_and(|known| known.estate_id == estate);
    let calls = |eui: &Eui64| app.presence.stranger(*eui).is_some() || own(eui);
    meant.sort_by_key(|eui| !calls(eui));
    let [first, second] = meant;
    let seen = if calls(&first) { format!("; {first} calls here") } else { "; neither has called here yet".into() };
    let why = format!("12 hex digits are a MAC address. As an EUI that is {first} or {second}{seen}");
    Problem { offers: meant.map(|eui| eui.to_string()).into(), ..bad_field("eui", entered, why) }
}

/// One gateway.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = Gateway), (status = 404, body = Problem)))]
pub(crate) async fn show_gateway(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Answer<Gateway> {
    let row = app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))?;
    let status = app.network.gateways(vec![eui]).await.pop().flatten();
    Ok(Json(show(&app, row, status)))
}

/// Changes a gateway in part. Its EUI stays.
#[utoipa::path(patch, path = "/estates/{estate}/gateways/{eui}", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)), request_body = ChangeGateway,
    responses((status = 200, body = Gateway), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_gateway(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(patch): Json<serde_json::Value>,
) -> Answer<Gateway> {
    let before = app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))?;
    estate.still(&settings(&before.gateway))?;
    let mut about = check::about_of(&before.gateway);
    // Channels are those of a region.
    if patch.get("region").is_some_and(|region| region != before.gateway.region.name()) {
        about.channels = None;
    }
    let gateway = check::about(&patched(&about, &patch)?, eui)?;
    estate.audit().object(named(&before.gateway)).changed(&settings(&before.gateway), &settings(&gateway));
    let row = app.store.change_gateway(estate.id, &gateway).await?.ok_or_else(|| not_found("gateway", eui))?;
    app.network.command(Command::PutGateway(gateway_config(estate.id, &gateway))).await;
    app.presence.change(&row);
    let differences = differences(&before.gateway, &gateway);
    if !differences.is_empty() {
        tell(&app, eui, format!("Changed: {}.", differences.join(", ")));
    }
    let told_again = |g: &CheckedGateway| (g.protocol, g.region, g.channels, g.beacons);
    if told_again(&before.gateway) != told_again(&gateway) {
        // It comes again, and is told its new channel plan.
        app.gateway_services.lns.connections.end(eui);
    }
    let status = app.network.gateways(vec![eui]).await.pop().flatten();
    Ok(Json(show(&app, row, status)))
}

/// A gateway's settings, for its revision.
fn settings(g: &CheckedGateway) -> serde_json::Value {
    serde_json::json!({
        "name": g.name, "description": g.description, "region": g.region, "channels": g.channels.to_string(),
        "protocol": g.protocol, "udp_source": g.udp_source.as_ref().map(check::source_text),
        "latitude_deg": g.latitude_deg, "longitude_deg": g.longitude_deg, "altitude_m": g.altitude_m,
        "antenna_gain_dbi": g.antenna_gain_dbi, "cable_loss_db": g.cable_loss_db,
        "open_to_others": g.open_to_others, "beacons": g.beacons,
    })
}

fn named(gateway: &CheckedGateway) -> String {
    format!("gateway {} ({})", gateway.name, gateway.eui)
}

/// The differences, before and after.
fn differences(before: &CheckedGateway, after: &CheckedGateway) -> Vec<String> {
    let place = |g: &CheckedGateway| match (g.latitude_deg, g.longitude_deg) {
        (Some(lat), Some(lon)) => format!("{lat:.5}, {lon:.5}"),
        _ => "not set".into(),
    };
    let yes = |yes: bool| if yes { "yes" } else { "no" };
    let source = |g: &CheckedGateway| g.udp_source.as_ref().map_or("anywhere".into(), check::source_text);
    let say = |what: &str, of: &dyn Fn(&CheckedGateway) -> String| {
        let (was, is) = (of(before), of(after));
        (was != is).then(|| format!("{what} {was} → {is}"))
    };
    [
        say("name", &|g| g.name.clone()),
        (before.description != after.description).then(|| "description".to_owned()),
        say("region", &|g| g.region.name().into()),
        say("channels", &|g| g.channels.to_string()),
        say("protocol", &|g| g.protocol.label().into()),
        say("datagrams taken from", &source),
        say("position", &place),
        say("altitude", &|g| g.altitude_m.map_or("not set".into(), |m| format!("{m} m"))),
        say("antenna gain", &|g| format!("{} dBi", g.antenna_gain_dbi)),
        say("cable loss", &|g| format!("{} dB", g.cable_loss_db)),
        say("open to other estates", &|g| yes(g.open_to_others).into()),
        say("beacons", &|g| yes(g.beacons).into()),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// Forgets the frequencies that a gateway has refused: it is asked to send on them again at once.
#[utoipa::path(delete, path = "/estates/{estate}/gateways/{eui}/refused-frequencies", tag = "gateways", extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn forget_refused_frequencies(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    let row = app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))?;
    estate.audit().object(named(&row.gateway)).note("refused frequencies forgotten");
    app.network.command(Command::ForgetRefusals { gateway: eui }).await;
    tell(&app, eui, "It is asked again to send on frequencies that it had refused.");
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a gateway; its EUI can be used again.
#[utoipa::path(delete, path = "/estates/{estate}/gateways/{eui}", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_gateway(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    let before = app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))?;
    estate.still(&settings(&before.gateway))?;
    estate.audit().object(named(&before.gateway)).removed(&settings(&before.gateway));
    if !app.store.remove_gateway(estate.id, eui).await? {
        return Err(not_found("gateway", eui));
    }
    app.network.command(Command::RemoveGateway(eui)).await;
    app.presence.remove(eui);
    app.gateway_services.credentials.forget(eui);
    app.gateway_services.lns.connections.end(eui);
    Ok(StatusCode::NO_CONTENT)
}
