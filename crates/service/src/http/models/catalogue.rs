//! The catalogue: models imported from files, from git repositories, and as shipped.

use std::collections::HashSet;

use api::Page;
use api::model::PutModel;
use api::model::catalogue::{
    CatalogueOutcome, CatalogueSource, GitCatalogue, ModelFate, ModelOutcome, RefreshCatalogue, SourceKind,
};
use api::problem;
use api::problem::Problem;
use axum::extract::State;
use domain::device::register::ModelBase;
use domain::input;
use domain::model::catalogue;
use domain::model::catalogue::Entry;
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceQuery, ImportedModel, Source};

use crate::decoding::catalogue::{SHIPPED, load, plan, shipped};
use crate::http::app::App;
use crate::http::devices::change::retell;
use crate::http::devices::profiles::compare;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;
use crate::http::models::turns::Purpose;
use crate::http::upload::Upload;
use crate::import::{archive, git};

/// Models looked through at once.
const ALL: u32 = 100_000;

/// How files are imported.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct FilesOptions {
    /// The source's name; files sent again under the same name are a refresh.
    name: String,
    /// Only preview the result for each model.
    #[serde(default)]
    preview: bool,
}

/// Whether to write.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Preview {
    /// Only preview the result for each model.
    #[serde(default)]
    preview: bool,
}

/// The sources of imported models.
#[utoipa::path(get, path = "/estates/{estate}/catalogue", tag = "models",
    extensions(("x-right" = json!("view"))), params(Choice, Paging), responses((status = 200, body = Page<CatalogueSource>)))]
pub(crate) async fn list_sources(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<CatalogueSource>> {
    let all = app.store.catalogue_sources(estate.id).await?.into_iter().map(|(source, _)| source).collect();
    Ok(Json(choice.page_of(all, &paging, |one: &CatalogueSource| one.source.clone())?))
}

/// Imports the models in an archive (zip, tar or gzipped tar) of a catalogue's folder, or previews the result for each.
/// Models edited here stay.
#[utoipa::path(post, path = "/estates/{estate}/catalogue/files", tag = "models",
    extensions(("x-right" = json!("decoders"))),
    params(FilesOptions),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = CatalogueOutcome), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn import_files(
    State(app): State<App>,
    estate: WholeEstate,
    Params(options): Params<FilesOptions>,
    Upload { bytes, turn }: Upload,
) -> Answer<CatalogueOutcome> {
    let name = input::name("name", &options.name)?;
    let taken = name == SHIPPED || name.contains("://");
    if taken {
        return Err(problem::bad_field("name", &name, "that is the name of another kind of source").into());
    }
    let read = move || {
        let _turn = turn;
        archive::unpack(&bytes).and_then(|files| catalogue::read(&files))
    };
    let entries = blocking(read).await??;
    let source = Source { source: name, kind: SourceKind::Files, branch: None, revision: None };
    import(&app, &estate, source, entries, options.preview).await
}

/// Imports the models in a git repository, or previews the result for each. Models edited here stay.
#[utoipa::path(post, path = "/estates/{estate}/catalogue/git", tag = "models",
    extensions(("x-right" = json!("decoders"))), request_body = GitCatalogue,
    responses((status = 200, body = CatalogueOutcome), (status = 422, body = Problem)))]
pub(crate) async fn import_git(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<GitCatalogue>,
) -> Answer<CatalogueOutcome> {
    let address = git::check_address(&wanted.address)?;
    let branch = match wanted.branch.as_deref().map(str::trim).filter(|branch| !branch.is_empty()) {
        Some(branch) => Some(git::check_branch(branch)?),
        // A refresh stays on the branch it was on.
        None => {
            let known = app.store.catalogue_sources(estate.id).await?;
            known.into_iter().find(|(source, _)| source.source == address).and_then(|(_, branch)| branch)
        }
    };
    let fetched = git::fetch(&address, branch.as_deref(), &app.edge.catalogue_hosts).await?;
    let entries = blocking(move || catalogue::read(&fetched.files)).await??;
    let source = Source { source: address, kind: SourceKind::Git, branch, revision: Some(fetched.revision) };
    import(&app, &estate, source, entries, wanted.preview).await
}

/// Imports the models that come with the service, or previews the result for each.
#[utoipa::path(post, path = "/estates/{estate}/catalogue/shipped", tag = "models",
    extensions(("x-right" = json!("decoders"))),
    params(Preview), responses((status = 200, body = CatalogueOutcome)))]
pub(crate) async fn import_shipped(
    State(app): State<App>,
    estate: WholeEstate,
    Params(options): Params<Preview>,
) -> Answer<CatalogueOutcome> {
    let entries = catalogue::read(&shipped())?;
    let source = Source { source: SHIPPED.into(), kind: SourceKind::Shipped, branch: None, revision: None };
    import(&app, &estate, source, entries, options.preview).await
}

async fn import(
    app: &App,
    estate: &WholeEstate,
    source: Source,
    entries: Vec<Entry>,
    preview: bool,
) -> Answer<CatalogueOutcome> {
    let here = app.store.models(estate.id, "", ALL).await?;
    let name = source.source.clone();
    let of = name.clone();
    let (mut models, writes) = app.run_scripts(estate, Purpose::Tests, move || plan(&of, entries, &here)).await?;
    let (writes, retold) = fitting(app, estate, writes, &mut models).await?;
    if preview {
        estate.audit().note("looked at only");
    } else {
        estate.audit().object(format!("catalogue {name}")).note(format!("{} models written", writes.len()));
        // Before anything is written: this may be refused.
        let models: Vec<(String, PutModel)> = writes.iter().map(|w| (w.slug.clone(), w.model.clone())).collect();
        let load = move || models.into_iter().map(|(slug, model)| (slug, load(&model).0)).collect::<Vec<_>>();
        let loaded = app.run_scripts(estate, Purpose::Tests, load).await?;
        app.store.put_catalogue(estate.id, &source, &writes, &estate.person).await?;
        for (slug, decoders) in loaded {
            app.directory.put_model(estate.id, &slug, decoders);
        }
        retell(app, &retold).await?;
    }
    let Source { source, revision, .. } = source;
    Ok(Json(CatalogueOutcome { source, revision, models, done: !preview }))
}

/// Those whose radio suits the devices that are of them, and the devices that it changes for.
async fn fitting(
    app: &App,
    estate: &WholeEstate,
    writes: Vec<ImportedModel>,
    models: &mut [ModelOutcome],
) -> Result<(Vec<ImportedModel>, Vec<Eui64>), Refusal> {
    let mut defaults = app.store.defaults(estate.id).await?;
    let (mut retold, mut unfit) = (Vec::new(), HashSet::new());
    for write in &writes {
        let Some(before) = defaults.models.get(&write.slug).filter(|base| base.radio != write.model.radio) else {
            continue;
        };
        let before = before.clone();
        let which = DeviceQuery { model: Some(write.slug.clone()), ..DeviceQuery::default() };
        let devices = app.store.devices(estate.id, &which, u32::MAX).await?;
        let mut after = defaults.clone();
        after.models.insert(write.slug.clone(), ModelBase { radio: write.model.radio.clone(), ..before });
        match compare(&devices, &defaults, &after) {
            Ok(effect) => {
                retold.extend(effect.devices.iter().map(|device| device.dev_eui));
                defaults = after;
            }
            Err(problem) => {
                unfit.insert(write.slug.clone());
                if let Some(outcome) = models.iter_mut().find(|outcome| outcome.slug == write.slug) {
                    (outcome.fate, outcome.problem) = (ModelFate::Bad, Some(problem));
                }
            }
        }
    }
    Ok((writes.into_iter().filter(|write| !unfit.contains(&write.slug)).collect(), retold))
}

/// Imports a catalogue again from where it came; files have to be sent in again.
#[utoipa::path(post, path = "/estates/{estate}/catalogue/refresh", tag = "models",
    extensions(("x-right" = json!("decoders"))), request_body = RefreshCatalogue,
    responses((status = 200, body = CatalogueOutcome), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn refresh(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<RefreshCatalogue>,
) -> Answer<CatalogueOutcome> {
    let RefreshCatalogue { source, preview } = wanted;
    let known = app.store.catalogue_sources(estate.id).await?;
    let found = known.into_iter().find(|(known, _)| known.source == source);
    match found.map(|(known, _)| known.kind) {
        None => Err(not_found("catalogue", source)),
        Some(SourceKind::Shipped) => import_shipped(State(app), estate, Params(Preview { preview })).await,
        Some(SourceKind::Git) => {
            let wanted = GitCatalogue { address: source, branch: None, preview };
            import_git(State(app), estate, Json(wanted)).await
        }
        Some(SourceKind::Files) => {
            let allowed = "it came as files: send them in again under this name";
            Err(problem::bad_field("source", &source, allowed).into())
        }
    }
}
