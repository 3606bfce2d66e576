//! Finds out who calls, by the token of the request, and what they may do.

use std::net::IpAddr;
use std::time::Duration;

use api::people::rights::Right;
use api::people::token::PREFIX;
use chrono::{TimeDelta, Utc};
use store::StoreError;

use crate::http::app::App;
use crate::http::auth::access::{Access, By, Who, over};
use crate::http::auth::context::RequestContext;
use crate::http::auth::presented::Presented;
use crate::http::auth::secret;

/// The use of a token is recorded at most once in this time.
const NOTED_EVERY: TimeDelta = TimeDelta::minutes(5);
/// How often a listener's rights are checked, besides after every change.
const LOOK_AGAIN: Duration = Duration::from_secs(30);

/// The caller with this token.
pub(crate) async fn who(app: &App, presented: &Presented, address: IpAddr) -> Result<Option<Who>, StoreError> {
    let stale = |last: Option<chrono::DateTime<Utc>>| last.is_none_or(|last| Utc::now() - last > NOTED_EVERY);
    let hash = secret::token_hash(&presented.token);
    if presented.token.starts_with(PREFIX) {
        // A browser never sends one.
        if presented.by_cookie {
            return Ok(None);
        }
        let Some(row) = app.store.access_token(hash).await? else { return Ok(None) };
        if stale(row.last_used) {
            app.store.note_token_used(row.id, &address.to_string()).await?;
        }
        let by =
            By::Token { id: row.id, name: row.name, estate_id: row.estate_id, rights: row.rights, scope: row.scope };
        return Ok(Some(Who { person: row.person, by, until: row.expires_at }));
    }
    let Some(row) = app.store.signed_in(hash).await? else { return Ok(None) };
    if stale(row.last_used) {
        app.store.note_sign_in_used(row.id, &address.to_string()).await?;
    }
    Ok(Some(Who { person: row.person, by: By::SignIn(row.id), until: Some(row.expires_at) }))
}

/// What a caller may do in the estate with this short name; `None` if nothing.
pub(crate) async fn access(app: &App, who: &Who, slug: &str) -> Result<Option<Access>, crate::http::error::Refusal> {
    let membership = app.store.memberships(who.person.id, Some(slug)).await?.pop();
    // The database compares names without regard to case; addresses do not.
    let membership = membership.filter(|membership| membership.slug == slug);
    Ok(membership.and_then(|membership| Access::of(membership, &who.by, &app.directory)))
}

/// A listener, until its rights end.
pub(crate) struct Listener {
    pub app: App,
    pub presented: Presented,
    pub context: RequestContext,
}

impl Listener {
    /// Returns when the listener's rights have ended or changed.
    pub(crate) async fn lost(self) {
        let Self { app, presented, context } = self;
        let Some(before) = context.access else { return };
        let mut until = context.who.until.into_iter().chain(before.grants.until()).min();
        let mut changes = app.edge.watch_rights();
        loop {
            let left = until.map(|until| (until - Utc::now()).to_std().unwrap_or_default());
            let wait = left.unwrap_or(LOOK_AGAIN).min(LOOK_AGAIN);
            tokio::select! {
                changed = changes.changed() => if changed.is_err() { return },
                () = tokio::time::sleep(wait) => {}
            }
            // While the database is away, what was true is taken to be true, but for what has ended by itself.
            let who = match who(&app, &presented, context.address).await {
                Ok(Some(who)) => who,
                Ok(None) => return,
                Err(_) if over(until) => return,
                Err(_) => continue,
            };
            match access(&app, &who, &before.slug).await {
                Ok(Some(access)) if access.grants.visibility(Right::View) == context.visibility => {
                    until = who.until.into_iter().chain(access.grants.until()).min();
                }
                Err(_) if !over(until) => {}
                _ => return,
            }
        }
    }
}
