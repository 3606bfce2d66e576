//! One search over devices, gateways and strangers.

use api::Page;
use api::find::{Found, FoundKind};
use api::problem::bad_field;
use axum::extract::State;
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceOrder, DeviceQuery};

use crate::http::app::App;
use crate::http::extract::{Params, VisibleEstate};
use crate::http::gateways::strangers;
use crate::http::json::{Answer, Json};

/// Of each kind, at most.
const EACH: usize = 10;
/// Characters looked for, at most.
const LONGEST: usize = 80;

/// What to look for.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Part of a name, an EUI, an address or a tag.
    text: String,
}

/// Searches names, EUIs, addresses and tags of devices and gateways, and EUIs of unregistered ones; at most ten of each
/// kind.
#[utoipa::path(get, path = "/estates/{estate}/find", tag = "service",
    extensions(("x-right" = json!("view"))),
    params(Wanted), responses((status = 200, body = Page<Found>)))]
pub(crate) async fn find(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(wanted): Params<Wanted>,
) -> Answer<Page<Found>> {
    let text = wanted.text.trim().to_owned();
    if text.is_empty() || text.chars().count() > LONGEST {
        return Err(bad_field("text", &text, format!("1 to {LONGEST} characters are wanted")).into());
    }
    let all = within.is_none();
    let which = DeviceQuery { find: Some(text.clone()), within, order: DeviceOrder::Name, ..DeviceQuery::default() };
    let devices = app.store.devices(estate.id, &which, EACH as u32).await?;
    let digits = store::eui_digits(&text);
    let like = |eui: &Eui64| digits.as_ref().is_some_and(|digits| eui.to_string().contains(digits.as_str()));
    let mut found: Vec<Found> = devices
        .into_iter()
        .map(|row| Found {
            kind: FoundKind::Device,
            eui: row.dev_eui,
            name: Some(row.name),
            about: std::iter::once(row.fleet).chain(row.tags).collect::<Vec<_>>().join(", "),
            last_heard: row.last_heard,
        })
        .collect();
    // Gateways and strangers are the whole estate's.
    if !all {
        return Ok(Json(Page { items: found, next: None }));
    }
    let gateways = app.store.find_gateways(estate.id, &text, EACH as u32).await?;
    found.extend(gateways.into_iter().map(|row| Found {
        kind: FoundKind::Gateway,
        eui: row.gateway.eui,
        name: Some(row.gateway.name),
        about: row.gateway.region.to_string(),
        last_heard: app.presence.known(row.gateway.eui).and_then(|known| known.last_heard).or(row.last_heard),
    }));
    let asking = app.strangers.of(estate.id, &app.directory);
    found.extend(asking.into_iter().filter(|s| like(&s.dev_eui) || like(&s.join_eui)).take(EACH).map(|s| Found {
        kind: FoundKind::DeviceStranger,
        eui: s.dev_eui,
        name: None,
        about: format!("asks to join in {}", s.region),
        last_heard: Some(s.last_heard),
    }));
    let seen = strangers::seen(&app, &estate, Some(&text));
    found.extend(seen.into_iter().filter(|s| like(&s.eui)).take(EACH).map(|s| Found {
        kind: FoundKind::GatewayStranger,
        eui: s.eui,
        name: None,
        about: format!("connects from {}", s.address),
        last_heard: Some(s.last_heard),
    }));
    Ok(Json(Page { items: found, next: None }))
}
