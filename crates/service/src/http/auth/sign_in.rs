//! Signing in and out, and taking an invitation.
//!
//! Nothing here tells by text, code or time whether an account exists.

use std::net::IpAddr;
use std::time::Instant;

use api::people::{InvitationCode, Offer, OpenedInvitation, SignIn, SignedIn, TakeInvitation};
use api::problem::Problem;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use chrono::{TimeDelta, Utc};
use store::{Person, StoreError, Taken, Taker};

use crate::http::app::App;
use crate::http::auth::access::{By, Who};
use crate::http::auth::account::me_of;
use crate::http::auth::audit_context::{AuditContext, AuditRecord};
use crate::http::auth::context::{RequestContext, Source};
use crate::http::auth::limits::Account;
use crate::http::auth::presented::{cookie_name, presented};
use crate::http::auth::{authenticate, secret, two_step};
use crate::http::error::Refusal;
use crate::http::json::{Answer, Json};

const SIGN_IN_LASTS: TimeDelta = TimeDelta::days(30);
/// Passwords longer than this are wrong, without looking.
const LONGEST_PASSWORD: usize = 1024;

fn wrong() -> Refusal {
    Refusal(Problem::new(401, "wrong_sign_in", "Name or password is wrong"))
}

/// Signs in with name and password, and a code where the account asks for one.
#[utoipa::path(post, path = "/sign-in", tag = "people", extensions(("x-right" = json!("none"))), request_body = SignIn,
    responses((status = 200, body = SignedIn), (status = 401, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn sign_in(
    State(app): State<App>,
    Source(address): Source,
    headers: HeaderMap,
    Json(given): Json<SignIn>,
) -> Result<impl IntoResponse, Refusal> {
    let mut record = AuditRecord::claimed(&shown_name(&given.name), address, "sign_in");
    let source = app.edge.limits.of(address).to_string();
    // The account first: however its name is typed, its limits are the same.
    let (person, stored) = none_such(app.store.person(&given.name).await)?.flatten().unzip();
    let id = person.as_ref().map(|person: &Person| person.id);
    let knows = app.store.knows_source(id, &source).await?;
    let account = Account::of(id, &given.name);
    if let Err(wait) = app.edge.limits.try_sign_in(&account, address, knows, Instant::now()) {
        tracing::warn!(%address, "too many attempts to sign in");
        return Err(Refusal::too_often(wait));
    }
    let right = given.password.len() <= LONGEST_PASSWORD && app.edge.verify(given.password, stored, knows).await?;
    let (true, Some(person)) = (right, person.clone()) else {
        record.signed(&app, person.as_ref(), 401, Some("name or password is wrong")).await;
        return Err(wrong());
    };
    let by_code = match second_step(&app, &person, given.code.as_deref()).await? {
        Second::Right(how) => how,
        Second::Missing => {
            // The password was correct: this does not count as a guess.
            app.edge.limits.was_right(person.id, address, knows);
            let problem = Problem::new(401, "code_wanted", "A code is wanted as well");
            return Err(Refusal(problem.field("code").detail("the six digits of the app, or a recovery code")));
        }
        Second::Wrong => {
            record.signed(&app, Some(&person), 401, Some("the password was right, the code was wrong")).await;
            let problem = Problem::new(401, "wrong_code", "The code is wrong, or was used already");
            return Err(Refusal(problem.field("code")));
        }
    };
    app.edge.limits.was_right(person.id, address, knows);
    record.signed(&app, Some(&person), 200, by_code).await;
    welcome(&app, person, address, &headers).await
}

/// A name as it was typed, for the audit log: what cannot be seen shows, and it has an end.
fn shown_name(name: &str) -> String {
    name.trim().chars().take(80).flat_map(char::escape_debug).collect()
}

/// A name that no account can have is an unknown one.
fn none_such<T>(found: Result<T, StoreError>) -> Result<Option<T>, StoreError> {
    match found {
        Err(StoreError::NoSuchName) => Ok(None),
        found => found.map(Some),
    }
}

enum Second {
    Right(Option<&'static str>),
    Missing,
    Wrong,
}

async fn second_step(app: &App, person: &Person, code: Option<&str>) -> Result<Second, Refusal> {
    if !person.two_step {
        return Ok(Second::Right(None));
    }
    let Some(code) = code.map(str::trim).filter(|code| !code.is_empty()) else { return Ok(Second::Missing) };
    if two_step::spend_code(app, person, code).await? {
        return Ok(Second::Right(Some("with a code")));
    }
    match app.store.spend_recovery_code(person.id, two_step::recovery_hash(code)).await? {
        true => Ok(Second::Right(Some("with a recovery code"))),
        false => Ok(Second::Wrong),
    }
}

/// Makes a sign-in for an account that has been verified.
async fn welcome(
    app: &App,
    person: Person,
    address: IpAddr,
    headers: &HeaderMap,
) -> Result<impl IntoResponse + use<>, Refusal> {
    let (token, expires_at) = (secret::new_token(), Utc::now() + SIGN_IN_LASTS);
    let program = headers.get(header::USER_AGENT).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let program: String = program.chars().take(120).collect();
    let (hash, source) = (secret::token_hash(&token), app.edge.limits.of(address).to_string());
    app.store.add_sign_in(hash, person.id, expires_at, (&source, &program)).await?;
    let cookie = cookie(app, &token, SIGN_IN_LASTS.num_seconds());
    let who = Who { person, by: By::SignIn(0), until: Some(expires_at) };
    let me = me_of(app, &who).await?;
    Ok((
        [(header::SET_COOKIE, cookie), (header::CACHE_CONTROL, "no-store".into())],
        Json(SignedIn { token: token.into(), expires_at, me }),
    ))
}

fn cookie(app: &App, token: &str, lasts_s: i64) -> String {
    let secure = if app.edge.secure { "; Secure" } else { "" };
    let name = cookie_name(app.edge.secure);
    format!("{name}={token}; Path=/; HttpOnly; SameSite=Strict; Max-Age={lasts_s}{secure}")
}

/// Ends the sign-in that the request came with.
#[utoipa::path(post, path = "/sign-out", tag = "people",
    extensions(("x-right" = json!("oneself"))), responses((status = 204)))]
pub(crate) async fn sign_out(State(app): State<App>, context: RequestContext) -> Result<impl IntoResponse, Refusal> {
    if let By::SignIn(id) = context.who.by {
        app.store.end_sign_in(context.who.person.id, id).await?;
    }
    context.audit.sign();
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie(&app, "", 0))]))
}

fn no_invitation() -> Refusal {
    let problem = Problem::new(404, "no_invitation", "This invitation is not good, or not any more");
    Refusal(problem.detail("it was taken, was withdrawn or has expired; ask for a new one"))
}

/// What an invitation offers, before it is taken.
#[utoipa::path(post, path = "/invitations/open", tag = "people", extensions(("x-right" = json!("none"))),
    request_body = InvitationCode,
    responses((status = 200, body = OpenedInvitation), (status = 404, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn open_invitation(
    State(app): State<App>,
    Source(address): Source,
    Json(given): Json<InvitationCode>,
) -> Answer<OpenedInvitation> {
    app.edge.limits.open.take(app.edge.limits.of(address), Instant::now()).map_err(Refusal::too_often)?;
    let found = app.store.invitation(secret::token_hash(given.code.trim())).await?;
    let (invitation, estate) = found.ok_or_else(no_invitation)?;
    Ok(Json(OpenedInvitation {
        estate,
        for_whom: invitation.for_whom,
        offer: invitation.offer,
        by: invitation.by,
        expires_at: invitation.expires_at,
    }))
}

/// Takes an invitation: with the account that is signed in, or with a new one, which is then signed in.
#[utoipa::path(post, path = "/invitations/take", tag = "people", extensions(("x-right" = json!("none"))),
    request_body = TakeInvitation,
    responses((status = 200, body = SignedIn), (status = 204), (status = 401, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn take_invitation(
    State(app): State<App>,
    Source(address): Source,
    headers: HeaderMap,
    Json(given): Json<TakeInvitation>,
) -> Result<axum::response::Response, Refusal> {
    app.edge.limits.open.take(app.edge.limits.of(address), Instant::now()).map_err(Refusal::too_often)?;
    let code = secret::token_hash(given.code.trim());
    // Only a person with an invitation learns whether a name is taken.
    app.store.invitation(code).await?.ok_or_else(no_invitation)?;
    let Some(account) = given.account else {
        let presented = presented(&headers, app.edge.secure);
        let who = match &presented {
            Some(presented) => authenticate::who(&app, presented, address).await?,
            None => None,
        };
        let who = who.filter(|who| matches!(who.by, By::SignIn(_)));
        let who =
            who.ok_or_else(|| Refusal(Problem::new(401, "sign_in", "Sign in first, or make an account with it")))?;
        let taken = app.store.take_invitation(code, Taker::Person(who.person.id)).await?.ok_or_else(no_invitation)?;
        written(&app, &mut AuditRecord::by(&who, address, "take_invitation"), &taken).await;
        return Ok(StatusCode::NO_CONTENT.into_response());
    };
    let name = domain::people::account_name("account.name", &account.name)?;
    secret::check_password("account.password", &account.password, &name)?;
    let hash = app.edge.hash(account.password).await?;
    let taken = app.store.take_invitation(code, Taker::New(&name, &hash)).await?.ok_or_else(no_invitation)?;
    let (person, _) = app.store.person(&name).await?.ok_or_else(wrong)?;
    let who = Who { person: person.clone(), by: By::SignIn(0), until: None };
    written(&app, &mut AuditRecord::by(&who, address, "take_invitation"), &taken).await;
    Ok(welcome(&app, person, address, &headers).await?.into_response())
}

async fn written(app: &App, record: &mut AuditRecord, taken: &Taken) {
    let audit = AuditContext::at("");
    let what = match &taken.invitation.offer {
        Offer::Role(role) => format!("as {role}"),
        Offer::Share { scope, may, .. } => format!("{scope}, to {}", may.name()),
    };
    audit.object(format!("invitation {} for {}", taken.invitation.id, taken.invitation.for_whom)).note(what);
    record.ended(app, Some(taken.estate_id), &audit, StatusCode::OK, None).await;
    app.edge.rights_changed();
}
