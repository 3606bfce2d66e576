//! The workbench: drafts of decoders tried, and editions of models compared and brought back.

use api::Page;
use api::diagnosis::plausibility::ModelDoubt;
use api::model::Model;
use api::model::draft::{Draft, Tried};
use api::model::edition::{Comparison, Edition, WholeEdition};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use domain::Check;
use domain::model::diff;
use domain::model::draft::MOST_UPLINKS;
use serde::Deserialize;

use crate::decoding::workbench;
use crate::decoding::workbench::Case;
use crate::history::summaries::doubts_of;
use crate::http::app::App;
use crate::http::devices::outbox::known;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathModel, PathName, WholeEstate, page};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::models::model::{model_of, put};
use crate::http::models::scripts::blocking;
use crate::http::models::turns::Purpose;

/// Devices whose last uplinks a draft is tried on: those heard last.
const DEVICES: usize = 64;

/// Tries a draft of a decoder on payloads and on stored uplinks, beside the current decoder. Nothing is changed.
#[utoipa::path(post, path = "/estates/{estate}/models/{model}/try", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path)), request_body = Draft,
    responses((status = 200, body = Tried), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn try_draft(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    Json(draft): Json<Draft>,
) -> Answer<Tried> {
    let given = draft.check()?;
    let about = model_of(&app, &estate, &slug).await?.model.about;
    let version = draft.version.clone().unwrap_or_default();
    let about = workbench::with_draft(about, &draft).ok_or_else(|| {
        bad_field("version", &version, "one of the model's own decoders is wanted, as its versions are told in words")
    })?;
    let mut cases: Vec<Case> = given.into_iter().map(Case::given).collect();
    for id in &draft.messages {
        let message = app.store.message(estate.id, id).await?.ok_or_else(|| not_found("message", id))?;
        let case = Case::stored(message);
        cases.push(case.ok_or_else(|| bad_field("messages", id, "an uplink with a payload is wanted"))?);
    }
    if draft.last > 0 {
        let mut devices = match draft.device.as_deref() {
            Some(text) => vec![known(&app, &estate, domain::input::eui("device", text)?)?.dev_eui],
            None => app.directory.devices_of(estate.id, &slug, Some(&version)),
        };
        devices.truncate(DEVICES);
        // Some uplinks of each device, so that a device that sends much does not crowd out the others.
        let each = (2 * draft.last).div_ceil(u32::try_from(devices.len()).unwrap_or(1).max(1)).clamp(4, MOST_UPLINKS);
        let stored = app.store.last_uplinks(estate.id, &devices, each).await?;
        let known: Vec<Option<String>> = cases.iter().map(|case| case.message.clone()).collect();
        let stored = stored.into_iter().filter(|message| !known.contains(&Some(message.id.clone())));
        cases.extend(stored.filter_map(Case::stored).take(draft.last as usize));
    }
    let in_force = app.directory.decoder_for(estate.id, &slug, &version);
    let run = move || workbench::run(&draft, &about, in_force.as_ref(), cases);
    Ok(Json(app.run_scripts(&estate, Purpose::Tests, run).await?))
}

/// What looks wrong with a model's readings, from the last day's values of its devices.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}/doubts", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path), Choice, Paging), responses((status = 200, body = Page<ModelDoubt>)))]
pub(crate) async fn list_doubts(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<ModelDoubt>> {
    let all = doubts_of(&app.store, &app.directory, estate.id, &slug).await?;
    Ok(Json(choice.page_of(all, &paging, |one| one.doubt.reading.clone())?))
}

/// A model's editions, newest first.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}/editions", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path), Paging),
    responses((status = 200, body = Page<Edition>), (status = 404, body = Problem)))]
pub(crate) async fn list_editions(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    Params(paging): Params<Paging>,
) -> Answer<Page<Edition>> {
    model_of(&app, &estate, &slug).await?;
    let limit = paging.limit()?;
    let before = match paging.after() {
        "" => u32::MAX,
        text => number(text)?,
    };
    let rows = app.store.editions(estate.id, &slug, before, limit + 1).await?;
    Ok(Json(page(rows, limit, |edition| edition.number.to_string(), |edition| edition)))
}

fn number(text: &str) -> Result<u32, Refusal> {
    text.parse().map_err(|_| bad_field("edition", text, "the number of an edition is wanted").into())
}

async fn edition(app: &App, estate: &WholeEstate, slug: &str, text: &str) -> Result<WholeEdition, Refusal> {
    let found = app.store.edition(estate.id, slug, number(text)?).await?;
    found.ok_or_else(|| not_found("edition", format!("{text} of {slug}")))
}

/// One edition of a model.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}/editions/{edition}", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path), ("edition" = u32, Path)),
    responses((status = 200, body = WholeEdition), (status = 404, body = Problem)))]
pub(crate) async fn show_edition(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    PathName(text): PathName,
) -> Answer<WholeEdition> {
    edition(&app, &estate, &slug, &text).await.map(Json)
}

/// The two editions.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// The older one, by number.
    from: u32,
    /// The newer one.
    to: u32,
}

/// How two editions of a model differ, line by line.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}/comparison", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path), Which),
    responses((status = 200, body = Comparison), (status = 404, body = Problem)))]
pub(crate) async fn compare_editions(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    Params(which): Params<Which>,
) -> Answer<Comparison> {
    let old = edition(&app, &estate, &slug, &which.from.to_string()).await?;
    let new = edition(&app, &estate, &slug, &which.to.to_string()).await?;
    Ok(Json(blocking(move || diff::compare((which.from, &old.about), (which.to, &new.about))).await?))
}

/// Restores an edition, as a new edition.
#[utoipa::path(post, path = "/estates/{estate}/models/{model}/editions/{edition}/restore", tag = "decoders",
    extensions(("x-right" = json!("decoders"))), params(("model" = String, Path), ("edition" = u32, Path)),
    responses((status = 200, body = Model), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn restore_edition(
    State(app): State<App>,
    estate: WholeEstate,
    PathModel(slug): PathModel,
    PathName(text): PathName,
) -> Answer<Model> {
    let old = edition(&app, &estate, &slug, &text).await?;
    put(&app, &estate, &slug, old.about, &format!("edition {text} brought back")).await
}
