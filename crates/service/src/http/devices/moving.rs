//! Moving a device to another estate.

use api::device::change::{MoveDevice, MovedDevice};
use api::people::rights::Right;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use domain::grants::Visibility;
use engine::{Command, OutboxId};
use store::Moved;

use crate::http::app::App;
use crate::http::auth::authenticate;
use crate::http::devices::change::retell;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{PathEui, WholeEstate};
use crate::http::json::{Answer, Json};

/// Moves a device to a fleet of another estate. Its keys, session and counters go along, so that it need not join again; model and
/// radio profile as well, where there are some of the same short names. Its messages stay where they were heard, its readings
/// begin anew, and shares, tokens and groups that were about it end.
#[utoipa::path(post, path = "/estates/{estate}/devices/{eui}/move", tag = "devices",
    extensions(("x-right" = json!("devices"))), params(("eui" = String, Path)), request_body = MoveDevice,
    responses((status = 200, body = MovedDevice), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn move_device(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(wanted): Json<MoveDevice>,
) -> Answer<MovedDevice> {
    let before = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    if !matches!(estate.context.visibility, Visibility::Whole) {
        return Err(not_found("device", eui));
    }
    let there = target(&app, &estate, &wanted).await?;
    for id in app.network.outbox_line(eui).await {
        app.network.cancel(eui, OutboxId(id.0)).await;
    }
    let moved = app.store.move_device((estate.id, there), eui, &wanted.fleet).await?;
    let Some(moved) = moved else {
        return Err(bad_field("fleet", &wanted.fleet, format!("{} has no such fleet", wanted.estate)).into());
    };
    estate.audit().object(format!("device {} ({eui})", before.name)).note(format!("moved to {}", wanted.estate));
    if let Some(mut device) = app.directory.device(eui) {
        (device.estate_id, device.fleet, device.model) = (there, wanted.fleet.clone(), moved.model.clone());
        app.directory.remove_device(eui);
        app.directory.put_device(device);
    }
    // Groups first: the engine must not send to a member that is gone.
    if moved.groups > 0 {
        for group in app.store.groups(estate.id).await? {
            let (next_down, outbox) = (group.next_down, Vec::new());
            app.network.command(Command::PutGroup { config: Box::new(group.config), next_down, outbox }).await;
        }
    }
    retell(&app, &[eui]).await?;
    Ok(Json(MovedDevice {
        estate: wanted.estate,
        dev_eui: eui,
        name: before.name,
        left_behind: left_behind(&moved, before.model.as_deref(), before.profile.as_deref()),
        model: moved.model,
        profile: moved.profile,
    }))
}

/// The estate that it moves to, if the caller may register devices there.
async fn target(app: &App, estate: &WholeEstate, wanted: &MoveDevice) -> Result<u32, Refusal> {
    if wanted.estate == estate.access.slug {
        let allowed = "another estate is wanted; a device changes its fleet by PATCH";
        return Err(bad_field("estate", &wanted.estate, allowed).into());
    }
    let access = authenticate::access(app, &estate.context.who, &wanted.estate).await?;
    let access = access.ok_or_else(|| not_found("estate", &wanted.estate))?;
    if access.grants.visibility(Right::Devices) != Visibility::Whole {
        let problem = Problem::new(403, "not_allowed", "This needs the right to register devices in both estates");
        return Err(problem.detail(format!("you do not have it in {}", wanted.estate)).into());
    }
    Ok(access.estate_id)
}

/// What did not come along.
fn left_behind(moved: &Moved, model: Option<&str>, profile: Option<&str>) -> Vec<String> {
    let missing = |what: &str, had: Option<&str>, has: &Option<String>| {
        had.filter(|_| has.is_none()).map(|slug| format!("the {what} {slug}: there is none of that name"))
    };
    let ended = |count: u64, one: &str, many: &str| match count {
        0 => None,
        1 => Some(format!("one {one}")),
        n => Some(format!("{n} {many}")),
    };
    let all = [
        Some("messages: they stay where they were heard".to_owned()),
        Some("readings: their history begins anew".to_owned()),
        missing("model", model, &moved.model),
        missing("radio profile", profile, &moved.profile),
        ended(moved.shares, "share of it", "shares of it"),
        ended(moved.tokens, "token that reached it alone", "tokens that reached it alone"),
        ended(moved.groups, "membership of a group", "memberships of groups"),
        ended(moved.downlinks, "downlink that waited", "downlinks that waited"),
    ];
    all.into_iter().flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stays_behind_is_told() {
        let moved = Moved { model: None, profile: None, shares: 1, tokens: 0, groups: 2, downlinks: 0 };
        let told = left_behind(&moved, Some("probe"), None);
        assert_eq!(told.len(), 5);
        assert_eq!(told[2], "the model probe: there is none of that name");
        assert_eq!(told[3..], ["one share of it", "2 memberships of groups"]);
    }
}
