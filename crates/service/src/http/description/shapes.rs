//! Shapes that programs which make clients can name: a choice between objects is a choice between named objects, and a file
//! is a binary string.

use std::collections::BTreeMap;

use utoipa::openapi::schema::{ArrayItems, KnownFormat, SchemaFormat};
use utoipa::openapi::{
    Components, Content, Discriminator, Object, ObjectBuilder, OneOf, OpenApi, Ref, RefOr, Schema, Type,
};

use crate::http::auth::endpoint::operations;
use crate::http::description::bodies::merged;
use crate::http::description::name_of;

type Schemas = BTreeMap<String, RefOr<Schema>>;

/// The field that tells messages apart.
const KIND: &str = "type";

/// Names the alternatives of each choice.
pub(super) fn name_variants(openapi: &mut OpenApi) {
    let Some(Components { schemas, .. }) = &mut openapi.components else { return };
    refer_from_pages(schemas);
    for name in schemas.keys().cloned().collect::<Vec<_>>() {
        let Some(RefOr::T(schema)) = schemas.get(&name).cloned() else { continue };
        match schema {
            // An object that has the fields of one of several others, told apart by its type.
            Schema::AllOf(_) => name_kinds(&name, schemas),
            Schema::OneOf(choice) => name_inner(&name, choice, schemas),
            _ => {}
        }
    }
}

/// Lets each page refer to what it lists, by name.
fn refer_from_pages(schemas: &mut Schemas) {
    let known = schemas.clone();
    for (name, schema) in schemas {
        let (Some(listed), RefOr::T(Schema::Object(page))) = (name.strip_prefix("Page_"), schema) else { continue };
        if let Some(RefOr::T(Schema::Array(items))) = page.properties.get_mut("items")
            && known.contains_key(listed)
        {
            items.items = ArrayItems::RefOrSchema(Box::new(RefOr::Ref(Ref::from_schema_name(listed))));
        }
    }
}

/// The alternatives of a schema, if it is a choice between objects.
fn alternatives(part: &RefOr<Schema>, schemas: &Schemas) -> Option<Vec<Object>> {
    let RefOr::Ref(of) = part else { return None };
    let RefOr::T(Schema::OneOf(choice)) = schemas.get(&name_of(of)?)? else { return None };
    let objects = choice.items.iter().map(|item| match item {
        RefOr::T(schema) => match merged(schema, schemas) {
            Schema::Object(object) => Some(object),
            _ => None,
        },
        RefOr::Ref(_) => None,
    });
    objects.collect()
}

/// The word in an object's type.
fn kind_of(object: &Object) -> Option<String> {
    let RefOr::T(Schema::Object(kind)) = object.properties.get(KIND)? else { return None };
    kind.enum_values.as_ref()?.first()?.as_str().map(str::to_owned)
}

fn name_kinds(name: &str, schemas: &mut Schemas) {
    let Some(RefOr::T(Schema::AllOf(parts))) = schemas.get(name).cloned() else { return };
    let Some((choice, found)) = parts.items.iter().find_map(|part| Some((part, alternatives(part, schemas)?))) else {
        return;
    };
    let others = parts.items.iter().filter(|part| *part != choice);
    let common: Vec<Object> = others
        .filter_map(|part| match part {
            RefOr::T(Schema::Object(object)) => Some(object.clone()),
            _ => None,
        })
        .collect();
    let mut union = OneOf { description: parts.description.clone(), ..OneOf::new() };
    let mut mapping = Discriminator::new(KIND);
    for mut object in found {
        let Some(kind) = kind_of(&object) else { return };
        for part in &common {
            object.properties.extend(part.properties.clone());
            object.required.extend(part.required.clone());
        }
        let variant = format!("{name}{}", pascal(&kind));
        let at = Ref::from_schema_name(&variant);
        mapping.mapping.insert(kind, at.ref_location.clone());
        schemas.insert(variant, RefOr::T(Schema::Object(object)));
        union.items.push(RefOr::Ref(at));
    }
    union.discriminator = Some(mapping);
    schemas.insert(name.to_owned(), RefOr::T(Schema::OneOf(union)));
    if let RefOr::Ref(of) = choice
        && let Some(choice) = name_of(of)
    {
        schemas.remove(&choice);
    }
}

/// Names each object that is a field of an alternative.
fn name_inner(name: &str, mut choice: OneOf, schemas: &mut Schemas) {
    let mut changed = false;
    for item in &mut choice.items {
        let RefOr::T(Schema::Object(object)) = item else { continue };
        for (field, part) in &mut object.properties {
            if matches!(part, RefOr::T(Schema::Object(inner)) if !inner.properties.is_empty()) {
                let variant = format!("{name}{}", pascal(field));
                let named = std::mem::replace(part, RefOr::Ref(Ref::from_schema_name(&variant)));
                schemas.insert(variant, named);
                changed = true;
            }
        }
    }
    if changed {
        schemas.insert(name.to_owned(), RefOr::T(Schema::OneOf(choice)));
    }
}

/// A word with a capital letter in front.
fn pascal(word: &str) -> String {
    let mut out = String::new();
    for part in word.split('_') {
        let mut letters = part.chars();
        out.extend(letters.next().into_iter().flat_map(char::to_uppercase));
        out.push_str(letters.as_str());
    }
    out
}

/// Describes bodies that are files as binary strings.
pub(super) fn mark_files(openapi: &mut OpenApi) {
    for item in openapi.paths.paths.values_mut() {
        for (_, operation) in operations(item) {
            if let Some(RefOr::T(body)) = &mut operation.request_body {
                body.content.values_mut().for_each(mark_file);
            }
            for answer in operation.responses.responses.values_mut() {
                if let RefOr::T(answer) = answer {
                    answer.content.values_mut().for_each(mark_file);
                }
            }
        }
    }
}

fn mark_file(content: &mut RefOr<Content>) {
    let RefOr::T(Content { schema: Some(schema), .. }) = content else { return };
    let is_bytes = matches!(schema, RefOr::T(Schema::Array(array)) if is_integer(&array.items));
    if is_bytes {
        let format = SchemaFormat::KnownFormat(KnownFormat::Binary);
        *schema = RefOr::T(ObjectBuilder::new().schema_type(Type::String).format(Some(format)).into());
    }
}

fn is_integer(items: &ArrayItems) -> bool {
    let ArrayItems::RefOrSchema(item) = items else { return false };
    matches!(&**item, RefOr::T(Schema::Object(object)) if object.schema_type == Type::Integer.into())
}

#[cfg(test)]
mod tests {
    use crate::http::document;

    #[test]
    fn every_kind_of_message_has_a_name_and_all_fields() {
        let document = serde_json::to_value(document()).unwrap();
        let schemas = &document["components"]["schemas"];
        assert_eq!(schemas["Message"]["discriminator"]["propertyName"], "type");
        assert_eq!(schemas["Message"]["discriminator"]["mapping"]["uplink"], "#/components/schemas/MessageUplink");
        let uplink = &schemas["MessageUplink"]["properties"];
        for field in ["type", "id", "time", "estate", "frame", "readings", "heard_by"] {
            assert!(uplink[field].is_object(), "{field}");
        }
        assert!(schemas.get("Body").is_none() && schemas["OfferShare"].is_object());
    }

    #[test]
    fn a_file_is_a_binary_string() {
        let document = serde_json::to_value(document()).unwrap();
        let kit = &document["paths"]["/api/v1/estates/{estate}/gateways/{eui}/kit"]["post"]["responses"]["200"];
        assert_eq!(
            kit["content"]["application/zip"]["schema"],
            serde_json::json!({ "type": "string", "format": "binary" })
        );
    }
}
