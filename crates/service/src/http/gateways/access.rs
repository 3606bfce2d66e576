//! A gateway's access: its credentials, its connection kit, and the events of its connections.

use api::Page;
use api::gateway::credential::{
    CredentialKind, CredentialState, EndingCredential, Endings, GatewayCredential, IssuedCredential, KitOrder,
    NewCredential, Purpose,
};
use api::gateway::event::{GatewayEvent, GatewayEventKind};
use api::gateway::reception::{Reception, UptimeDay};
use api::gateway::{GatewayState, Protocol};
use api::problem::Problem;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use chrono::{TimeDelta, Utc};
use domain::gateway::{credential, reception};
use lorawan::Eui64;
use store::{CredentialRow, GatewayRow, MessageQuery};

use crate::gateways::credentials::Fresh;
use crate::gateways::event_log::GatewayEventDraft;
use crate::gateways::kit;
use crate::gateways::registry::broker_name;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, PathName, WholeEstate, page, page_of};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;

/// Gateways checked for expiring credentials, at a time.
const ALL: u32 = 100_000;
/// Uplinks evaluated for what a gateway hears.
const LOOKED_AT: u32 = 2000;
/// Days of uptime.
const UPTIME_DAYS: u16 = 30;

pub(crate) async fn registered(app: &App, estate: &WholeEstate, eui: Eui64) -> Result<GatewayRow, Refusal> {
    app.store.gateway(estate.id, eui).await?.ok_or_else(|| not_found("gateway", eui))
}

fn make(app: &App, row: &GatewayRow, new: &NewCredential) -> Result<Fresh, Refusal> {
    let lasts = credential::lifetime(new)?;
    let gate = &app.gateway_services;
    let name = broker_name(row.gateway.eui, row.added_at);
    Fresh::make(&gate.authority, &gate.identity.trust, name, (new.purpose, new.kind), lasts).map_err(|why| {
        tracing::error!("a credential could not be made: {why:#}");
        Refusal(Problem::new(500, "not_made", "The credential could not be made; the service's log says why"))
    })
}

/// Records a change of a gateway.
pub(crate) fn tell(app: &App, eui: Eui64, text: impl Into<String>) {
    app.gateway_services.gateway_log.tell(eui, GatewayEventDraft::new(GatewayEventKind::Changed, text));
}

/// A gateway's credentials, the newest first; never their secrets.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}/credentials", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), Choice, Paging),
    responses((status = 200, body = Page<GatewayCredential>), (status = 404, body = Problem)))]
pub(crate) async fn list_credentials(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<GatewayCredential>> {
    registered(&app, &estate, eui).await?;
    let all = app.gateway_services.credentials.of(eui).into_iter().map(|row| row.credential).collect();
    Ok(Json(choice.page_of(all, &paging, |one: &GatewayCredential| one.id.clone())?))
}

/// Makes a credential for a gateway. Its secret is in this answer only.
#[utoipa::path(post, path = "/estates/{estate}/gateways/{eui}/credentials", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)), request_body = NewCredential,
    responses((status = 201, body = IssuedCredential), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_credential(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(new): Json<NewCredential>,
) -> Made<IssuedCredential> {
    let row = registered(&app, &estate, eui).await?;
    let fresh = make(&app, &row, &new)?;
    estate.audit().made(&fresh.row.credential);
    app.gateway_services.credentials.add(&[&fresh]).await?;
    let ends = fresh.row.credential.expires_at.format("%Y-%m-%d");
    tell(&app, eui, format!("A {} for {} was made, good until {ends}.", new.kind.name(), new.purpose.name()));
    let at = estate.path(format_args!("gateways/{eui}/credentials/{}", fresh.row.credential.id));
    Ok(Created { at, made: fresh.shown(&app.gateway_services.identity.trust) })
}

/// One credential of a gateway, without its secret.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}/credentials/{id}", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path), ("id" = String, Path)),
    responses((status = 200, body = GatewayCredential), (status = 404, body = Problem)))]
pub(crate) async fn show_credential(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    PathName(id): PathName,
) -> Answer<GatewayCredential> {
    registered(&app, &estate, eui).await?;
    let own = app.gateway_services.credentials.of(eui).into_iter();
    let found = own.map(|row| row.credential).find(|credential| credential.id == id);
    found.map(Json).ok_or_else(|| not_found("credential", id))
}

/// Revokes a credential; a gateway that is connected with it is disconnected.
#[utoipa::path(delete, path = "/estates/{estate}/gateways/{eui}/credentials/{id}", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path), ("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn revoke_credential(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    registered(&app, &estate, eui).await?;
    let own = app.gateway_services.credentials.of(eui);
    let row: &CredentialRow =
        own.iter().find(|row| row.credential.id == id).ok_or_else(|| not_found("credential", &id))?;
    app.gateway_services.credentials.revoke(std::slice::from_ref(row)).await?;
    if row.credential.purpose == Purpose::Traffic {
        app.gateway_services.lns.connections.end(eui);
    }
    let credential = &row.credential;
    estate.audit().removed(credential);
    tell(&app, eui, format!("A {} for {} was revoked.", credential.kind.name(), credential.purpose.name()));
    Ok(StatusCode::NO_CONTENT)
}

/// Replaces a gateway's credentials: it gets new ones when it next asks for updates, and the old ones end when it first
/// uses the new ones.
#[utoipa::path(post, path = "/estates/{estate}/gateways/{eui}/credentials/replace", tag = "gateways",
    extensions(("x-right" = json!("gateways"))), params(("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn replace_credentials(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    registered(&app, &estate, eui).await?;
    if !asks_over_cups(&app.gateway_services.credentials.of(eui)) {
        let problem = Problem::new(409, "no_updates", "This gateway cannot fetch new credentials")
            .detail("it has no valid credential for updates; make it a connection kit with updates");
        return Err(problem.into());
    }
    app.gateway_services.credentials.ask_for_replacement(eui).await?;
    tell(&app, eui, "Its credentials are to be replaced when it next asks for updates.");
    Ok(StatusCode::NO_CONTENT)
}

/// Whether a gateway can fetch updates.
pub(crate) fn asks_over_cups(own: &[CredentialRow]) -> bool {
    let now = Utc::now();
    let open = |row: &CredentialRow| {
        !matches!(credential::state(&row.credential, now), CredentialState::Expired | CredentialState::Revoked)
    };
    own.iter().any(|row| row.credential.purpose == Purpose::Updates && open(row))
}

/// A connection kit: everything that this gateway needs to connect, with new credentials, as a zip archive.
#[utoipa::path(post, path = "/estates/{estate}/gateways/{eui}/kit", tag = "gateways",
    extensions(("x-right" = json!("gateways"))),
    params(("eui" = String, Path)), request_body = KitOrder,
    responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn make_kit(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(order): Json<KitOrder>,
) -> Result<Response, Refusal> {
    let row = registered(&app, &estate, eui).await?;
    let purposes: &[Purpose] = match (row.gateway.protocol, order.updates) {
        (Protocol::Udp, _) => &[],
        // It fetches those for traffic by itself.
        (Protocol::Websocket, true) => &[Purpose::Updates],
        (Protocol::Websocket, false) | (Protocol::Mqtt, _) => &[Purpose::Traffic],
    };
    if row.gateway.protocol == Protocol::Mqtt && app.gateway_services.endpoints.mqtt.is_none() {
        let problem = Problem::new(409, "no_broker", "There is no broker to connect to")
            .detail("the service was started without --mqtt");
        return Err(problem.into());
    }
    // The broker knows a gateway by the name in its certificate.
    let kind = if row.gateway.protocol == Protocol::Mqtt { CredentialKind::Certificate } else { order.kind };
    let mut fresh = Vec::new();
    for purpose in purposes {
        fresh.push(make(&app, &row, &NewCredential { purpose: *purpose, kind, days: order.days })?);
    }
    let gate = &app.gateway_services;
    let trust = if row.gateway.protocol == Protocol::Mqtt { &gate.broker_trust } else { &gate.identity.trust };
    let kit = kit::zip((&row.gateway, row.added_at), &fresh, &gate.endpoints, trust).map_err(|why| {
        tracing::error!("a connection kit could not be packed: {why:#}");
        Refusal(Problem::new(500, "not_made", "The kit could not be packed; the service's log says why"))
    })?;
    app.gateway_services.credentials.add(&fresh.iter().collect::<Vec<_>>()).await?;
    tell(&app, eui, format!("A connection kit for {} was made.", row.gateway.protocol.label()));
    let name = format!("attachment; filename=\"connection-kit-{eui}.zip\"");
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_owned()),
        (header::CONTENT_DISPOSITION, name),
        (header::CACHE_CONTROL, "no-store".to_owned()),
    ];
    Ok((headers, kit).into_response())
}

/// A gateway's events, newest first: connections, rejections with their reasons, restarts, changes.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}/events", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), Paging),
    responses((status = 200, body = Page<GatewayEvent>), (status = 404, body = Problem)))]
pub(crate) async fn list_events(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(paging): Params<Paging>,
) -> Answer<Page<GatewayEvent>> {
    registered(&app, &estate, eui).await?;
    let limit = paging.limit()?;
    let before = Some(paging.after()).filter(|id| !id.is_empty());
    let events = app.store.gateway_events(eui, before, limit + 1).await?;
    Ok(Json(page(events, limit, |event| event.id.clone(), |event| event)))
}

/// What a gateway hears of the estate's last uplinks: signal, channels, data rates, and devices that it alone hears.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}/reception", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = Reception), (status = 404, body = Problem)))]
pub(crate) async fn show_reception(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Answer<Reception> {
    registered(&app, &estate, eui).await?;
    let uplinks = MessageQuery { kinds: vec!["uplink".into()], ..MessageQuery::default() };
    let messages = app.store.messages(estate.id, &uplinks, LOOKED_AT).await?;
    Ok(Json(reception::summary(eui, &messages)))
}

/// A gateway's online time on each of the last 30 days, the earliest first.
#[utoipa::path(get, path = "/estates/{estate}/gateways/{eui}/uptime", tag = "gateways",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), Paging),
    responses((status = 200, body = Page<UptimeDay>), (status = 404, body = Problem)))]
pub(crate) async fn show_uptime(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(paging): Params<Paging>,
) -> Answer<Page<UptimeDay>> {
    registered(&app, &estate, eui).await?;
    let now = Utc::now();
    let events = app.store.gateway_states(eui, now - TimeDelta::days(UPTIME_DAYS.into())).await?;
    let listening = |event: &GatewayEvent| (event.time, event.state == Some(GatewayState::Listening));
    let days = reception::uptime(&events.iter().map(listening).collect::<Vec<_>>(), now, UPTIME_DAYS);
    Ok(Json(page_of(days, &paging, |one| one.day.to_string())?))
}

/// Certificates and tokens of gateways that expire soon or have expired, and the service's own.
#[utoipa::path(get, path = "/estates/{estate}/endings", tag = "gateways",
    extensions(("x-right" = json!("view"))), responses((status = 200, body = Endings)))]
pub(crate) async fn list_endings(State(app): State<App>, estate: WholeEstate) -> Answer<Endings> {
    endings(&app, &estate).await.map(Json)
}

/// The same, to be shown with other things.
pub(crate) async fn endings(app: &App, estate: &WholeEstate) -> Result<Endings, Refusal> {
    let soon = Utc::now() + TimeDelta::days(credential::WARN_DAYS);
    let mut credentials = Vec::new();
    for row in app.store.gateways(estate.id, "", ALL).await? {
        let own = app.gateway_services.credentials.of(row.gateway.eui);
        let renews_itself = asks_over_cups(&own);
        for purpose in [Purpose::Traffic, Purpose::Updates] {
            let in_force = |c: &&CredentialRow| c.credential.purpose == purpose && c.credential.revoked_at.is_none();
            // The newest that was used counts, or the newest if none was.
            let used = own.iter().filter(in_force).find(|c| c.credential.last_used.is_some());
            let Some(counts) = used.or_else(|| own.iter().find(in_force)) else { continue };
            let newer_lasts = own.iter().filter(in_force).any(|c| c.credential.expires_at > soon);
            if counts.credential.expires_at <= soon && !newer_lasts {
                credentials.push(EndingCredential {
                    gateway: row.gateway.eui,
                    name: row.gateway.name.clone(),
                    credential: counts.credential.clone(),
                    renews_itself,
                });
            }
        }
    }
    credentials.sort_by_key(|ending| ending.credential.expires_at);
    Ok(Endings {
        server_expires_at: app.gateway_services.identity.expires_at(),
        server_renews_itself: app.gateway_services.identity.renews_itself(),
        authority_expires_at: app.gateway_services.authority.expires_at,
        credentials,
    })
}
