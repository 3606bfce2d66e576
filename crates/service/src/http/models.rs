//! Models and their decoders.

use api::Page;
use api::model::{Model, PutModel};
use api::problem::Problem;
use axum::extract::State;
use lorawan::Eui64;
use payload::{Limits, Script};
use store::DeviceQuery;

use super::App;
use super::changing::retell;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, Paging, Params, PathName, page};
use super::profiles::compare;

/// An estate's models, by short name.
#[utoipa::path(get, path = "/estates/{estate}/models", tag = "models", security(("token" = [])),
    params(("estate" = String, Path), Paging), responses((status = 200, body = Page<Model>)))]
pub async fn list_models(
    State(app): State<App>,
    estate: InEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Model>> {
    let limit = paging.limit()?;
    let rows = app.store.models(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |model| model.slug.clone(), |model| model)))
}

/// One model.
#[utoipa::path(get, path = "/estates/{estate}/models/{model}", tag = "models", security(("token" = [])),
    params(("estate" = String, Path), ("model" = String, Path)),
    responses((status = 200, body = Model), (status = 404, body = Problem)))]
pub async fn show_model(State(app): State<App>, estate: InEstate, PathName(slug): PathName) -> Answer<Model> {
    app.store.model(estate.id, &slug).await?.map(Json).ok_or_else(|| not_found("model", slug))
}

/// Adds a model or replaces it; devices of it follow what it says of the radio. A decoder that does not load is refused, and nothing is changed.
#[utoipa::path(put, path = "/estates/{estate}/models/{model}", tag = "models", security(("token" = [])),
    params(("estate" = String, Path), ("model" = String, Path)), request_body = PutModel,
    responses((status = 200, body = Model), (status = 422, body = Problem)))]
pub async fn put_model(
    State(app): State<App>,
    estate: InEstate,
    PathName(slug): PathName,
    Json(model): Json<PutModel>,
) -> Answer<Model> {
    let slug = api::problem::slug("model", &slug)?;
    let model = model.check()?;
    let script = match model.decoder.clone() {
        None => None,
        Some(source) => Some(load(source).await?),
    };
    let which = DeviceQuery { model: Some(slug.clone()), ..DeviceQuery::default() };
    let devices = app.store.devices(estate.id, &which, u32::MAX).await?;
    let before = app.store.premises(estate.id).await?;
    let mut after = before.clone();
    after.models.insert(slug.clone(), model.radio.clone());
    let effect = compare(&devices, &before, &after)?;
    let stored = app.store.put_model(estate.id, &slug, &model).await?;
    app.directory.put_model(estate.id, &stored, script.map(Ok));
    let euis: Vec<Eui64> = effect.devices.iter().map(|device| device.dev_eui).collect();
    retell(&app, &euis).await?;
    Ok(Json(stored))
}

/// Loads a script, away from the threads that serve: it runs once.
async fn load(source: String) -> Result<Script, Refusal> {
    let loaded = tokio::task::spawn_blocking(move || Script::new(source, Limits::default())).await;
    let why = match loaded {
        Ok(Ok(script)) => return Ok(script),
        Ok(Err(why)) => why.to_string(),
        Err(why) => why.to_string(),
    };
    let problem = Problem::new(422, "bad_decoder", "The decoder cannot be used");
    Err(Refusal(problem.field("decoder").detail(why)))
}
