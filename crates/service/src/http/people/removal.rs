//! Removing an estate with all that is in it.

use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use engine::Command;
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceQuery, Holdings};

use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::{Params, WholeEstate};

/// How much is removed.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Extent {
    /// Remove its devices, gateways and groups as well. Without this an estate that has some stays.
    #[serde(default)]
    everything: bool,
}

/// Removes an estate: its people lose their access, its tokens end, and its messages are deleted within minutes. Its entries in
/// the audit log are kept as long as all others.
#[utoipa::path(delete, path = "/estates/{estate}", tag = "estates",
    extensions(("x-right" = json!("people"))), params(Extent),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_estate(
    State(app): State<App>,
    estate: WholeEstate,
    Params(extent): Params<Extent>,
) -> Result<StatusCode, Refusal> {
    let Holdings { devices, gateways, groups } = app.store.holdings(estate.id).await?;
    if !extent.everything && devices + gateways + groups > 0 {
        let problem = Problem::new(409, "in_use", "The estate is not empty");
        let count = |n: i64, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let [devices, gateways, groups] =
            [count(devices, "device"), count(gateways, "gateway"), count(groups, "group")];
        let what = format!("it has {devices}, {gateways} and {groups}");
        return Err(problem.detail(format!("{what}: remove them first, or say everything=true")).into());
    }
    if app.store.estate_outlines().await?.len() < 2 {
        return Err(only_one());
    }
    estate.audit().object(format!("estate {}", estate.access.slug)).note("the estate was removed");
    empty(&app, &estate).await?;
    app.outlets.end_all_of(estate.id).await;
    if !app.store.remove_estate(estate.id).await? {
        return Err(only_one());
    }
    app.directory.remove_estate(estate.id);
    tracing::info!("the estate {} was removed by {}", estate.access.slug, estate.person);
    Ok(StatusCode::NO_CONTENT)
}

fn only_one() -> Refusal {
    Problem::new(409, "in_use", "An installation keeps an estate").detail("it is the only one").into()
}

/// Takes groups, devices and gateways away. The engine first, so that it writes nothing more for them afterwards.
async fn empty(app: &App, estate: &WholeEstate) -> Result<(), Refusal> {
    for group in app.store.groups(estate.id).await? {
        let eui = group.config.group;
        app.network.command(Command::RemoveGroup(eui)).await;
        app.directory.remove_device(eui);
        app.store.remove_group(estate.id, eui).await?;
    }
    let rows = app.store.devices(estate.id, &DeviceQuery::default(), u32::MAX).await?;
    let euis: Vec<Eui64> = rows.iter().map(|row| row.dev_eui).collect();
    for eui in &euis {
        app.network.command(Command::RemoveDevice(*eui)).await;
        app.directory.remove_device(*eui);
        app.condition.release(*eui);
    }
    app.store.remove_devices(estate.id, &euis).await?;
    for row in app.store.gateways(estate.id, "", u32::MAX).await? {
        let eui = row.gateway.eui;
        app.store.remove_gateway(estate.id, eui).await?;
        app.network.command(Command::RemoveGateway(eui)).await;
        app.presence.remove(eui);
        app.gateway_services.credentials.forget(eui);
        app.gateway_services.lns.connections.end(eui);
    }
    Ok(())
}
