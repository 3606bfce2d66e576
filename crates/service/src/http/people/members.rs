//! Members of an estate, and what is shared with others.

use api::Page;
use api::people::rights::{RightAbout, Role};
use api::people::{
    ChangeMember, ChangeShare, EstateMember, Invitation, NewInvitation, Offer, Share, ShareTerms, WrittenInvitation,
};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{SecondsFormat, Utc};
use domain::patch::patched;
use domain::people::{check_end, check_invitation};
use store::{InvitationToWrite, MemberChange};

use crate::http::app::App;
use crate::http::auth::secret;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;

/// All rights, and the roles that have them.
#[utoipa::path(get, path = "/roles", tag = "people",
    extensions(("x-right" = json!("anyone"))), params(Choice, Paging), responses((status = 200, body = Page<RightAbout>)))]
pub(crate) async fn list_roles(
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<RightAbout>> {
    Ok(Json(choice.page_of(domain::access::table(), &paging, |one| one.right.to_string())?))
}

/// An estate's members, by name.
#[utoipa::path(get, path = "/estates/{estate}/people", tag = "people",
    extensions(("x-right" = json!("view"))), params(Choice, Paging), responses((status = 200, body = Page<EstateMember>)))]
pub(crate) async fn list_people(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<EstateMember>> {
    Ok(Json(choice.page_of(app.store.members(estate.id).await?, &paging, |one| one.name.clone())?))
}

/// One member.
#[utoipa::path(get, path = "/estates/{estate}/people/{name}", tag = "people",
    extensions(("x-right" = json!("view"))),
    params(("name" = String, Path)),
    responses((status = 200, body = EstateMember), (status = 404, body = Problem)))]
pub(crate) async fn show_member(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Answer<EstateMember> {
    member(&app, &estate, &name).await.map(Json)
}

/// Changes a member's role.
#[utoipa::path(patch, path = "/estates/{estate}/people/{name}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("name" = String, Path)), request_body = ChangeMember,
    responses((status = 200, body = EstateMember), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn change_member(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
    Json(wanted): Json<ChangeMember>,
) -> Answer<EstateMember> {
    let before = member(&app, &estate, &name).await?;
    settled(app.store.change_member(estate.id, &name, wanted.role, wanted.was).await?, &name)?;
    let after = EstateMember { role: wanted.role, ..before.clone() };
    estate.audit().object(format!("member {}", before.name)).changed(&RoleRecord(before.role), &RoleRecord(after.role));
    Ok(Json(after))
}

/// As the audit log shows it.
struct RoleRecord(Role);

impl serde::Serialize for RoleRecord {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_map([("role", self.0)])
    }
}

async fn member(app: &App, estate: &WholeEstate, name: &str) -> Result<EstateMember, Refusal> {
    let all = app.store.members(estate.id).await?;
    all.into_iter().find(|member| member.name == name).ok_or_else(|| not_found("member", name))
}

fn settled(change: MemberChange, name: &str) -> Result<(), Refusal> {
    match change {
        MemberChange::Done => Ok(()),
        MemberChange::Nobody => Err(not_found("member", name)),
        MemberChange::Otherwise(role) => {
            let problem = Problem::new(409, "changed_meanwhile", "Somebody else has changed this meanwhile");
            Err(problem.field("was").detail(format!("{name} is {role} by now; nothing was changed")).into())
        }
        MemberChange::LastOwner => {
            let problem = Problem::new(409, "last_owner", "An estate keeps an owner");
            Err(problem.detail(format!("{name} is the only one; make somebody else an owner first")).into())
        }
    }
}

/// Removes a member from the estate. What they made stays; their access tokens end.
#[utoipa::path(delete, path = "/estates/{estate}/people/{name}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_member(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let before = member(&app, &estate, &name).await?;
    settled(app.store.remove_member(estate.id, &name).await?, &name)?;
    estate.audit().object(format!("member {name}")).removed(&RoleRecord(before.role));
    Ok(StatusCode::NO_CONTENT)
}

/// Leaves an estate. What the caller made stays; the caller's access tokens there end.
#[utoipa::path(post, path = "/estates/{estate}/leave", tag = "people",
    extensions(("x-right" = json!("member"))),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn leave(State(app): State<App>, estate: WholeEstate) -> Result<StatusCode, Refusal> {
    let shares = app.store.end_shares_of(estate.id, estate.context.who.person.id).await?;
    match app.store.remove_member(estate.id, &estate.person).await? {
        // A person with shares only was not a member.
        MemberChange::Nobody if shares > 0 => {}
        change => settled(change, &estate.person)?,
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Open invitations.
#[utoipa::path(get, path = "/estates/{estate}/invitations", tag = "people",
    extensions(("x-right" = json!("people"))), params(Choice, Paging), responses((status = 200, body = Page<Invitation>)))]
pub(crate) async fn list_invitations(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Invitation>> {
    Ok(Json(choice.page_of(app.store.invitations(estate.id).await?, &paging, |one| one.id.to_string())?))
}

/// A new invitation's code, with the hash that is stored.
pub(crate) fn new_code() -> (String, [u8; 32]) {
    let code = secret::new_token();
    let hash = secret::token_hash(&code);
    (code, hash)
}

/// An invitation as its author sees it, once. The code is behind a `#`, which browsers do not send.
pub(crate) fn shown(invitation: Invitation, code: String) -> WrittenInvitation {
    WrittenInvitation { invitation, path: format!("/invitation#{code}"), code: code.into() }
}

/// Creates an invitation: to become a member, or to share a fleet or a device. The link works once, for the first
/// person who opens it.
#[utoipa::path(post, path = "/estates/{estate}/invitations", tag = "people",
    extensions(("x-right" = json!("people"))), request_body = NewInvitation,
    responses((status = 201, body = WrittenInvitation), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_invitation(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewInvitation>,
) -> Made<WrittenInvitation> {
    let (for_whom, expires_at) = check_invitation(&new, Utc::now())?;
    let (code, code_hash) = new_code();
    let by = (estate.context.who.person.id, estate.person.as_str());
    let write = InvitationToWrite { code_hash, for_whom: &for_whom, offer: &new.offer, expires_at, by };
    let id = app.store.add_invitation(estate.id, &write).await?.ok_or_else(|| match &new.offer {
        Offer::Share { scope, .. } => not_found("fleet or device", scope),
        Offer::Role(_) => not_found("estate", "it"),
    })?;
    let invitation = Invitation { id, for_whom, offer: new.offer, expires_at, by: estate.person.clone() };
    estate.audit().object(format!("invitation {id} for {}", invitation.for_whom)).made(&serde_json::json!({
        "offer": invitation.offer, "expires_at": invitation.expires_at.to_rfc3339_opts(SecondsFormat::Secs, true),
    }));
    Ok(Created { at: estate.path(format_args!("invitations/{id}")), made: shown(invitation, code) })
}

/// One open invitation, without its code.
#[utoipa::path(get, path = "/estates/{estate}/invitations/{id}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("id" = String, Path)),
    responses((status = 200, body = Invitation), (status = 404, body = Problem)))]
pub(crate) async fn show_invitation(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Answer<Invitation> {
    let wanted = number("invitation", &id)?;
    let found = app.store.invitations(estate.id).await?.into_iter().find(|invitation| invitation.id == wanted);
    found.map(Json).ok_or_else(|| not_found("invitation", id))
}

fn number(what: &str, text: &str) -> Result<u32, Refusal> {
    text.parse().map_err(|_| not_found(what, text))
}

/// Revokes an invitation.
#[utoipa::path(delete, path = "/estates/{estate}/invitations/{id}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn withdraw_invitation(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    match app.store.withdraw_invitation(estate.id, number("invitation", &id)?).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(not_found("invitation", id)),
    }
}

/// What is shared with people outside the estate.
#[utoipa::path(get, path = "/estates/{estate}/shares", tag = "people",
    extensions(("x-right" = json!("people"))), params(Choice, Paging), responses((status = 200, body = Page<Share>)))]
pub(crate) async fn list_shares(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Share>> {
    Ok(Json(choice.page_of(app.store.shares(estate.id).await?, &paging, |one| one.id.to_string())?))
}

async fn share(app: &App, estate: &WholeEstate, id: &str) -> Result<Share, Refusal> {
    let wanted = number("share", id)?;
    let all = app.store.shares(estate.id).await?;
    all.into_iter().find(|share| share.id == wanted).ok_or_else(|| not_found("share", id))
}

/// One share.
#[utoipa::path(get, path = "/estates/{estate}/shares/{id}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("id" = String, Path)),
    responses((status = 200, body = Share), (status = 404, body = Problem)))]
pub(crate) async fn show_share(State(app): State<App>, estate: WholeEstate, PathName(id): PathName) -> Answer<Share> {
    share(&app, &estate, &id).await.map(Json)
}

/// Changes the rights of a share, and until when it lasts.
#[utoipa::path(patch, path = "/estates/{estate}/shares/{id}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("id" = String, Path)), request_body = ChangeShare,
    responses((status = 200, body = Share), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change_share(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
    Json(patch): Json<serde_json::Value>,
) -> Answer<Share> {
    let before = share(&app, &estate, &id).await?;
    let wanted: ShareTerms = patched(&ShareTerms { may: before.may, until: before.until }, &patch)?;
    if wanted.until != before.until {
        check_end("until", wanted.until, Utc::now())?;
    }
    if !app.store.change_share(estate.id, before.id, wanted.may, wanted.until).await? {
        return Err(not_found("share", id));
    }
    let after = Share { may: wanted.may, until: wanted.until, ..before.clone() };
    estate.audit().object(format!("{} shared with {}", after.scope, after.person)).changed(&before, &after);
    Ok(Json(after))
}

/// Ends a share.
#[utoipa::path(delete, path = "/estates/{estate}/shares/{id}", tag = "people",
    extensions(("x-right" = json!("people"))),
    params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn end_share(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    let before = share(&app, &estate, &id).await?;
    if !app.store.end_share(estate.id, before.id).await? {
        return Err(not_found("share", id));
    }
    estate.audit().object(format!("{} shared with {}", before.scope, before.person)).removed(&before);
    Ok(StatusCode::NO_CONTENT)
}
