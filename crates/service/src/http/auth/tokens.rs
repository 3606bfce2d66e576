//! Access tokens.

use api::Page;
use api::people::rights::Right;
use api::people::token::{AccessToken, MadeToken, NewToken, PREFIX};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{SecondsFormat, Utc};
use domain::grants::Visibility;
use domain::token;
use store::{PersonId, TokenToMake};

use crate::http::app::App;
use crate::http::auth::context::missing;
use crate::http::auth::secret;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;

/// Tokens of one person in one estate.
const MOST: usize = 100;

/// Whose tokens the caller may see and revoke: their own, or everybody's.
fn whose(estate: &WholeEstate) -> Option<PersonId> {
    let all = estate.access.grants.visibility(Right::People) == Visibility::Whole;
    (!all).then_some(estate.context.who.person.id)
}

/// A token in the audit log.
fn told(token: &AccessToken) -> serde_json::Value {
    serde_json::json!({ "rights": token.rights, "scope": token.scope, "expires_at": token.expires_at.map(|at| at.to_rfc3339_opts(SecondsFormat::Secs, true)) })
}

/// Access tokens: the caller's own, or everybody's with the right `people`.
#[utoipa::path(get, path = "/estates/{estate}/tokens", tag = "people",
    extensions(("x-right" = json!("member"))), params(Choice, Paging), responses((status = 200, body = Page<AccessToken>)))]
pub(crate) async fn list_tokens(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<AccessToken>> {
    Ok(Json(choice.page_of(app.store.tokens(estate.id, whose(&estate)).await?, &paging, |one| one.id.to_string())?))
}

/// Makes an access token, which allows no more than its maker is allowed. Its secret is in this answer only.
#[utoipa::path(post, path = "/estates/{estate}/tokens", tag = "people",
    extensions(("x-right" = json!("member"))), request_body = NewToken,
    responses((status = 201, body = MadeToken), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn add_token(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewToken>,
) -> Made<MadeToken> {
    let (name, rights, scope, expires_at) = token::check(&new, Utc::now())?;
    estate
        .access
        .grants
        .includes(rights, &scope, |eui| app.directory.fleet_of(eui))
        .map_err(|right| missing(right, &estate.access, &estate.context.who))?;
    let person = &estate.context.who.person;
    if app.store.tokens(estate.id, Some(person.id)).await?.len() >= MOST {
        let problem = Problem::new(409, "too_many", "There are too many tokens");
        return Err(problem.detail(format!("{MOST} are kept for one person; revoke one that is not used")).into());
    }
    let secret = format!("{PREFIX}{}", secret::new_token());
    let make = TokenToMake { secret_hash: secret::token_hash(&secret), name: &name, rights, scope: &scope, expires_at };
    let id = app.store.add_token(estate.id, person.id, &make).await?;
    let id = id.ok_or_else(|| not_found("fleet or device", &scope))?;
    let token = AccessToken {
        id,
        name,
        by: person.name.clone(),
        rights: rights.iter().collect(),
        scope,
        since: Utc::now(),
        expires_at,
        last_used: None,
        last_from: None,
    };
    estate.audit().object(format!("token {id}: {}", token.name)).made(&told(&token));
    Ok(Created { at: estate.path(format_args!("tokens/{id}")), made: MadeToken { token, secret: secret.into() } })
}

/// One access token, without its secret.
#[utoipa::path(get, path = "/estates/{estate}/tokens/{id}", tag = "people",
    extensions(("x-right" = json!("member"))),
    params(("id" = String, Path)),
    responses((status = 200, body = AccessToken), (status = 404, body = Problem)))]
pub(crate) async fn show_token(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Answer<AccessToken> {
    token_of(&app, &estate, &id).await.map(Json)
}

async fn token_of(app: &App, estate: &WholeEstate, id: &str) -> Result<AccessToken, Refusal> {
    let number: u32 = id.parse().map_err(|_| not_found("token", id))?;
    let all = app.store.tokens(estate.id, whose(estate)).await?;
    all.into_iter().find(|token| token.id == number).ok_or_else(|| not_found("token", id))
}

/// Revokes an access token. What it is used for ends at once, open streams included.
#[utoipa::path(delete, path = "/estates/{estate}/tokens/{id}", tag = "people",
    extensions(("x-right" = json!("member"))),
    params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn revoke_token(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    let before = token_of(&app, &estate, &id).await?;
    if !app.store.revoke_token(estate.id, before.id, whose(&estate)).await? {
        return Err(not_found("token", id));
    }
    estate.audit().object(format!("token {id}: {}", before.name)).removed(&told(&before));
    Ok(StatusCode::NO_CONTENT)
}
