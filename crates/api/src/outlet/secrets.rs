//! Secrets of outlets.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Secrets of an outlet. They can be set and taken away, and are never shown.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OutletSecrets {
    /// What requests are signed with: HMAC-SHA-256 (RFC 2104), 16 to 200 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signing: Option<Secret>,
    /// A bearer token (RFC 6750).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<Secret>,
    /// The password of basic credentials.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// The key (PEM) of the certificate that is shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Headers with secrets in them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, Secret>,
}

impl OutletSecrets {
    /// The names of those that are set.
    pub fn names(&self) -> Vec<String> {
        let single =
            [("signing", &self.signing), ("bearer", &self.bearer), ("password", &self.password), ("key", &self.key)];
        let set = single.into_iter().filter(|(_, secret)| secret.is_some()).map(|(name, _)| name.to_owned());
        set.chain(self.headers.keys().map(|header| format!("headers.{header}"))).collect()
    }
}
