//! Kinds of receiver: what devices of an area have in common.

use api::Page;
use api::coverage::site::{NewReceiver, Receiver, ReceiverChange, ReceiverRadio};
use api::problem::{FieldProblems, Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use domain::coverage::site;
use store::PlanKind;

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, revision};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;
use crate::planning::sites::receivers;

/// Kinds of receiver of an estate, at most.
const MOST: usize = 200;

/// An estate's kinds of receiver by name.
#[utoipa::path(get, path = "/estates/{estate}/receivers", tag = "coverage",
    extensions(("x-right" = json!("view"))),
    params(Choice, Paging), responses((status = 200, body = Page<Receiver>), (status = 422, body = Problem)))]
pub(crate) async fn list_receivers(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Receiver>> {
    let all = receivers(&app.store, estate.id).await?.into_iter().map(with_revision).collect();
    Ok(Json(choice.page_of(all, &paging, |one: &Receiver| one.name.clone())?))
}

fn with_revision(one: NewReceiver) -> Receiver {
    Receiver { revision: revision(&one), name: one.name, radio: one.radio }
}

pub(super) async fn found(app: &App, estate: &WholeEstate, name: &str) -> Result<NewReceiver, Refusal> {
    let mut all = receivers(&app.store, estate.id).await?.into_iter();
    all.find(|one| one.name == name).ok_or_else(|| not_found("receiver", name))
}

/// One kind of receiver.
#[utoipa::path(get, path = "/estates/{estate}/receivers/{receiver}", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("receiver" = String, Path)),
    responses((status = 200, body = Receiver), (status = 404, body = Problem)))]
pub(crate) async fn show_receiver(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Answer<Receiver> {
    found(&app, &estate, &name).await.map(with_revision).map(Json)
}

fn checked(name: &str, radio: ReceiverRadio) -> Result<NewReceiver, Problem> {
    let mut wrong = FieldProblems::default();
    let name = wrong.take(domain::input::name("name", name)).unwrap_or_default();
    wrong.take_inside("radio", site::terminal(&radio));
    wrong.end()?;
    Ok(NewReceiver { name, radio })
}

/// Adds a kind of receiver.
#[utoipa::path(post, path = "/estates/{estate}/receivers", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = NewReceiver,
    responses((status = 201, body = Receiver), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_receiver(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewReceiver>,
) -> Made<Receiver> {
    let new = checked(&new.name, new.radio)?;
    let others = receivers(&app.store, estate.id).await?;
    if others.iter().any(|one| one.name == new.name) {
        return Err(bad_field("name", &new.name, "another kind of receiver has this name").into());
    }
    if others.len() >= MOST {
        return Err(bad_field("name", &new.name, format!("at most {MOST} kinds are kept: remove some first")).into());
    }
    app.store.add_plan(estate.id, PlanKind::Receiver, (&new.name, &new)).await?;
    estate.audit().object(format!("receiver {}", new.name)).made(&new);
    Ok(Created { at: estate.path_of("receivers", &new.name), made: with_revision(new) })
}

/// Changes a kind of receiver in part.
#[utoipa::path(patch, path = "/estates/{estate}/receivers/{receiver}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("receiver" = String, Path)), request_body = ReceiverChange,
    responses((status = 200, body = Receiver), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_receiver(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
    Json(change): Json<ReceiverChange>,
) -> Answer<Receiver> {
    let was = found(&app, &estate, &name).await?;
    estate.still(&was)?;
    let radio = ReceiverRadio {
        height_m: change.height_m.unwrap_or(was.radio.height_m),
        gain_dbi: change.gain_dbi.unwrap_or(was.radio.gain_dbi),
        power_dbm: change.power_dbm.unwrap_or(was.radio.power_dbm),
        penetration_loss_db: change.penetration_loss_db.unwrap_or(was.radio.penetration_loss_db),
        noise_figure_db: change.noise_figure_db.unwrap_or(was.radio.noise_figure_db),
    };
    let after = checked(&name, radio)?;
    app.store.put_plan(estate.id, PlanKind::Receiver, (&name, &after)).await?;
    estate.audit().object(format!("receiver {name}")).changed(&was, &after);
    Ok(Json(with_revision(after)))
}

/// Removes a kind of receiver; `outdoors` and `indoors` are set back to their first values. Forecasts stay as they are.
#[utoipa::path(delete, path = "/estates/{estate}/receivers/{receiver}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("receiver" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_receiver(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let was = found(&app, &estate, &name).await?;
    estate.still(&was)?;
    if !app.store.remove_plan(estate.id, PlanKind::Receiver, &name).await? {
        let problem = Problem::new(409, "in_use", "This kind of receiver cannot be removed");
        return Err(problem.detail("`outdoors` and `indoors` can only be changed; it has its first values").into());
    }
    estate.audit().object(format!("receiver {name}")).removed(&was);
    Ok(StatusCode::NO_CONTENT)
}
