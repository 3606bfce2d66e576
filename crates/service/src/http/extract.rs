//! The checks that come before a handler: who calls, for which estate, with what body.

use std::sync::Arc;

use api::problem::Problem;
use axum::extract::{FromRequestParts, Query, RawPathParams};
use axum::http::request::Parts;
use domain::grants::Visibility;
use lorawan::Eui64;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use store::{AccessFilter, EstateId};

use crate::http::app::App;
use crate::http::auth::access::Access;
use crate::http::auth::audit_context::AuditContext;
use crate::http::auth::context::{RequestContext, beyond, request_context};
use crate::http::contract::Contract;
use crate::http::error::{Refusal, not_found};

/// What cannot stand in a part of a path as it is (RFC 3986, section 2.3).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

fn access_of(parts: &Parts, context: &RequestContext) -> Result<Arc<Access>, Refusal> {
    context.access.clone().ok_or_else(|| not_found("estate", parts.uri.path()))
}

/// Checks what comes before the body, once the caller has been let in.
fn check_head(parts: &Parts) -> Result<(), Refusal> {
    parts.extensions.get::<Arc<Contract>>().map_or(Ok(()), |contract| contract.check_head(parts))
}

/// The estate in the path, all of it; or the device in the path, if the caller may reach it.
pub struct WholeEstate {
    pub id: EstateId,
    /// The caller's name.
    pub person: String,
    pub context: RequestContext,
    pub access: Arc<Access>,
}

impl WholeEstate {
    /// The path of something in the estate.
    pub fn path(&self, below: impl std::fmt::Display) -> String {
        format!("/estates/{}/{below}", self.access.slug)
    }

    /// Where something is found that goes by its name, whatever characters that has.
    pub fn path_of(&self, list: &str, name: &str) -> String {
        self.path(format_args!("{list}/{}", utf8_percent_encode(name, RESERVED)))
    }

    /// Whether the caller sees all of it, and not a shared part of it only.
    pub fn is_seen_whole(&self) -> bool {
        matches!(self.context.visibility, Visibility::Whole)
    }

    pub fn audit(&self) -> &AuditContext {
        &self.context.audit
    }

    /// Refuses a change if what it changes is no longer as the caller saw it (`If-Match`), or if the caller wants to make
    /// something new only (`If-None-Match: *`).
    pub fn still(&self, before: &impl Serialize) -> Result<(), Refusal> {
        if self.context.only_new {
            let problem = Problem::new(412, "there_already", "There is one of that name already");
            return Err(problem.detail("nothing was changed, as If-None-Match: * asks for").into());
        }
        let Some(believed) = &self.context.if_match else { return Ok(()) };
        if *believed == revision(before) {
            return Ok(());
        }
        let problem = Problem::new(412, "changed_meanwhile", "Somebody else has changed this meanwhile");
        Err(Refusal(
            problem.detail("nothing was changed; look at it again, and then change what is still to be changed"),
        ))
    }
}

/// The revision of something: it changes with every change of it.
pub(crate) fn revision(of: &impl Serialize) -> String {
    let text = serde_json::to_vec(of).unwrap_or_default();
    hex::encode(&Sha256::digest(text)[..8])
}

impl FromRequestParts<App> for WholeEstate {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _app: &App) -> Result<Self, Refusal> {
        let context = request_context(parts)?;
        let access = access_of(parts, &context)?;
        // Of a member's endpoint the handler itself says how far it reaches.
        if !context.of_device && matches!(context.visibility, Visibility::Part(_)) {
            let refusal = beyond(&context.visibility);
            context.audit.note(refusal.0.to_string());
            return Err(refusal);
        }
        check_head(parts)?;
        Ok(Self { id: access.estate_id, person: context.who.person.name.clone(), context, access })
    }
}

/// The part of the estate in the path that the caller may reach: lists are limited to it.
pub(crate) struct VisibleEstate {
    pub within: Option<AccessFilter>,
    pub estate: WholeEstate,
}

impl VisibleEstate {
    /// The estate, and the part of it that the caller sees; `None` is the whole estate.
    pub(crate) fn part(&self) -> (EstateId, Option<&AccessFilter>) {
        (self.estate.id, self.within.as_ref())
    }
}

impl FromRequestParts<App> for VisibleEstate {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _app: &App) -> Result<Self, Refusal> {
        let context = request_context(parts)?;
        let access = access_of(parts, &context)?;
        check_head(parts)?;
        let (id, person) = (access.estate_id, context.who.person.name.clone());
        Ok(Self { within: context.visibility.part(), estate: WholeEstate { id, person, context, access } })
    }
}

/// The EUI of what a path names, as the guard has found it: it may be named by its name.
#[derive(Clone, Copy)]
pub(crate) struct ResolvedEui(pub Eui64);

/// The EUI of what the path names.
pub(crate) struct PathEui(pub Eui64);

impl FromRequestParts<App> for PathEui {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        match parts.extensions.get::<ResolvedEui>() {
            Some(ResolvedEui(eui)) => Ok(Self(*eui)),
            None => Ok(Self(domain::input::eui("eui", &path_parameter(parts, app, "eui").await?)?)),
        }
    }
}

/// The last name in the path: of a fleet, a model or a downlink.
pub(crate) struct PathName(pub String);

impl FromRequestParts<App> for PathName {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        let parameters = RawPathParams::from_request_parts(parts, app).await.ok();
        let last = parameters.and_then(|all| all.iter().last().map(|(_, value)| value.to_owned()));
        last.map(Self).ok_or_else(|| not_found("name", parts.uri.path()))
    }
}

/// The model in the path.
pub(crate) struct PathModel(pub String);

impl FromRequestParts<App> for PathModel {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        Ok(Self(path_parameter(parts, app, "model").await?))
    }
}

/// The outlet in the path.
pub(crate) struct PathOutlet(pub String);

impl FromRequestParts<App> for PathOutlet {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        Ok(Self(path_parameter(parts, app, "outlet").await?))
    }
}

/// The dead letter in the path.
pub(crate) struct PathLetter(pub String);

impl FromRequestParts<App> for PathLetter {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        Ok(Self(path_parameter(parts, app, "letter").await?))
    }
}

async fn path_parameter(parts: &mut Parts, app: &App, name: &str) -> Result<String, Refusal> {
    let parameters = RawPathParams::from_request_parts(parts, app).await;
    let found = parameters.ok().and_then(|all| {
        let mut all = all.into_iter();
        all.find_map(|(key, value)| (key == name).then(|| value.to_owned()))
    });
    found.ok_or_else(|| not_found(name, parts.uri.path()))
}

/// The part of a list.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Paging {
    /// The `next` of the page before.
    pub after: Option<String>,
    /// Entries a page, 1 to 500; 100 if not given.
    #[param(minimum = 1, maximum = 500)]
    pub limit: Option<u32>,
}

impl Paging {
    pub(crate) fn after(&self) -> &str {
        self.after.as_deref().unwrap_or("")
    }

    pub(crate) fn limit(&self) -> Result<u32, Refusal> {
        match self.limit {
            None => Ok(100),
            Some(limit @ 1..=500) => Ok(limit),
            Some(other) => Err(api::problem::bad_field("limit", &other.to_string(), "1 to 500 are allowed").into()),
        }
    }
}

/// A page: one more row than asked for shows that there is a next one.
pub(crate) fn page<R, T>(
    mut rows: Vec<R>,
    limit: u32,
    cursor: impl Fn(&R) -> String,
    show: impl FnMut(R) -> T,
) -> api::Page<T> {
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = if more { rows.last().map(cursor) } else { None };
    api::Page { items: rows.into_iter().map(show).collect(), next }
}

/// A page of a list that is in memory as a whole, in its order; `key` tells its entries apart.
pub(crate) fn page_of<T>(
    mut all: Vec<T>,
    paging: &Paging,
    key: impl Fn(&T) -> String,
) -> Result<api::Page<T>, Refusal> {
    let limit = paging.limit()?;
    let first = match paging.after() {
        "" => 0,
        after => {
            let last = all.iter().position(|entry| key(entry) == after);
            1 + last.ok_or_else(|| api::problem::bad_field("after", after, "the `next` of the page before"))?
        }
    };
    all.drain(..first);
    Ok(page(all, limit, |entry| key(entry), |entry| entry))
}

/// Query parameters; invalid ones are answered with a problem.
pub(crate) struct Params<T>(pub T);

impl<T: DeserializeOwned> FromRequestParts<App> for Params<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        match Query::<T>::from_request_parts(parts, app).await {
            Ok(Query(value)) => Ok(Self(value)),
            Err(why) => {
                let problem = Problem::new(400, "bad_query", "The query parameters cannot be read");
                Err(problem.detail(why.body_text()).into())
            }
        }
    }
}
