//! Signals over time, and changes that stayed.

use api::Page;
use api::coverage::survey::{ChangedKind, SignalChange, SignalHistory, SignalQuestion, SurveyFilter};
use api::problem::Problem;
use axum::extract::State;
use coverage::survey::changes::{Change, Whose, levels};
use lorawan::Eui64;
use store::{AccessFilter, EstateId};

use crate::http::app::App;
use crate::http::error::not_found;
use crate::http::extract::{Paging, Params, VisibleEstate};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;
use crate::http::planning::survey::{Asked, asked};
use crate::planning::survey::told;

/// The changes of an estate that a caller may see, the latest first.
pub(in crate::http) fn changes(app: &App, estate: EstateId, within: Option<&AccessFilter>) -> Vec<SignalChange> {
    let told = |change: &Change| match change.whose {
        Whose::Gateway(eui) => {
            let known = app.presence.known(Eui64(eui)).filter(|_| within.is_none())?;
            Some(told::change(change, (ChangedKind::Gateway, Eui64(eui), known.name)))
        }
        Whose::Device(eui) => {
            let device = app.directory.device(Eui64(eui)).filter(|device| device.estate_id == estate)?;
            let seen = within.is_none_or(|part| part.covers(device.dev_eui, &device.fleet));
            seen.then(|| told::change(change, (ChangedKind::Device, device.dev_eui, device.name)))
        }
    };
    app.surveys.changes(estate).iter().rev().filter_map(told).collect()
}

/// Changes of signal that stayed, the latest first: of gateways, if most devices that they hear have changed with them, and of
/// devices. They are looked for every hour.
#[utoipa::path(get, path = "/estates/{estate}/survey/changes", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<SignalChange>), (status = 422, body = Problem)))]
pub(crate) async fn list_changes(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<SignalChange>> {
    let all = changes(&app, visible.estate.id, visible.within.as_ref());
    Ok(Json(choice.page_of(all, &paging, |one: &SignalChange| format!("{},{}", one.eui, one.since.timestamp()))?))
}

/// The signal of a device at a gateway over time, with its steps.
#[utoipa::path(get, path = "/estates/{estate}/survey/signal", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(SignalQuestion),
    responses((status = 200, body = SignalHistory), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn show_signal(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(wanted): Params<SignalQuestion>,
) -> Answer<SignalHistory> {
    let filter = SurveyFilter {
        device: Some(wanted.device.clone()),
        gateway: Some(wanted.gateway.clone()),
        ..SurveyFilter::default()
    };
    let Asked { opened, filter, names } = asked(&app, visible.part(), &filter).await?;
    let (device, gateway) = (filter.device.unwrap_or_default(), filter.gateway.unwrap_or_default());
    if filter.among.as_ref().is_some_and(|among| !among.contains(&device)) {
        return Err(not_found("device", wanted.device));
    }
    let name = opened.device(device).map_or_else(|| Eui64(device).to_string(), |one| one.name.clone());
    let gateway_name = app.presence.known(Eui64(gateway)).map_or_else(|| names.gateway(gateway), |known| known.name);
    let history = blocking(move || told::signal(&levels(&opened.record(), device, gateway), (name, gateway_name)));
    Ok(Json(history.await?))
}
