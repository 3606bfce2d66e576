//! Text that must not be seen: passwords, tokens, keys.

use std::fmt;
use std::ops::Deref;

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::openapi::schema::{KnownFormat, ObjectBuilder, SchemaFormat, Type};
use utoipa::{PartialSchema, ToSchema};
use zeroize::Zeroizing;

/// A text that is not shown by `Debug`, and that is wiped from memory when it is no longer needed. On the wire it is a
/// string like any other.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Secret(Zeroizing<String>);

impl Serialize for Secret {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Secret {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(Self::from)
    }
}

impl Secret {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(hidden)")
    }
}

impl Deref for Secret {
    type Target = str;

    fn deref(&self) -> &str {
        self.as_str()
    }
}

impl From<String> for Secret {
    fn from(text: String) -> Self {
        Self(Zeroizing::new(text))
    }
}

impl From<&str> for Secret {
    fn from(text: &str) -> Self {
        text.to_owned().into()
    }
}

impl PartialSchema for Secret {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        let text = ObjectBuilder::new().schema_type(Type::String);
        text.format(Some(SchemaFormat::KnownFormat(KnownFormat::Password))).description(Some("A secret.")).into()
    }
}

impl ToSchema for Secret {}
