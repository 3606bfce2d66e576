//! What the OpenAPI document says of every endpoint: how callers identify themselves, and how refusals look.

mod bodies;
mod constraints;
mod messages;
mod shapes;

use std::collections::{BTreeMap, HashSet};

use axum::http::Method;
use utoipa::Modify;
use utoipa::openapi::header::HeaderBuilder;
use utoipa::openapi::path::{Operation, Parameter, ParameterBuilder, ParameterIn, PathItem};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityRequirement, SecurityScheme};
use utoipa::openapi::{
    Content, Header, ObjectBuilder, OpenApi, Ref, RefOr, Required, Response, ResponseBuilder, Schema, Type,
};

use crate::http::auth::endpoint::operations;
pub(crate) use messages::message_schemas;

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
    shapes::name_variants(openapi);
    shapes::mark_files(openapi);
    let requests = bodies::close(openapi);
    constraints::state(openapi, &requests);
    let revised: HashSet<String> = {
        let schemas = openapi.components.as_ref().map(|components| &components.schemas);
        let has_revision = |item: &PathItem| item.get.as_ref().is_some_and(|get| shows_revision(get, schemas));
        openapi.paths.paths.iter().filter(|(_, item)| has_revision(item)).map(|(path, _)| path.clone()).collect()
    };
    for (path, item) in &mut openapi.paths.paths {
        let revised = revised.contains(path);
        for (method, operation) in operations(item) {
            if path.contains("{estate}") {
                operation.parameters.get_or_insert_default().insert(0, estate().into());
            }
            if right(operation) != Some("none") {
                operation.security = Some(vec![SecurityRequirement::new("token", NO_SCOPES)]);
            }
            headers(&method, operation, revised);
            refusals(path, operation);
        }
    }
}

/// Whether an operation answers with something that has a revision.
fn shows_revision(operation: &Operation, schemas: Option<&BTreeMap<String, RefOr<Schema>>>) -> bool {
    let Some(RefOr::T(answer)) = operation.responses.responses.get("200") else { return false };
    let shown = answer.content.get("application/json").and_then(|content| match content {
        RefOr::T(Content { schema: Some(RefOr::Ref(of)), .. }) => name_of(of),
        _ => None,
    });
    let Some(RefOr::T(schema)) = shown.and_then(|name| schemas?.get(&name)) else { return false };
    has_field(schema, "revision")
}

fn has_field(schema: &Schema, name: &str) -> bool {
    match schema {
        Schema::Object(object) => object.properties.contains_key(name),
        Schema::AllOf(parts) => {
            parts.items.iter().any(|part| matches!(part, RefOr::T(schema) if has_field(schema, name)))
        }
        _ => false,
    }
}

fn text() -> Schema {
    Schema::from(ObjectBuilder::new().schema_type(Type::String))
}

fn header_parameter(name: &str, told: &str) -> Parameter {
    ParameterBuilder::new()
        .name(name)
        .parameter_in(ParameterIn::Header)
        .required(Required::False)
        .description(Some(told))
        .schema(Some(text()))
        .build()
}

fn header(told: &str) -> RefOr<Header> {
    RefOr::T(HeaderBuilder::new().schema(Some(text())).description(Some(told)).build())
}

const TAG: &str = "Revision and content, to be sent back as `If-Match` or `If-None-Match`.";

/// Adds the headers that an operation takes and answers with.
fn headers(method: &Method, operation: &mut Operation, revised: bool) {
    let mut taken = Vec::new();
    let open = right(operation) == Some("none");
    let answers = &mut operation.responses.responses;
    let mut add_to = |status: &str, name: &str, told: &str| {
        if let Some(RefOr::T(answer)) = answers.get_mut(status) {
            answer.headers.insert(name.to_owned(), header(told));
        }
    };
    let json = |answers: &BTreeMap<String, RefOr<Response>>| matches!(answers.get("200"), Some(RefOr::T(answer)) if answer.content.contains_key("application/json"));
    if *method == Method::POST {
        add_to("201", "Location", "Where it is.");
        add_to("201", "ETag", TAG);
        add_to("202", "Location", "Where its progress is.");
        if answers.contains_key("201") || answers.contains_key("202") {
            taken.push(header_parameter(
                "Idempotency-Key",
                "Any text of 1 to 100 characters, new for each request. If the same request comes again with the same key \
                 within a day, it is not carried out again, and gets the same answer.",
            ));
        }
    } else if *method == Method::GET && !open && json(answers) {
        if let Some(RefOr::T(answer)) = answers.get_mut("200") {
            answer.headers.insert("ETag".to_owned(), header(TAG));
        }
        taken.push(header_parameter(
            "If-None-Match",
            "The ETag of an earlier answer; if nothing has changed, 304 is answered.",
        ));
        answers.insert("304".into(), RefOr::T(ResponseBuilder::new().description("It is as it was").build()));
    } else if revised {
        taken.push(header_parameter(
            "If-Match",
            "The ETag or the revision that was seen; if somebody has changed it since, 412 is answered and nothing changes.",
        ));
        if *method == Method::PUT {
            taken.push(header_parameter(
                "If-None-Match",
                "`*` if something new is to be made; if there is one of that name, 412 is answered and nothing changes.",
            ));
        }
        answers.insert("412".into(), refusal("Somebody else has changed it meanwhile, or it is there already"));
    }
    operation.parameters.get_or_insert_default().extend(taken.into_iter().map(RefOr::from));
}

/// The right that an endpoint states.
fn right(operation: &Operation) -> Option<&str> {
    operation.extensions.as_ref()?.get("x-right")?.as_str()
}

fn estate() -> Parameter {
    ParameterBuilder::new()
        .name("estate")
        .parameter_in(ParameterIn::Path)
        .required(Required::True)
        .schema(Some(text()))
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
            known.or_insert_with(|| refusal(told));
        }
    }
    for (status, response) in &mut operation.responses.responses {
        if let RefOr::T(response) = response {
            as_problem(response);
            if response.description.is_empty() {
                told_by_status(status).clone_into(&mut response.description);
            }
            if status.starts_with('2') && !open {
                response
                    .headers
                    .insert("RateLimit".into(), header("Requests that are left, and seconds until all are."));
            }
            if status == "429" {
                response.headers.insert("Retry-After".into(), header("Seconds until another try may work."));
            }
        }
    }
}

/// What an answer is, where its handler says nothing of it.
fn told_by_status(status: &str) -> &'static str {
    match status {
        "200" => "What was asked for",
        "201" => "It was made",
        "202" => "It was begun",
        "204" => "It was done",
        "304" => "It is as it was",
        "401" => "The sign-in, the password or the code is wrong",
        "403" => "This is not allowed",
        "404" => "There is nothing of that name",
        "409" => "It cannot be done as things are",
        "413" => "The body is too large",
        "422" => "A value cannot be used",
        "429" => "Too many requests",
        _ => "It could not be done",
    }
}

fn refusal(told: &str) -> RefOr<Response> {
    let problem = Content::new(Some(RefOr::Ref(Ref::new(SCHEMA))));
    RefOr::T(ResponseBuilder::new().description(told).content(PROBLEM, problem).build())
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

/// The name of the schema that a reference leads to.
fn name_of(of: &Ref) -> Option<String> {
    of.ref_location.rsplit('/').next().map(str::to_owned)
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
        assert!(fleets["201"]["content"]["application/json"].is_object());
        assert!(fleets["201"]["headers"]["Location"].is_object());
        let sign_in = &document["paths"]["/api/v1/sign-in"]["post"]["responses"];
        assert!(sign_in["401"].is_object() && sign_in.get("403").is_none());
        let health = document["paths"]["/api/v1/health"]["get"]["responses"].as_object().unwrap();
        assert_eq!(health.keys().collect::<Vec<_>>(), ["200", "429", "503"]);
    }
}
