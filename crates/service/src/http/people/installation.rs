//! The installation: its estates. Its keeper sees that they exist and who owns them, and nothing of their content.

use api::Page;
use api::people::rights::Role;
use api::people::{EstateOutline, FoundedEstate, Invitation, NewEstate, NewInvitation, Offer};
use api::problem::Problem;
use axum::extract::State;
use chrono::Utc;
use domain::input::{name, slug};
use domain::people::check_invitation;
use store::InvitationToWrite;

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::extract::{Paging, Params};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;
use crate::http::people::members::{new_code, shown};

/// All estates, by short name.
#[utoipa::path(get, path = "/installation/estates", tag = "installation",
    extensions(("x-right" = json!("installation"))), params(Choice, Paging), responses((status = 200, body = Page<EstateOutline>)))]
pub(crate) async fn list_installation_estates(
    State(app): State<App>,
    _entry: RequestContext,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<EstateOutline>> {
    Ok(Json(choice.page_of(app.store.estate_outlines().await?, &paging, |one| one.slug.clone())?))
}

/// Founds an estate, with an invitation for its owner.
#[utoipa::path(post, path = "/installation/estates", tag = "installation",
    extensions(("x-right" = json!("installation"))), request_body = NewEstate,
    responses((status = 201, body = FoundedEstate), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn found_estate(
    State(app): State<App>,
    context: RequestContext,
    Json(new): Json<NewEstate>,
) -> Made<FoundedEstate> {
    let short = slug("slug", &new.slug)?;
    let full = name("name", new.name.as_deref().unwrap_or(&short))?;
    name("owner", &new.owner)?;
    let offer = Offer::Role(Role::Owner);
    let invitation = NewInvitation { for_whom: new.owner, offer: offer.clone(), days: None };
    let now = Utc::now();
    let (for_whom, expires_at) = check_invitation(&invitation, now)?;
    let (code, code_hash) = new_code();
    let by = context.who.person.name.clone();
    let owner = InvitationToWrite {
        code_hash,
        for_whom: &for_whom,
        offer: &offer,
        expires_at,
        by: (context.who.person.id, &by),
    };
    let (estate_id, id) = app.store.found_estate(&short, &full, &owner).await?;
    app.directory.put_estate(estate_id, &short);
    let estate = EstateOutline { slug: short, name: full, owners: Vec::new(), added_at: now };
    context.audit.object(format!("estate {}", estate.slug)).made(&estate);
    let invitation = Invitation { id, for_whom, offer, expires_at, by };
    let at = format!("/estates/{}", estate.slug);
    Ok(Created { at, made: FoundedEstate { estate, owner: shown(invitation, code) } })
}
