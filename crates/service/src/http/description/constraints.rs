//! The form of identifiers in answers.
//!
//! Input is forgiving, so that requests say nothing of it. The ranges of what is given stand at the fields, in `api`.

use std::collections::HashSet;

use utoipa::openapi::schema::SchemaType;
use utoipa::openapi::{Object, OpenApi, RefOr, Schema, Type};

const EUI: &str = "^[0-9a-f]{16}$";
const FORMS: &[(&str, &str)] = &[("dev_eui", EUI), ("join_eui", EUI), ("eui", EUI), ("dev_addr", "^[0-9a-f]{8}$")];

/// States the form of what answers consist of; `requests` are the schemas that requests consist of.
pub(super) fn state(openapi: &mut OpenApi, requests: &HashSet<String>) {
    let Some(components) = &mut openapi.components else { return };
    for (_, schema) in components.schemas.iter_mut().filter(|(name, _)| !requests.contains(*name)) {
        if let RefOr::T(schema) = schema {
            objects(schema);
        }
    }
}

fn objects(schema: &mut Schema) {
    let parts = match schema {
        Schema::Object(object) => return shape(object),
        Schema::AllOf(all) => &mut all.items,
        Schema::OneOf(one) => &mut one.items,
        Schema::AnyOf(any) => &mut any.items,
        _ => return,
    };
    for part in parts {
        if let RefOr::T(part) = part {
            objects(part);
        }
    }
}

fn shape(object: &mut Object) {
    for (field, property) in &mut object.properties {
        let RefOr::T(Schema::Object(property)) = property else { continue };
        if is_text(property)
            && property.enum_values.is_none()
            && let Some((_, form)) = FORMS.iter().find(|(name, _)| name == field)
        {
            property.pattern.get_or_insert_with(|| (*form).to_owned());
        }
    }
}

fn is_text(object: &Object) -> bool {
    match &object.schema_type {
        SchemaType::Type(one) => *one == Type::String,
        SchemaType::Array(several) => several.contains(&Type::String),
        SchemaType::AnyValue => false,
    }
}
