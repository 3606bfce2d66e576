//! Bodies as objects with no fields but those that are described.

use std::collections::{BTreeMap, HashSet};

use utoipa::openapi::schema::{AdditionalProperties, ArrayItems};
use utoipa::openapi::{Content, ObjectBuilder, OpenApi, RefOr, Schema};

use crate::http::auth::endpoint::operations;
use crate::http::description::name_of;

/// States that bodies have no fields but those that are described. A body that consists of several parts is described as
/// one object. Returns the names of what requests consist of.
pub(super) fn close(openapi: &mut OpenApi) -> HashSet<String> {
    let Some(components) = &mut openapi.components else { return HashSet::new() };
    let schemas = &mut components.schemas;
    let bodies = openapi.paths.paths.values_mut().flat_map(|item| operations(item).map(|(_, operation)| operation));
    let bodies = bodies.filter_map(|operation| operation.request_body.as_ref()).filter_map(|body| match body {
        RefOr::T(body) => body.content.get("application/json"),
        RefOr::Ref(_) => None,
    });
    let mut waiting: Vec<String> = bodies
        .filter_map(|content| match content {
            RefOr::T(Content { schema: Some(RefOr::Ref(of)), .. }) => name_of(of),
            _ => None,
        })
        .collect();
    let mut closed = HashSet::new();
    while let Some(name) = waiting.pop() {
        if !closed.insert(name.clone()) {
            continue;
        }
        let Some(RefOr::T(schema)) = schemas.get(&name).cloned() else { continue };
        let mut schema = merged(&schema, schemas);
        if let Schema::Object(object) = &mut schema
            && !object.properties.is_empty()
            && object.additional_properties.is_none()
        {
            object.additional_properties = Some(Box::new(AdditionalProperties::FreeForm(false)));
        }
        referred(&schema, &mut waiting);
        schemas.insert(name, RefOr::T(schema));
    }
    // What has the fields of a closed object and more is described as one object: both at once could not hold.
    for name in schemas.keys().cloned().collect::<Vec<_>>() {
        if let Some(RefOr::T(schema @ Schema::AllOf(_))) = schemas.get(&name) {
            let whole = merged(schema, schemas);
            schemas.insert(name, RefOr::T(whole));
        }
    }
    closed
}

/// A schema of several parts as one object, if all of them are objects.
pub(super) fn merged(schema: &Schema, schemas: &BTreeMap<String, RefOr<Schema>>) -> Schema {
    let Schema::AllOf(parts) = schema else { return schema.clone() };
    let mut whole = ObjectBuilder::new().description(parts.description.clone()).build();
    for part in &parts.items {
        let part = match part {
            RefOr::T(schema) => Some(schema.clone()),
            RefOr::Ref(of) => match name_of(of).and_then(|name| schemas.get(&name)) {
                Some(RefOr::T(schema)) => Some(merged(schema, schemas)),
                _ => None,
            },
        };
        let Some(Schema::Object(part)) = part else { return schema.clone() };
        whole.properties.extend(part.properties);
        whole.required.extend(part.required);
    }
    Schema::Object(whole)
}

/// Adds the names of schemas that one refers to.
fn referred(schema: &Schema, found: &mut Vec<String>) {
    let mut each = |part: &RefOr<Schema>| match part {
        RefOr::Ref(of) => found.extend(name_of(of)),
        RefOr::T(schema) => referred(schema, found),
    };
    match schema {
        Schema::Object(object) => {
            object.properties.values().for_each(&mut each);
            if let Some(AdditionalProperties::RefOr(part)) = object.additional_properties.as_deref() {
                each(part);
            }
        }
        Schema::Array(array) => {
            if let ArrayItems::RefOrSchema(part) = &array.items {
                each(part);
            }
        }
        Schema::OneOf(choice) => choice.items.iter().for_each(each),
        Schema::AnyOf(choice) => choice.items.iter().for_each(each),
        Schema::AllOf(parts) => parts.items.iter().for_each(each),
        _ => {}
    }
}
