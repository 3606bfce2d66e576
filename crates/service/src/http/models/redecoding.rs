//! Stored uplinks decoded again.

use api::Page;
use api::job::{Job, JobState, Redecode};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use chrono::Utc;
use domain::model::redecoding;
use store::first_name_at;
use ulid::Ulid;

use crate::http::app::App;
use crate::http::devices::outbox::known;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, page};
use crate::http::json::{Answer, Json};
use crate::http::models::model::model_of;

/// Decodes the uplinks of a period again with the current decoders. Old results stay until all are done.
#[utoipa::path(post, path = "/estates/{estate}/jobs", tag = "decoders",
    extensions(("x-right" = json!("decoders"))), request_body = Redecode,
    responses((status = 202, body = Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_job(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<Redecode>,
) -> Result<impl IntoResponse, Refusal> {
    let now = Utc::now();
    let (from, until) = redecoding::check(&wanted, now)?;
    let model = model_of(&app, &estate, &wanted.model).await?.model;
    if model.about.decoder.is_none() && model.about.versions.is_empty() {
        return Err(bad_field("model", &wanted.model, "a model with a decoder is wanted").into());
    }
    if let Some(flaw) = model.flaw {
        return Err(
            bad_field("model", &wanted.model, format!("its decoder is not used until it is fixed: {flaw}")).into()
        );
    }
    let devices = match wanted.device.as_deref() {
        None => app.directory.devices_of(estate.id, &wanted.model, None),
        Some(text) => {
            let eui = domain::input::eui("device", text)?;
            if known(&app, &estate, eui)?.model.as_deref() != Some(wanted.model.as_str()) {
                return Err(
                    bad_field("device", text, format!("a device of the model {} is wanted", wanted.model)).into()
                );
            }
            vec![eui]
        }
    };
    let total = app.store.count_uplinks(estate.id, &devices, &first_name_at(from), &first_name_at(until)).await?;
    let device = wanted.device.as_ref().and(devices.first()).map(ToString::to_string);
    let job = Job {
        id: Ulid::generate().to_string(),
        wanted: Redecode { from, until: Some(until), device, model: wanted.model },
        state: JobState::Running,
        done: 0,
        total,
        failed: 0,
        note: String::new(),
        begun_by: estate.person.clone(),
        begun_at: now,
        ended_at: None,
    };
    estate.audit().object(format!("job {}", job.id)).made(&job.wanted);
    app.store.add_job(estate.id, &job).await?;
    app.jobs.notify_one();
    let at = format!("{}{}", api::BASE, estate.path(format_args!("jobs/{}", job.id)));
    Ok((StatusCode::ACCEPTED, [(header::LOCATION, at)], Json(job)))
}

/// An estate's jobs, newest first.
#[utoipa::path(get, path = "/estates/{estate}/jobs", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(Paging), responses((status = 200, body = Page<Job>)))]
pub(crate) async fn list_jobs(
    State(app): State<App>,
    estate: WholeEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Job>> {
    let limit = paging.limit()?;
    let rows = app.store.jobs(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |job| job.id.clone(), |job| job)))
}

/// A job's progress.
#[utoipa::path(get, path = "/estates/{estate}/jobs/{job}", tag = "decoders",
    extensions(("x-right" = json!("view"))),
    params(("job" = String, Path)),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub(crate) async fn show_job(State(app): State<App>, estate: WholeEstate, PathName(id): PathName) -> Answer<Job> {
    app.store.job(estate.id, &id).await?.map(Json).ok_or_else(|| not_found("job", id))
}

/// Stops a job; the old results stay.
#[utoipa::path(delete, path = "/estates/{estate}/jobs/{job}", tag = "decoders",
    extensions(("x-right" = json!("decoders"))),
    params(("job" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn cancel_job(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    let note = format!("stopped by {}; nothing has changed", estate.person);
    if app.store.end_job(estate.id, &id, JobState::Cancelled, &note).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    let job = app.store.job(estate.id, &id).await?.ok_or_else(|| not_found("job", &id))?;
    let problem = Problem::new(409, "ended", "It has ended already");
    Err(problem.detail(format!("the job is {}", job.state.name())).into())
}
