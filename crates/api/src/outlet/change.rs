//! Changes of outlets.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{MessageType, Method, MqttCommands, MqttVersion, Rotation, Shape, SqlColumn, Together};
use crate::secret::Secret;

/// Changes of an outlet: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeOutlet {
    /// Another short name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slug: Option<String>,
    /// Another fleet; `null` for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// Only messages of these types; `null` for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub types: Option<Vec<MessageType>>,
    /// Only those of devices with this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// Only those of devices of this model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// What is sent of each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shape: Option<Shape>,
    /// Where to, in part.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<ChangeDestination>,
    /// For how long a message is tried again, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 604_800)]
    pub retry_for_s: Option<f64>,
    /// Secrets, in part: those that are left out stay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secrets: Option<ChangeSecrets>,
}

/// Changes of where an outlet delivers to: of its own kind only.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeDestination {
    /// Of a web server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub webhook: Option<ChangeWebhook>,
    /// Of an MQTT broker.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mqtt: Option<ChangeMqttBroker>,
    /// Of files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<ChangeFileFolder>,
    /// Of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sql: Option<ChangeSqlTable>,
}

/// Changes of a web server that takes messages: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeWebhook {
    /// Another address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Another method.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub method: Option<Method>,
    /// Headers; `null` takes one away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object, example = json!({ "X-Harbour": "south", "X-Quay": null }))]
    pub headers: Option<BTreeMap<String, Option<String>>>,
    /// The name for basic credentials.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Several messages in one request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub together: Option<Together>,
    /// How long an answer may take, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 60)]
    pub answer_within_s: Option<f64>,
    /// Certificates (PEM) that the server's has to come from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// The certificate (PEM) that is shown to the server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// Other hosts that the server may redirect to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub redirects_to: Option<Vec<String>>,
}

/// Changes of an outlet's secrets: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeSecrets {
    /// What requests are signed with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signing: Option<Secret>,
    /// A bearer token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<Secret>,
    /// The password of basic credentials.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// The key (PEM) of the certificate that is shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Headers with secrets in them; `null` takes one away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub headers: Option<BTreeMap<String, Option<Secret>>>,
}

/// Changes of an MQTT broker: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeMqttBroker {
    /// Another broker.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Another version of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<MqttVersion>,
    /// Another topic.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub topic: Option<String>,
    /// Another quality of service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 2)]
    pub qos: Option<u8>,
    /// Whether the broker keeps the latest message of each topic.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retain: Option<bool>,
    /// After how many seconds the broker drops a message that nobody has taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 31_536_000)]
    pub expires_after_s: Option<u32>,
    /// Properties of each message; `null` takes one away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object, example = json!({ "place": "{fleet}", "quay": null }))]
    pub user_properties: Option<BTreeMap<String, Option<String>>>,
    /// Under what name the service connects.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client_id: Option<String>,
    /// The account at the broker.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Certificates (PEM) that the server's has to come from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// The certificate (PEM) that is shown to the broker.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// Commands that come back; `null` takes none any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commands: Option<MqttCommands>,
}

/// Changes of a folder of files: what is left out stays, and `null` stands for the usual value.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeFileFolder {
    /// When a new file is begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotate: Option<Rotation>,
    /// A file is full at so many megabytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 1_024)]
    pub file_mb: Option<u32>,
    /// The folder holds so many megabytes at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 2, maximum = 102_400)]
    pub folder_mb: Option<u32>,
}

/// Changes of a table: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeSqlTable {
    /// Another database.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Another account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Another table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<String>,
    /// All columns that are written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<Vec<SqlColumn>>,
    /// Whether the table is created if there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub create: Option<bool>,
    /// Whether the connection has no TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without_tls: Option<bool>,
    /// Certificates (PEM) that the server's has to come from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
}
