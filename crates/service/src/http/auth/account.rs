//! The caller's own account: estates, sign-ins, password and second step.

use std::time::Instant;

use api::Page;
use api::fleet::Estate;
use api::people::{
    Me, NewPassword, PasswordAgain, PasswordChanged, RecoveryCodes, SignInRecord, TwoStepCode, TwoStepSecret,
};
use api::problem::{Problem, bad_field};
use api::secret::Secret;
use axum::extract::State;
use axum::http::StatusCode;
use store::{Kept, KeptFor, Person};

use crate::http::app::App;
use crate::http::auth::access::{Access, By, Who};
use crate::http::auth::context::RequestContext;
use crate::http::auth::{secret, two_step};
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::import::labels::code_svg;

/// The caller's account, with its estates.
#[utoipa::path(get, path = "/me", tag = "people",
    extensions(("x-right" = json!("anyone"))),
    responses((status = 200, body = Me), (status = 401, body = Problem)))]
pub(crate) async fn me(State(app): State<App>, context: RequestContext) -> Answer<Me> {
    Ok(Json(me_of(&app, &context.who).await?))
}

pub(crate) async fn me_of(app: &App, who: &Who) -> Result<Me, Refusal> {
    let memberships = app.store.memberships(who.person.id, None).await?;
    let estates = memberships.into_iter().filter_map(|membership| Access::of(membership, &who.by, &app.directory));
    let estates = estates.map(|access| Estate {
        rights: access.grants.rights().iter().collect(),
        only: access.grants.only(),
        // A token is not a member, even if its maker is.
        role: access.role.filter(|_| who.token().is_none()),
        slug: access.slug,
        name: access.name,
    });
    Ok(Me {
        name: who.person.name.clone(),
        token: who.token().map(str::to_owned),
        two_step: who.person.two_step,
        recovery_codes: app.store.recovery_codes_left(who.person.id).await?,
        given_password: who.person.given_password,
        keeps_installation: who.person.keeps_installation && who.token().is_none(),
        estates: estates.collect(),
    })
}

/// The number of the sign-in that a request came with.
fn this(context: &RequestContext) -> u64 {
    match context.who.by {
        By::SignIn(id) => id,
        By::Token { .. } => 0,
    }
}

/// The caller's sign-ins, the one used last first.
#[utoipa::path(get, path = "/me/sign-ins", tag = "people",
    extensions(("x-right" = json!("oneself"))), params(Choice, Paging), responses((status = 200, body = Page<SignInRecord>)))]
pub(crate) async fn list_sign_ins(
    State(app): State<App>,
    context: RequestContext,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<SignInRecord>> {
    let all = app.store.sign_ins_of(context.who.person.id, this(&context)).await?;
    Ok(Json(choice.page_of(all, &paging, |one| one.id.clone())?))
}

/// Ends one of the caller's sign-ins.
#[utoipa::path(delete, path = "/me/sign-ins/{id}", tag = "people",
    extensions(("x-right" = json!("oneself"))), params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn end_sign_in(
    State(app): State<App>,
    context: RequestContext,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    let number: u64 = id.parse().map_err(|_| not_found("sign-in", &id))?;
    if !app.store.end_sign_in(context.who.person.id, number).await? {
        return Err(not_found("sign-in", id));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Ends all of the caller's sign-ins except the one of this request.
#[utoipa::path(delete, path = "/me/sign-ins", tag = "people",
    extensions(("x-right" = json!("oneself"))), responses((status = 204)))]
pub(crate) async fn end_other_sign_ins(State(app): State<App>, context: RequestContext) -> Result<StatusCode, Refusal> {
    let ended = app.store.end_other_sign_ins(context.who.person.id, this(&context)).await?;
    context.audit.note(format!("{ended} ended"));
    Ok(StatusCode::NO_CONTENT)
}

/// The password again; it must not be guessed from a borrowed browser either.
async fn again(app: &App, context: &RequestContext, field: &str, password: Secret) -> Result<Person, Refusal> {
    let name = &context.who.person.name;
    app.edge.limits.try_again(context.who.person.id, Instant::now()).map_err(Refusal::too_often)?;
    let found = app.store.person(name).await?;
    let (person, stored) = found.ok_or_else(|| not_found("account", name))?;
    if !app.edge.verify(password, Some(stored), true).await? {
        return Err(bad_field(field, "(hidden)", "the account's password is wanted").into());
    }
    app.edge.limits.again_was_right(person.id);
    Ok(person)
}

/// Sets a new password. All other sign-ins end, and all access tokens unless they are kept.
#[utoipa::path(put, path = "/me/password", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = NewPassword,
    responses((status = 200, body = PasswordChanged), (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn set_password(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<NewPassword>,
) -> Answer<PasswordChanged> {
    let person = again(&app, &context, "current", given.current.clone()).await?;
    if given.new == given.current {
        return Err(bad_field("new", "(hidden)", "another password than the one until now is wanted").into());
    }
    secret::check_password("new", &given.new, &person.name)?;
    let hash = app.edge.hash(given.new).await?;
    let kept = Kept { sign_in: Some(this(&context)), tokens: given.keep_tokens };
    let changed = app.store.set_password(person.id, (&hash, false), kept).await?;
    let PasswordChanged { sign_ins_ended, tokens_ended } = changed;
    let note = format!("{sign_ins_ended} other sign-ins and {tokens_ended} access tokens ended");
    context.audit.secret_changed("password").note(note);
    // A token's rights are remembered for a moment.
    app.edge.rights_changed();
    Ok(Json(changed))
}

/// Makes the secret for an authenticator app. Codes are asked for after a first code has been confirmed; a secret in
/// use before ends.
#[utoipa::path(post, path = "/me/two-step", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = PasswordAgain,
    responses((status = 200, body = TwoStepSecret), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn prepare_two_step(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<PasswordAgain>,
) -> Answer<TwoStepSecret> {
    let person = again(&app, &context, "password", given.password).await?;
    if person.two_step {
        let problem = Problem::new(409, "in_use", "Sign-ins take a code already");
        return Err(problem.detail("end that first, to begin with another app").into());
    }
    let secret = two_step::new_secret();
    let (text, uri) = two_step::shown(&secret, &person.name)
        .ok_or_else(|| Refusal(Problem::new(500, "internal", "The secret could not be made")))?;
    let svg = code_svg(&uri)?;
    app.store.set_otp_secret(person.id, Some(&secret)).await?;
    context.audit.secret_changed("two_step");
    Ok(Json(TwoStepSecret { secret: text.into(), uri, svg }))
}

/// Confirms the app with a first code. From now on sign-ins need a code.
#[utoipa::path(put, path = "/me/two-step", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = TwoStepCode,
    responses((status = 200, body = RecoveryCodes), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn begin_two_step(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<TwoStepCode>,
) -> Answer<RecoveryCodes> {
    let person = &context.who.person;
    app.edge.limits.try_again(person.id, Instant::now()).map_err(Refusal::too_often)?;
    if person.two_step || app.store.otp_secret(person.id).await?.is_none() {
        let problem = Problem::new(409, "not_prepared", "There is no secret that waits for its first code");
        return Err(problem.into());
    }
    if !two_step::spend_code(&app, person, &given.code).await? {
        let allowed = "the six digits that the app shows now are wanted; are its clock and this one right?";
        return Err(bad_field("code", &given.code, allowed).into());
    }
    app.edge.limits.again_was_right(person.id);
    let (codes, hashes): (Vec<String>, Vec<_>) = two_step::new_recovery_codes().into_iter().unzip();
    app.store.begin_two_step(person.id, &hashes).await?;
    context.audit.note("from now on sign-ins take a code");
    Ok(Json(RecoveryCodes { codes: codes.into_iter().map(Secret::from).collect() }))
}

/// Makes new recovery codes; the earlier ones are no longer valid.
#[utoipa::path(post, path = "/me/two-step/recovery-codes", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = PasswordAgain,
    responses((status = 200, body = RecoveryCodes), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn renew_recovery_codes(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<PasswordAgain>,
) -> Answer<RecoveryCodes> {
    let person = again(&app, &context, "password", given.password).await?;
    if !person.two_step {
        return Err(Problem::new(409, "not_in_use", "Sign-ins take no code").into());
    }
    let (codes, hashes): (Vec<String>, Vec<_>) = two_step::new_recovery_codes().into_iter().unzip();
    app.store.begin_two_step(person.id, &hashes).await?;
    context.audit.secret_changed("recovery_codes");
    Ok(Json(RecoveryCodes { codes: codes.into_iter().map(Secret::from).collect() }))
}

/// Removes the caller's own account: its sign-ins and tokens end, and it is no member any more. What it made and did stays.
#[utoipa::path(post, path = "/me/remove", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = PasswordAgain,
    responses((status = 204), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn remove_account(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<PasswordAgain>,
) -> Result<StatusCode, Refusal> {
    let person = again(&app, &context, "password", given.password).await?;
    match app.store.remove_account(person.id).await? {
        Ok(()) => {
            context.audit.note("the account was removed");
            Ok(StatusCode::NO_CONTENT)
        }
        Err(KeptFor::Estate(slug)) => {
            let problem = Problem::new(409, "last_owner", "An estate keeps an owner");
            let why =
                format!("you are the only owner of {slug}: make somebody else an owner, or remove the estate first");
            Err(problem.detail(why).into())
        }
        Err(KeptFor::Installation) => {
            let problem = Problem::new(409, "last_owner", "The installation keeps somebody who looks after it");
            Err(problem.detail("nobody else does: this account stays").into())
        }
    }
}

/// Ends two-step sign-in and its recovery codes.
#[utoipa::path(post, path = "/me/two-step/end", tag = "people",
    extensions(("x-right" = json!("oneself"))), request_body = PasswordAgain,
    responses((status = 204), (status = 422, body = Problem)))]
pub(crate) async fn end_two_step(
    State(app): State<App>,
    context: RequestContext,
    Json(given): Json<PasswordAgain>,
) -> Result<StatusCode, Refusal> {
    let person = again(&app, &context, "password", given.password).await?;
    app.store.set_otp_secret(person.id, None).await?;
    context.audit.note("from now on sign-ins take no code");
    Ok(StatusCode::NO_CONTENT)
}
