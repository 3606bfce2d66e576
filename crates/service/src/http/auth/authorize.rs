//! Enforces the right that each operation states. The only place where a request is allowed or refused.
//!
//! Each endpoint states in its description what it asks of its caller (`x-right`), and that is what is enforced: an
//! endpoint that states nothing is never answered. What changes something, shows a secret or is refused goes into the
//! audit log from here, with what the handler has left in its [`AuditContext`].

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

use api::people::audit::AuditKind;
use api::people::rights::Right;
use api::problem::Problem;
use axum::extract::{FromRequestParts as _, MatchedPath, RawPathParams, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Response};
use domain::grants::Visibility;
use lorawan::Eui64;
use store::{EstateId, PersonId, StoreError};

use crate::gateways::credentials::Peer;
use crate::http::app::App;
use crate::http::auth::access::{Access, By, Who};
use crate::http::auth::audit_context::{self, AuditContext, AuditRecord};
use crate::http::auth::authenticate;
use crate::http::auth::context::{RequestContext, missing, source};
use crate::http::auth::endpoint::{Endpoint, Endpoints, Requirement};
use crate::http::auth::presented::{Presented, presented};
use crate::http::auth::recent::PATIENCE;
use crate::http::contract::body::{MAX_BODY, whole};
use crate::http::contract::{idempotency, tags};
use crate::http::error::{Refusal, no_such_method, not_found};
use crate::http::extract::ResolvedEui;
use crate::http::upload;

/// Passes a request to its handler, or refuses it with the reason.
pub(crate) async fn guard(
    State((app, endpoints)): State<(App, Arc<Endpoints>)>,
    matched: Option<MatchedPath>,
    request: Request,
    next: Next,
) -> Response {
    // A path without a route is answered by the console, or with 404.
    let Some(path) = matched.filter(|path| path.as_str().starts_with(api::BASE)) else {
        return next.run(request).await;
    };
    // A handler without a description is never called.
    let Some(endpoint) = endpoints.get(request.method(), path.as_str()).cloned() else {
        return no_such_method(request.method().clone(), request.uri().clone()).await.into_response();
    };
    if let Err(refusal) = own_site(request.method(), request.headers(), app.edge.secure) {
        return refusal.into_response();
    }
    let (mut parts, body) = request.into_parts();
    let audit = AuditContext::at(below_estate(parts.uri.path()));
    parts.extensions.insert(audit.clone());
    parts.extensions.insert(Arc::clone(&endpoint.contract));
    let contract = Arc::clone(&endpoint.contract);
    if endpoint.needs == Requirement::Nothing {
        return match contract.check_head(&parts) {
            Ok(()) => next.run(Request::from_parts(parts, body)).await,
            Err(refusal) => refusal.into_response(),
        };
    }
    let address = source(&parts);
    let who = match known_caller(&app, &parts.headers, address, &endpoint).await {
        Ok(who) => who,
        Err(refusal) => return refusal.into_response(),
    };
    let seat = parts.extensions.get::<Peer>().map(|peer| Arc::clone(&peer.seat));
    if seat.is_some_and(|seat| !seat.is_of(who.person.id)) {
        return Refusal::too_many("connections").into_response();
    }
    let record = AuditRecord::by(&who, address, &endpoint.name);
    let person = who.person.id;
    let mut call = Call { app, endpoint, person, method: parts.method.clone(), estate: None, audit, record };
    match call.admit(&mut parts, who, address).await {
        Ok(context) => parts.extensions.insert(context),
        Err(refusal) => return refusal.into_response(),
    };
    let asked = parts.headers.clone();
    // In an estate the handler's extractor checks it, once it knows whether the caller's part of the estate is enough.
    let head = if call.estate.is_none() { contract.check_head(&parts) } else { Ok(()) };
    let answer = match head {
        Ok(()) => call.carry_out(next, Request::from_parts(parts, body)).await,
        Err(refusal) => refusal.into_response(),
    };
    call.end(answer.status()).await;
    let mut answer = match call.method {
        Method::GET | Method::HEAD => tags::tagged(&asked, answer).await,
        _ if contract.creates || contract.has_revision => tags::revised(answer).await,
        _ => answer,
    };
    tell_limit(&call.app, call.person, &mut answer);
    answer
}

/// Tells how many requests the account has left (draft-ietf-httpapi-ratelimit-headers-10).
fn tell_limit(app: &App, person: PersonId, answer: &mut Response) {
    let (left, most, full_in) = app.edge.limits.requests.left(&person, Instant::now());
    let window_s = crate::http::auth::limits::BURST_S;
    let told = [
        ("ratelimit-policy", format!("\"account\";q={most};w={window_s}")),
        ("ratelimit", format!("\"account\";r={left};t={}", full_in.as_secs_f64().ceil())),
    ];
    for (name, text) in told {
        if let Ok(value) = header::HeaderValue::from_str(&text) {
            answer.headers_mut().insert(header::HeaderName::from_static(name), value);
        }
    }
}

/// A call of a known caller, on its way to its handler and back.
struct Call {
    app: App,
    endpoint: Endpoint,
    person: PersonId,
    method: Method,
    /// The estate its path names, once the caller has been let in.
    estate: Option<EstateId>,
    audit: AuditContext,
    record: AuditRecord,
}

impl Call {
    /// The caller's context for the handler, or why the call is refused.
    async fn admit(&mut self, parts: &mut Parts, who: Who, address: IpAddr) -> Result<RequestContext, Refusal> {
        let mut context = RequestContext {
            who,
            address,
            access: None,
            visibility: Visibility::Nothing,
            if_match: tags::if_match(&parts.headers),
            only_new: parts.method == Method::PUT && tags::is_only_new(&parts.headers),
            of_device: self.endpoint.of_device(),
            audit: self.audit.clone(),
        };
        let parameters = RawPathParams::from_request_parts(parts, &self.app).await.ok();
        let named = |name: &str| {
            let mut all = parameters.iter().flatten();
            all.find_map(|(key, value)| (key == name).then(|| value.to_owned()))
        };
        let admitted = match self.signed_in(&context.who) {
            Err(refusal) => Err((None, refusal)),
            Ok(()) => self.enter(&mut context, named("estate"), named("eui")).await,
        };
        match admitted {
            Ok(Some(eui)) => {
                parts.extensions.insert(ResolvedEui(eui));
            }
            Ok(None) => {}
            Err((estate, refusal)) => {
                // What cannot be read at all is a mistake, not somebody who wants more than is allowed.
                if matches!(refusal.0.status, 403 | 404) {
                    self.record.refused(&self.app, estate, &self.audit, &refusal).await;
                }
                return Err(refusal);
            }
        }
        self.estate = context.access.as_ref().map(|access| access.estate_id);
        Ok(context)
    }

    /// Refuses an access token where a sign-in is needed.
    fn signed_in(&self, who: &Who) -> Result<(), Refusal> {
        let needs = self.endpoint.needs;
        let needs_sign_in = matches!(needs, Requirement::Oneself | Requirement::Member | Requirement::Installation);
        if needs_sign_in && !matches!(who.by, By::SignIn(_)) {
            let problem = Problem::new(403, "not_by_token", "This is not done with an access token");
            return Err(Refusal(problem.detail("sign in with name and password instead")));
        }
        if needs == Requirement::Installation && !who.person.keeps_installation {
            return Err(Refusal(Problem::new(403, "not_allowed", "This is for the installation's keeper")));
        }
        Ok(())
    }

    /// Finds out what the caller may do in the estate and with the device that the path names. Gives back the EUI of what
    /// the path names.
    async fn enter(
        &self,
        context: &mut RequestContext,
        estate: Option<String>,
        named: Option<String>,
    ) -> Result<Option<Eui64>, Denied> {
        let Some(slug) = estate else { return Ok(None) };
        let access = access_of(&self.app, &context.who, &slug, &self.endpoint).await.map_err(|why| (None, why))?;
        let Some(access) = access else {
            // To others an estate does not exist.
            return Err((self.app.directory.estate_named(&slug), not_found("estate", &slug)));
        };
        let estate_id = access.estate_id;
        if let Requirement::In(right) = self.endpoint.needs {
            context.visibility = access.grants.visibility(right);
            if context.visibility == Visibility::Nothing {
                return Err((Some(estate_id), missing(right, &access, &context.who)));
            }
        }
        let eui = match (named, self.endpoint.names) {
            (Some(text), Some(kind)) => {
                Some(self.app.eui_of(estate_id, kind, &text).await.map_err(|why| (Some(estate_id), why))?)
            }
            _ => None,
        };
        if let Some(eui) = eui.filter(|_| self.endpoint.of_device()) {
            let known = self.app.directory.device(eui).filter(|device| device.estate_id == estate_id);
            if !known.is_some_and(|device| context.visibility.covers(eui, &device.fleet)) {
                return Err((Some(estate_id), not_found("device", eui)));
            }
        }
        context.access = Some(Arc::new(access));
        Ok(eui)
    }

    /// Runs the handler. Changes in one estate run one after the other, so that the second sees the first.
    async fn carry_out(&self, next: Next, mut request: Request) -> Response {
        let changes = matches!(self.method, Method::PUT | Method::PATCH | Method::DELETE);
        let turn = self.estate.filter(|_| changes).map(|estate| self.app.edge.turn(estate));
        if turn.is_some() {
            // All of it first: nobody waits for a body that comes slowly.
            request = match whole(request, self.endpoint.contract.max_body).await {
                Ok(request) => request,
                Err(refusal) => return refusal.into_response(),
            };
        }
        let _held = match &turn {
            Some(turn) => Some(turn.lock().await),
            None => None,
        };
        if !self.endpoint.contract.creates {
            return next.run(request).await;
        }
        let most = self.endpoint.contract.max_body;
        // With a key the body is read before the handler takes its turn: as many large ones as there is memory for.
        let keyed = most > MAX_BODY && request.headers().contains_key(idempotency::KEY);
        let _memory = match keyed {
            true => match upload::memory().await {
                Ok(memory) => Some(memory),
                Err(refusal) => return refusal.into_response(),
            },
            false => None,
        };
        idempotency::once(&self.app.store, self.person, most, request, async |request| next.run(request).await).await
    }

    /// Records what was done. A refused request has changed nothing.
    async fn end(&mut self, status: StatusCode) {
        let needs = self.endpoint.needs;
        if needs.concerns_rights() && !self.method.is_safe() && status.is_success() {
            self.app.edge.rights_changed();
        }
        let kind = if status == StatusCode::FORBIDDEN {
            Some(AuditKind::Refusal)
        } else if !status.is_client_error() && (needs.is_deed(&self.method) || self.audit.is_deed()) {
            (needs == Requirement::In(Right::Keys)).then_some(AuditKind::Secret)
        } else {
            return;
        };
        self.record.ended(&self.app, self.estate, &self.audit, status, kind).await;
    }
}

/// What a path names below its estate.
fn below_estate(path: &str) -> &str {
    let path = path.strip_prefix(api::BASE).unwrap_or(path);
    match path.strip_prefix("/estates/").and_then(|rest| rest.split_once('/')) {
        Some((_, below)) => below,
        None => path.trim_start_matches('/'),
    }
}

/// Refuses a change that another site asks a browser for: the browser sends the cookie with it. A token in a header is
/// put there on purpose, so it needs no check.
fn own_site(method: &Method, headers: &HeaderMap, secure: bool) -> Result<(), Refusal> {
    let text = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let by_cookie = !headers.contains_key(header::AUTHORIZATION) && headers.contains_key(header::COOKIE);
    if method.is_safe() || !by_cookie {
        return Ok(());
    }
    let host = text(header::HOST).unwrap_or_default();
    let origin = text(header::ORIGIN).and_then(|origin| origin.split_once("://"));
    // Without TLS of its own there may be a proxy that has it.
    let origin = origin.map(|(scheme, host)| if secure && scheme != "https" { "" } else { host });
    let fetched = headers.get("sec-fetch-site").and_then(|value| value.to_str().ok());
    match (origin, fetched) {
        (_, Some("cross-site" | "same-site")) => {}
        (Some(origin), _) if !host.is_empty() && origin == host => return Ok(()),
        (None, Some("same-origin" | "none")) => return Ok(()),
        _ => {}
    }
    let problem = Problem::new(403, "other_site", "This has to be asked for from the console itself");
    Err(Refusal(problem.detail("the request came with a cookie, and its Origin is not this service")))
}

/// Who a request is from.
async fn known_caller(app: &App, headers: &HeaderMap, address: IpAddr, endpoint: &Endpoint) -> Result<Who, Refusal> {
    let wanted = || Refusal(Problem::new(401, "sign_in", "Sign in first: no valid token came with the request"));
    let presented = presented(headers, app.edge.secure).ok_or_else(wanted)?;
    let limits = &app.edge.limits;
    let Some(who) = who_calls(app, &presented, address, endpoint).await? else {
        limits.unknown.take(limits.of(address), Instant::now()).map_err(Refusal::too_often)?;
        if limits.told.take(limits.of(address), Instant::now()).is_ok() {
            audit_context::unknown_token(app, address, &endpoint.name).await;
        }
        return Err(wanted());
    };
    limits.requests.take(who.person.id, Instant::now()).map_err(Refusal::too_often)?;
    Ok(who)
}

/// While the database is away, questions about the service's state are answered to recent callers.
const FROM_MEMORY: [&str; 3] = ["show_ingest", "show_metrics", "show_watch"];

async fn who_calls(
    app: &App,
    presented: &Presented,
    address: IpAddr,
    endpoint: &Endpoint,
) -> Result<Option<Who>, Refusal> {
    let hash = crate::http::auth::secret::token_hash(&presented.token);
    let asked = tokio::time::timeout(PATIENCE, authenticate::who(app, presented, address)).await;
    match asked {
        Ok(Ok(Some(who))) => {
            app.edge.recent.remember(hash, &who);
            Ok(Some(who))
        }
        Ok(Ok(None)) => Ok(None),
        away => {
            let from_memory = FROM_MEMORY.contains(&endpoint.name.as_str());
            match (app.edge.recent.who(hash).filter(|_| from_memory), away) {
                (Some(who), _) => Ok(Some(who)),
                (None, Ok(Err(error))) => Err(error.into()),
                (None, _) => Err(StoreError::NoAnswer(PATIENCE).into()),
            }
        }
    }
}

async fn access_of(app: &App, who: &Who, slug: &str, endpoint: &Endpoint) -> Result<Option<Access>, Refusal> {
    let asked = tokio::time::timeout(PATIENCE, authenticate::access(app, who, slug)).await;
    match asked {
        Ok(Ok(Some(access))) => {
            app.edge.recent.remember_access(who.person.id, slug, &access);
            Ok(Some(access))
        }
        Ok(Err(refusal)) if refusal.0.status == 404 => Ok(None),
        Ok(Ok(None)) => Ok(None),
        away => {
            let from_memory = FROM_MEMORY.contains(&endpoint.name.as_str());
            match (app.edge.recent.access(who.person.id, slug).filter(|_| from_memory), away) {
                (Some(access), _) => Ok(Some(access)),
                (None, Ok(Err(refusal))) => Err(refusal),
                (None, _) => Err(StoreError::NoAnswer(PATIENCE).into()),
            }
        }
    }
}

/// Why a call is refused, and the estate that it was about.
type Denied = (Option<EstateId>, Refusal);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cookie_is_taken_from_the_own_site_only() {
        let ask = |method: Method, pairs: &[(&'static str, &'static str)]| {
            let headers = pairs
                .iter()
                .map(|(name, value)| (header::HeaderName::from_static(name), header::HeaderValue::from_static(value)));
            own_site(&method, &headers.collect(), true).is_ok()
        };
        let cookie = ("cookie", "keen_heron=1");
        let host = ("host", "heron.example:8680");
        assert!(ask(Method::GET, &[cookie, host, ("origin", "https://evil.example")]), "reading has no effect");
        assert!(ask(Method::POST, &[cookie, host, ("origin", "https://heron.example:8680")]));
        assert!(!ask(Method::POST, &[cookie, host, ("origin", "https://evil.example")]));
        assert!(
            !ask(Method::POST, &[cookie, host, ("origin", "http://heron.example:8680")]),
            "not what was sent over TLS"
        );
        assert!(!ask(Method::POST, &[cookie, host, ("origin", "null")]));
        assert!(!ask(Method::POST, &[cookie, host, ("sec-fetch-site", "cross-site")]));
        assert!(!ask(Method::POST, &[cookie, host]), "a browser says where it comes from");
        assert!(ask(Method::POST, &[cookie, host, ("sec-fetch-site", "same-origin")]));
        assert!(ask(Method::POST, &[("authorization", "Bearer 1"), host, ("origin", "https://evil.example")]));
        assert!(!ask(Method::POST, &[cookie, ("origin", "https://heron.example:8680")]), "no host is no match");
    }

    #[test]
    fn the_object_is_what_stands_below_the_estate() {
        assert_eq!(below_estate("/api/v1/estates/tarnsey/devices/02/radio"), "devices/02/radio");
        assert_eq!(below_estate("/api/v1/me/password"), "me/password");
        assert_eq!(below_estate("/api/v1/estates/tarnsey"), "estates/tarnsey");
    }
}
