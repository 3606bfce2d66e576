//! Models and their decoders.

use api::Page;
use api::model::{Model, PutModel};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use domain::model::request;
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceQuery, ModelRow, Saved};

use crate::decoding::catalogue::load;
use crate::http::app::App;
use crate::http::devices::change::retell;
use crate::http::devices::profiles::compare;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, page, revision};
use crate::http::json::{Answer, Json};
use crate::http::listing::{ALL, Choice, whole};
use crate::http::models::turns::Purpose;

/// An estate's models, by short name.
#[utoipa::path(get, path = "/estates/{estate}/models", tag = "models",
    extensions(("x-right" = json!("view"))),
    params(Choice, Paging), responses((status = 200, body = Page<Model>), (status = 422, body = Problem)))]
pub(crate) async fn list_models(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Model>> {
    if !choice.is_plain() {
        let all = whole(app.store.models(estate.id, "", ALL).await?)?;
        let all = all.into_iter().map(|row| with_revision(row).model).collect();
        return Ok(Json(choice.page_of(all, &paging, |model: &Model| model.slug.clone())?));
    }
    let limit = paging.limit()?;
    let rows = app.store.models(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |row| row.model.slug.clone(), |row| with_revision(row).model)))
}

/// One model.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}", tag = "models",
    extensions(("x-right" = json!("view"))),
    params(("model" = String, Path)),
    responses((status = 200, body = Model), (status = 404, body = Problem)))]
pub(crate) async fn show_model(State(app): State<App>, estate: WholeEstate, PathName(slug): PathName) -> Answer<Model> {
    model_of(&app, &estate, &slug).await.map(|row| Json(row.model))
}

/// The reason for a change.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Note {
    /// At most 300 characters, shown with the edition.
    note: Option<String>,
}

/// Adds or replaces a model; its devices follow its radio settings. A decoder that does not load is refused; one that
/// fails the model's own tests is kept, marked as flawed, and not used. The earlier model stays as an edition.
#[utoipa::path(put, path = "/estates/{estate}/models/{model}", tag = "models",
    extensions(("x-right" = json!("decoders"))),
    params(("model" = String, Path), Note), request_body = PutModel,
    responses((status = 200, body = Model), (status = 422, body = Problem)))]
pub(crate) async fn put_model(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Params(note): Params<Note>,
    Json(model): Json<PutModel>,
) -> Answer<Model> {
    let slug = domain::input::slug("model", &slug)?;
    put(&app, &estate, &slug, model, note.note.as_deref().unwrap_or_default()).await
}

/// Stores a model and uses it.
pub(crate) async fn put(app: &App, estate: &WholeEstate, slug: &str, model: PutModel, note: &str) -> Answer<Model> {
    let model = request::check(model)?;
    if note.chars().count() > 300 {
        return Err(bad_field("note", note, "at most 300 characters are allowed").into());
    }
    let about = model.clone();
    let (decoders, flaw) = app.run_scripts(estate, Purpose::Tests, move || load(&about)).await?;
    // A script that cannot be loaded is most likely a mistake; one that fails a test may be work in progress.
    if let Some(unreadable) = flaw.as_ref().filter(|flaw| !flaw.loads) {
        let problem = Problem::new(422, "bad_decoder", "The decoder cannot be used");
        return Err(Refusal(problem.field("decoder").detail(unreadable.why.clone())));
    }
    let flaw = flaw.map(|flaw| flaw.why);
    let which = DeviceQuery { model: Some(slug.to_owned()), ..DeviceQuery::default() };
    let devices = app.store.devices(estate.id, &which, u32::MAX).await?;
    let before = app.store.defaults(estate.id).await?;
    let mut after = before.clone();
    after.models.insert(slug.to_owned(), model.radio.clone().into());
    let effect = compare(&devices, &before, &after)?;
    let old = app.store.model(estate.id, slug).await?.map(|row| row.model.about);
    match &old {
        Some(old) => {
            estate.still(old)?;
            estate.audit().object(format!("model {slug}")).changed(old, &model)
        }
        None => estate.audit().object(format!("model {slug}")).made(&model),
    };
    let saved = Saved { by: &estate.person, note: note.trim() };
    app.store.put_model(estate.id, slug, &model, flaw.as_deref(), saved).await?;
    app.directory.put_model(estate.id, slug, decoders);
    let euis: Vec<Eui64> = effect.devices.iter().map(|device| device.dev_eui).collect();
    retell(app, &euis).await?;
    model_of(app, estate, slug).await.map(|row| Json(row.model))
}

/// A model as it is.
pub(crate) async fn model_of(app: &App, estate: &WholeEstate, slug: &str) -> Result<ModelRow, Refusal> {
    app.store.model(estate.id, slug).await?.map(with_revision).ok_or_else(|| not_found("model", slug))
}

fn with_revision(mut row: ModelRow) -> ModelRow {
    row.model.revision = revision(&row.model.about);
    row
}

/// Removes a model that no device uses.
#[utoipa::path(delete, path = "/estates/{estate}/models/{model}", tag = "models",
    extensions(("x-right" = json!("decoders"))),
    params(("model" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_model(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Result<StatusCode, Refusal> {
    estate.still(&model_of(&app, &estate, &slug).await?.model.about)?;
    estate.audit().object(format!("model {slug}"));
    if !app.store.remove_model(estate.id, &slug).await? {
        return Err(not_found("model", slug));
    }
    app.directory.remove_model(estate.id, &slug);
    Ok(StatusCode::NO_CONTENT)
}
