//! Signing in and out.

use api::fleet::Estate;
use api::people::{Me, SignIn, SignedIn};
use api::problem::Problem;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use chrono::{TimeDelta, Utc};
use store::Person;

use super::error::{Answer, Refusal};
use super::extract::{COOKIE, Caller, Json, token};
use super::{App, auth};

const SIGN_IN_LASTS: TimeDelta = TimeDelta::days(30);

/// Signs in with name and password.
#[utoipa::path(post, path = "/sign-in", tag = "people", request_body = SignIn,
    responses((status = 200, body = SignedIn), (status = 401, body = Problem)))]
pub async fn sign_in(State(app): State<App>, Json(given): Json<SignIn>) -> Result<impl IntoResponse, Refusal> {
    let wrong = || Refusal(Problem::new(401, "wrong_sign_in", "Name or password is wrong"));
    let (person, stored) = app.store.person(&given.name).await?.unzip();
    let right = {
        let _one_of_few = app.sign_ins.acquire().await;
        auth::verify(given.password, stored).await
    };
    let (Ok(true), Some(person)) = (right, person) else { return Err(wrong()) };
    let (token, expires_at) = (auth::new_token(), Utc::now() + SIGN_IN_LASTS);
    app.store.add_sign_in(auth::token_hash(&token), person.id, expires_at).await?;
    tracing::info!(name = person.name, "signed in");
    let cookie =
        format!("{COOKIE}={token}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}", SIGN_IN_LASTS.num_seconds());
    let me = me_of(&app, &person).await?;
    Ok(([(header::SET_COOKIE, cookie)], Json(SignedIn { token, expires_at, me })))
}

/// Ends the sign-in that the request came with.
#[utoipa::path(post, path = "/sign-out", tag = "people", security(("token" = [])), responses((status = 204)))]
pub async fn sign_out(
    State(app): State<App>,
    _caller: Caller,
    headers: HeaderMap,
) -> Result<impl IntoResponse, Refusal> {
    if let Some(token) = token(&headers) {
        app.store.end_sign_in(auth::token_hash(&token)).await?;
    }
    let gone = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, gone)]))
}

/// Who is signed in, and where they belong.
#[utoipa::path(get, path = "/me", tag = "people", security(("token" = [])),
    responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub async fn me(State(app): State<App>, Caller(person): Caller) -> Answer<Me> {
    Ok(Json(me_of(&app, &person).await?))
}

pub async fn me_of(app: &App, person: &Person) -> Result<Me, Refusal> {
    let memberships = app.store.memberships(person.id).await?;
    let estates = memberships.into_iter().map(|m| Estate { slug: m.slug, name: m.name, role: m.role }).collect();
    Ok(Me { name: person.name.clone(), estates })
}
