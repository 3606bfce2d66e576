//! What the OpenAPI document says of every endpoint: how callers identify themselves, and how refusals look.

use utoipa::Modify;
use utoipa::openapi::path::{Operation, Parameter, ParameterBuilder, ParameterIn};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityRequirement, SecurityScheme};
use utoipa::openapi::{Content, ObjectBuilder, OpenApi, Ref, RefOr, Required, Response, ResponseBuilder, Schema, Type};

use crate::http::auth::authorize::operations;

/// As refusals are sent (RFC 9457).
const PROBLEM: &str = "application/problem+json";
const NO_SCOPES: [&str; 0] = [];
const SCHEMA: &str = "#/components/schemas/Problem";

/// Requests show a token.
pub(crate) struct TokenScheme;

impl Modify for TokenScheme {
    fn modify(&self, openapi: &mut OpenApi) {
        let scheme = SecurityScheme::Http(HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build());
        openapi.components.get_or_insert_default().add_security_scheme("token", scheme);
    }
}

/// Adds to each endpoint what follows from its path and its `x-right`: the estate, the token, and the refusals that
/// come before its handler.
pub(crate) fn complete(openapi: &mut OpenApi) {
    for (path, item) in &mut openapi.paths.paths {
        for (_, operation) in operations(item) {
            if path.contains("{estate}") {
                operation.parameters.get_or_insert_default().insert(0, estate().into());
            }
            if right(operation) != Some("none") {
                operation.security = Some(vec![SecurityRequirement::new("token", NO_SCOPES)]);
            }
            refusals(path, operation);
        }
    }
}

/// The right that an endpoint states.
fn right(operation: &Operation) -> Option<&str> {
    operation.extensions.as_ref()?.get("x-right")?.as_str()
}

fn estate() -> Parameter {
    let text = Schema::from(ObjectBuilder::new().schema_type(Type::String));
    ParameterBuilder::new()
        .name("estate")
        .parameter_in(ParameterIn::Path)
        .required(Required::True)
        .schema(Some(text))
        .build()
}

fn refusals(path: &str, operation: &mut Operation) {
    let open = right(operation) == Some("none");
    let in_query = |parameter: &RefOr<Parameter>| matches!(parameter, RefOr::T(parameter) if parameter.parameter_in == ParameterIn::Query);
    let query = operation.parameters.iter().flatten().any(in_query);
    let body = operation.request_body.is_some();
    for (status, told, when) in [
        ("400", "The query or the body cannot be read", query || body),
        ("401", "No valid token came with the request", !open),
        ("403", "This is not allowed", !open),
        ("404", "There is nothing of that name", path.contains('{')),
        ("413", "The body is too large", body),
        ("415", "The body is of another kind than is expected", body),
        ("422", "A value cannot be used", query || body || path.contains('{')),
        ("429", "Too many requests", true),
        ("503", "The database is not available", path != "/api/v1/health"),
    ] {
        if when {
            let known = operation.responses.responses.entry(status.to_owned());
            known.or_insert_with(|| {
                RefOr::T(ResponseBuilder::new().description(told).content(PROBLEM, problem()).build())
            });
        }
    }
    for response in operation.responses.responses.values_mut() {
        if let RefOr::T(response) = response {
            as_problem(response);
        }
    }
}

fn problem() -> Content {
    Content::new(Some(RefOr::Ref(Ref::new(SCHEMA))))
}

/// A handler says that it answers with a problem; how problems are sent is said here.
fn as_problem(response: &mut Response) {
    let is_problem = |content: &RefOr<Content>| matches!(content, RefOr::T(Content { schema: Some(RefOr::Ref(of)), .. }) if of.ref_location == SCHEMA);
    if response.content.get("application/json").is_some_and(is_problem)
        && let Some(content) = response.content.shift_remove("application/json")
    {
        response.content.insert(PROBLEM.to_owned(), content);
    }
}

#[cfg(test)]
mod tests {
    use crate::http::document;

    #[test]
    fn every_refusal_is_described_and_sent_as_a_problem() {
        let document = serde_json::to_value(document()).unwrap();
        let fleets = &document["paths"]["/api/v1/estates/{estate}/fleets"]["post"]["responses"];
        for status in ["400", "401", "403", "404", "409", "413", "415", "422", "429", "503"] {
            let schema = &fleets[status]["content"]["application/problem+json"]["schema"]["$ref"];
            assert_eq!(schema, "#/components/schemas/Problem", "{status}");
        }
        assert!(fleets["200"]["content"]["application/json"].is_object());
        let sign_in = &document["paths"]["/api/v1/sign-in"]["post"]["responses"];
        assert!(sign_in["401"].is_object() && sign_in.get("403").is_none());
        let health = document["paths"]["/api/v1/health"]["get"]["responses"].as_object().unwrap();
        assert_eq!(health.keys().collect::<Vec<_>>(), ["200", "429", "503"]);
    }
}
