//! The caller and what is known of the request, for handlers.

use std::net::IpAddr;
use std::sync::Arc;

use api::people::rights::Right;
use api::problem::Problem;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use domain::grants::Visibility;

use crate::gateways::credentials::Peer;
use crate::http::app::App;
use crate::http::auth::access::{Access, Who};
use crate::http::auth::audit_context::AuditContext;
use crate::http::error::Refusal;

/// The caller and what is known of the request, for handlers.
#[derive(Clone)]
pub struct RequestContext {
    pub who: Who,
    pub address: IpAddr,
    pub access: Option<Arc<Access>>,
    /// The part of the estate that the right covers.
    pub visibility: Visibility,
    /// The revision that the caller saw.
    pub if_match: Option<String>,
    /// Whether something new is wanted, and no change of what is there.
    pub only_new: bool,
    /// Whether the path names a device, which has been checked.
    pub of_device: bool,
    pub audit: AuditContext,
}

/// The context that `authorize` has put into the request.
pub(crate) fn request_context(parts: &Parts) -> Result<RequestContext, Refusal> {
    let missing = || {
        tracing::error!("{} was reached without a caller: its x-right does not fit it", parts.uri.path());
        Refusal::internal()
    };
    parts.extensions.get::<RequestContext>().cloned().ok_or_else(missing)
}

impl FromRequestParts<App> for RequestContext {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _app: &App) -> Result<Self, Refusal> {
        request_context(parts)
    }
}

/// From where a request comes.
pub(crate) fn source(parts: &Parts) -> IpAddr {
    parts.extensions.get::<Peer>().map_or(IpAddr::from([0, 0, 0, 0]), |peer| peer.address.ip())
}

/// From where a request comes.
pub(crate) struct Source(pub IpAddr);

impl FromRequestParts<App> for Source {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _app: &App) -> Result<Self, Refusal> {
        Ok(Self(source(parts)))
    }
}

/// A refusal: what is not allowed, and what is.
pub(crate) fn missing(right: Right, access: &Access, who: &Who) -> Refusal {
    let may: Vec<_> = access.grants.rights().iter().map(Right::name).collect();
    let by = match (who.token(), access.role) {
        (Some(token), _) => format!("with the token {token:?}"),
        (None, Some(role)) => format!("as {role} of {}", access.slug),
        (None, None) => "with what is shared here".into(),
    };
    let problem = Problem::new(403, "not_allowed", format!("This needs the right {right:?}", right = right.name()));
    Refusal(problem.detail(format!("{by} one may: {}", may.join(", "))))
}

/// A refusal: the request goes beyond the part that the caller reaches.
pub(crate) fn beyond(visibility: &Visibility) -> Refusal {
    let part = match visibility {
        Visibility::Part(part) => {
            let devices = part.devices.iter().map(ToString::to_string);
            part.fleets.iter().cloned().chain(devices).collect::<Vec<_>>().join(", ")
        }
        _ => String::new(),
    };
    let problem = Problem::new(403, "beyond", "This concerns the whole estate");
    Refusal(problem.detail(format!("one may reach only: {part}")))
}
