//! Multicast groups.

use api::Page;
use api::device::group::{ChangeGroup, Group, GroupKeys, Member, NewGroup};
use api::problem::Problem;
use api::radio::settings::Class;
use axum::extract::State;
use axum::http::StatusCode;
use domain::Check;
use domain::device::group::changed_members;
use domain::radio::settings::wire_class;
use engine::Command;
use lorawan::crypto::SessionKeys;
use lorawan::region::Region;
use lorawan::{AesKey, Eui64};
use store::{DeviceContext, GroupIdentity, GroupRow};

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, WholeEstate, revision};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;

async fn show(app: &App, row: GroupRow) -> Group {
    let status = app.network.group(row.config.group).await;
    let unreached = status.as_ref().map(|s| s.unreached.clone()).unwrap_or_default();
    let member = |eui: &Eui64| Member {
        eui: *eui,
        name: app.directory.device(*eui).map_or_else(|| eui.to_string(), |device| device.name),
        reached: !unreached.contains(eui),
    };
    let gateway = |eui: &Eui64| app.presence.known(*eui).map_or_else(|| eui.to_string(), |known| known.name);
    let class: Class = wire_class(row.config.class);
    Group {
        revision: revision(&settings(&row)),
        eui: row.config.group,
        name: row.name,
        fleet: row.fleet,
        region: row.config.region,
        class,
        address: row.config.address,
        frequency_hz: row.config.frequency_hz,
        data_rate: row.config.data_rate,
        ping_periodicity: (class == Class::B).then_some(row.config.ping_periodicity),
        next_counter_down: status.as_ref().map_or(row.next_down, |s| s.next_down),
        members: row.config.members.iter().map(member).collect(),
        gateways: status.iter().flat_map(|s| s.gateways.iter().map(gateway)).collect(),
        added_at: row.added_at,
    }
}

/// Members have to be devices of the estate that listen as the group does.
async fn check_members(
    app: &App,
    estate: &WholeEstate,
    members: &[Eui64],
    class: Class,
    region: Region,
) -> Result<(), Refusal> {
    for eui in members {
        let refused = |why: String| Refusal::from(api::problem::bad_field("members", &eui.to_string(), why));
        let Some(device) = app.store.device(estate.id, *eui).await? else {
            return Err(refused("there is no such device in this estate".into()));
        };
        let own = device.radio.class.unwrap_or(Class::A);
        if device.region != region || own != class {
            let (own, class) = (own.name(), class.name());
            return Err(refused(format!(
                "{} is of class {own} in {}; the group is of class {class} in {region}",
                device.name, device.region
            )));
        }
    }
    Ok(())
}

async fn put(app: &App, row: &GroupRow) {
    let config = Box::new(row.config.clone());
    app.network.command(Command::PutGroup { config, next_down: row.next_down, outbox: Vec::new() }).await;
}

async fn row(app: &App, estate: &WholeEstate, eui: Eui64) -> Result<GroupRow, Refusal> {
    app.store.group(estate.id, eui).await?.ok_or_else(|| not_found("group", eui))
}

/// What can be changed, for its revision and for the audit log.
fn settings(row: &GroupRow) -> serde_json::Value {
    let members: Vec<String> = row.config.members.iter().map(ToString::to_string).collect();
    serde_json::json!({ "name": row.name, "members": members.join(", ") })
}

/// An estate's multicast groups, by name.
#[utoipa::path(get, path = "/estates/{estate}/groups", tag = "groups",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<Group>), (status = 422, body = Problem)))]
pub(crate) async fn list_groups(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Group>> {
    let rows = app.store.groups(estate.id).await?;
    let mut all = Vec::with_capacity(rows.len());
    for row in rows {
        all.push(show(&app, row).await);
    }
    Ok(Json(choice.page_of(all, &paging, |group: &Group| group.eui.to_string())?))
}

/// Makes a multicast group. Its downlinks go through the outbox of its EUI.
#[utoipa::path(post, path = "/estates/{estate}/groups", tag = "groups",
    extensions(("x-right" = json!("devices"))), request_body = NewGroup,
    responses((status = 201, body = Group), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_group(State(app): State<App>, estate: WholeEstate, Json(new): Json<NewGroup>) -> Made<Group> {
    let new = new.check()?;
    check_members(&app, &estate, &new.members, new.class, new.region).await?;
    let identity = GroupIdentity {
        // Locally administered, and at random: nobody else's.
        group: Eui64((rand::random::<u64>() & 0x00ff_ffff_ffff_ffff) | 0x0600_0000_0000_0000),
        address: new.address.unwrap_or_else(|| app.net_id.dev_addr(rand::random())),
        keys: SessionKeys {
            nwk_s_key: new.nwk_s_key.unwrap_or_else(|| AesKey(rand::random())),
            app_s_key: new.app_s_key.unwrap_or_else(|| AesKey(rand::random())),
        },
    };
    if let Err(field) = app.store.add_group(estate.id, &new, &identity).await? {
        let allowed = "there is no such fleet in this estate";
        return Err(api::problem::bad_field(field, &new.fleet, allowed).into());
    }
    app.directory.put_device(DeviceContext {
        hardware: None,
        firmware: None,
        dev_eui: identity.group,
        estate_id: estate.id,
        fleet: new.fleet,
        name: new.name,
        model: None,
        region: new.region,
        last_heard: None,
        usual_interval_s: None,
    });
    let row = row(&app, &estate, identity.group).await?;
    estate.audit().object(format!("group {} ({})", row.name, identity.group));
    put(&app, &row).await;
    let at = estate.path(format_args!("groups/{}", identity.group));
    Ok(Created { at, made: show(&app, row).await })
}

/// One group.
#[utoipa::path(get, path = "/estates/{estate}/groups/{eui}", tag = "groups",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = Group), (status = 404, body = Problem)))]
pub(crate) async fn show_group(State(app): State<App>, estate: WholeEstate, PathEui(eui): PathEui) -> Answer<Group> {
    let row = row(&app, &estate, eui).await?;
    Ok(Json(show(&app, row).await))
}

/// Changes a group in part: its name, and who its members are.
#[utoipa::path(patch, path = "/estates/{estate}/groups/{eui}", tag = "groups",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)), request_body = ChangeGroup,
    responses((status = 200, body = Group), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_group(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(change): Json<ChangeGroup>,
) -> Answer<Group> {
    let before = row(&app, &estate, eui).await?;
    estate.still(&settings(&before))?;
    let members = changed_members(&change, &before.config.members)?;
    let name = change.name.map_or(Ok(before.name.clone()), |name| domain::input::name("name", &name))?;
    check_members(&app, &estate, &members, wire_class(before.config.class), before.config.region).await?;
    app.store.change_group(eui, &name, &members).await?;
    app.directory.rename(eui, &name);
    let row = row(&app, &estate, eui).await?;
    estate.audit().object(format!("group {}", before.name)).changed(&settings(&before), &settings(&row));
    put(&app, &row).await;
    Ok(Json(show(&app, row).await))
}

/// A group's address and keys, to be set in its members. Each request is recorded in the audit log.
#[utoipa::path(get, path = "/estates/{estate}/groups/{eui}/keys", tag = "groups",
    extensions(("x-right" = json!("keys"))),
    params(("eui" = String, Path)),
    responses((status = 200, body = GroupKeys), (status = 404, body = Problem)))]
pub(crate) async fn show_group_keys(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Answer<GroupKeys> {
    let row = row(&app, &estate, eui).await?;
    estate.audit().object(format!("keys of group {} ({eui})", row.name));
    let keys = row.config.keys;
    Ok(Json(GroupKeys {
        address: row.config.address,
        nwk_s_key: keys.nwk_s_key.to_hex().into(),
        app_s_key: keys.app_s_key.to_hex().into(),
    }))
}

/// Removes a group with its outbox; its members stay.
#[utoipa::path(delete, path = "/estates/{estate}/groups/{eui}", tag = "groups",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_group(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    let before = row(&app, &estate, eui).await?;
    estate.still(&settings(&before))?;
    estate.audit().object(format!("group {} ({eui})", before.name));
    app.network.command(Command::RemoveGroup(eui)).await;
    app.directory.remove_device(eui);
    app.store.remove_group(estate.id, eui).await?;
    Ok(StatusCode::NO_CONTENT)
}
