//! The endpoints as their descriptions state them: what each asks of its caller, and what it takes.

use std::collections::HashMap;
use std::sync::Arc;

use api::people::rights::Right;
use axum::http::Method;
use store::Named;
use utoipa::openapi::path::{Operation, PathItem};

use crate::http::contract::Contract;

/// What an endpoint asks of its caller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Requirement {
    /// Nothing.
    Nothing,
    /// To be known.
    Anyone,
    /// To have signed in: an access token may not manage an account.
    Oneself,
    /// To have signed in, and to have something to do with the estate.
    Member,
    /// To have signed in as the one who keeps the installation.
    Installation,
    /// A right in the estate.
    In(Right),
}

impl Requirement {
    fn read(text: &str) -> Option<Self> {
        Some(match text {
            "none" => Self::Nothing,
            "anyone" => Self::Anyone,
            "oneself" => Self::Oneself,
            "member" => Self::Member,
            "installation" => Self::Installation,
            right => Self::In(right.parse().ok()?),
        })
    }

    /// Whether it changes people's rights.
    pub(crate) fn concerns_rights(self) -> bool {
        matches!(self, Self::Oneself | Self::Member | Self::In(Right::People))
    }

    /// Whether a request is recorded: reading is not, with any method.
    pub(crate) fn is_deed(self, method: &Method) -> bool {
        match self {
            Self::In(Right::View) => false,
            Self::In(Right::Keys) => true,
            _ => !method.is_safe(),
        }
    }
}

/// One endpoint.
#[derive(Clone)]
pub(crate) struct Endpoint {
    pub name: String,
    pub needs: Requirement,
    /// What the EUI in its path is of.
    pub names: Option<Named>,
    pub contract: Arc<Contract>,
}

impl Endpoint {
    pub(crate) fn of_device(&self) -> bool {
        self.names == Some(Named::Device)
    }
}

/// What a path names by an EUI, or by a name.
fn named_in(path: &str) -> Option<Named> {
    let all = [("/devices/{eui}", Named::Device), ("/gateways/{eui}", Named::Gateway), ("/groups/{eui}", Named::Group)];
    all.into_iter().find(|(part, _)| path.contains(part)).map(|(_, named)| named)
}

/// All endpoints, as they are described.
pub(crate) struct Endpoints(HashMap<(Method, String), Endpoint>);

impl Endpoints {
    /// From the OpenAPI document.
    ///
    /// # Errors
    /// Names the first endpoint that does not say what it needs.
    pub(crate) fn of(document: &utoipa::openapi::OpenApi) -> Result<Self, String> {
        let mut found = HashMap::new();
        let mut document = document.clone();
        let schemas = document.components.as_ref().map(|components| serde_json::to_value(&components.schemas));
        let schemas = Arc::new(schemas.transpose().map_err(|why| why.to_string())?.unwrap_or_default());
        for (path, item) in &mut document.paths.paths {
            for (method, operation) in operations(item) {
                let stated = operation.extensions.as_ref().and_then(|all| all.get("x-right")?.as_str());
                let needs = stated.and_then(Requirement::read);
                let needs = needs.ok_or_else(|| format!("{method} {path} does not state an x-right that is known"))?;
                let endpoint = Endpoint {
                    name: operation.operation_id.clone().unwrap_or_default(),
                    needs,
                    names: named_in(path),
                    contract: Arc::new(Contract::of(operation, &schemas)?),
                };
                found.insert((method, path.clone()), endpoint);
            }
        }
        Ok(Self(found))
    }

    pub(crate) fn get(&self, method: &Method, path: &str) -> Option<&Endpoint> {
        // HEAD is answered like GET.
        let method = if method == Method::HEAD { Method::GET } else { method.clone() };
        self.0.get(&(method, path.to_owned()))
    }
}

/// The endpoints at a path.
pub(crate) fn operations(item: &mut PathItem) -> impl Iterator<Item = (Method, &mut Operation)> {
    let all = [
        (Method::GET, &mut item.get),
        (Method::PUT, &mut item.put),
        (Method::POST, &mut item.post),
        (Method::DELETE, &mut item.delete),
        (Method::PATCH, &mut item.patch),
    ];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation.as_mut()?)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_endpoint_states_what_it_needs() {
        let endpoints = Endpoints::of(&crate::http::document()).unwrap();
        assert!(endpoints.0.len() > 100, "{}", endpoints.0.len());
        for ((method, path), endpoint) in &endpoints.0 {
            let in_estate = path.contains("{estate}");
            let fits = match endpoint.needs {
                Requirement::Nothing | Requirement::Anyone | Requirement::Oneself | Requirement::Installation => {
                    !in_estate
                }
                Requirement::Member | Requirement::In(_) => in_estate,
            };
            assert!(fits, "{method} {path} needs {:?}", endpoint.needs);
            let changes = matches!(*method, Method::PUT | Method::DELETE | Method::PATCH);
            assert!(!changes || endpoint.needs != Requirement::In(Right::View), "{method} {path} changes something");
        }
    }

    #[test]
    fn an_endpoint_that_states_nothing_is_found() {
        let mut document = crate::http::document();
        let path = document.paths.paths.get_mut("/api/v1/me").unwrap();
        path.get.as_mut().unwrap().extensions = None;
        assert!(Endpoints::of(&document).is_err_and(|why| why.contains("GET /api/v1/me")));
    }
}
