//! Where outlets deliver to.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a request is made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum Method {
    /// `POST`.
    #[default]
    #[serde(rename = "POST")]
    Post,
    /// `PUT`.
    #[serde(rename = "PUT")]
    Put,
    /// `PATCH`.
    #[serde(rename = "PATCH")]
    Patch,
}

impl Method {
    /// As it stands in a request.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
        }
    }
}

/// Several messages in one request, as a JSON array.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Together {
    /// Messages in one request at most.
    #[schema(minimum = 2, maximum = 1_000, example = 100)]
    pub most: u32,
    /// How long a message waits for others, in seconds.
    #[schema(minimum = 0, maximum = 300, example = 5)]
    pub within_s: f64,
}

/// A web server that takes messages.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Webhook {
    /// Where to: `https://` or `http://`, without a name or a password in it.
    #[schema(max_length = 2_000, example = "https://harbour.example/keen-heron")]
    pub url: String,
    /// How.
    #[serde(default)]
    pub method: Method,
    /// Headers that anybody may see; those with secrets go into the outlet's `secrets`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(example = json!({ "X-Harbour": "north" }))]
    pub headers: BTreeMap<String, String>,
    /// The name for basic credentials (RFC 7617); its password is one of the outlet's secrets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub account: Option<String>,
    /// Several messages in one request; if not given, each has a request of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub together: Option<Together>,
    /// How long an answer may take, in seconds; 10 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 60)]
    pub answer_within_s: Option<f64>,
    /// Certificates (PEM) that the server's has to come from; the system's if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 65_536)]
    pub trust: Option<String>,
    /// The certificate (PEM) that is shown to the server; its key is one of the outlet's secrets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 65_536)]
    pub certificate: Option<String>,
    /// Other hosts that the server may redirect to (307 and 308).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(example = json!(["quay.example"]))]
    pub redirects_to: Vec<String>,
}

/// Where an outlet delivers to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Destination {
    /// A web server.
    Webhook(Webhook),
    /// An MQTT broker.
    Mqtt(MqttBroker),
    /// Files on the service's machine.
    Files(FileFolder),
    /// A table of a database.
    Sql(SqlTable),
}

impl Destination {
    /// What kind it is: its name in settings.
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Webhook(_) => "webhook",
            Self::Mqtt(_) => "mqtt",
            Self::Files(_) => "files",
            Self::Sql(_) => "sql",
        }
    }

    /// The server that secrets are sent to: scheme, host and port, as they are written. Files have none.
    pub fn server(&self) -> Option<&str> {
        let url = match self {
            Self::Webhook(webhook) => &webhook.url,
            Self::Mqtt(broker) => &broker.url,
            Self::Sql(table) => &table.url,
            Self::Files(_) => return None,
        };
        let from = url.find("://").map_or(0, |at| at + 3);
        Some(url[from..].find(['/', '?']).map_or(url.as_str(), |end| &url[..from + end]))
    }
}

/// A version of MQTT.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum MqttVersion {
    /// MQTT 3.1.1.
    #[serde(rename = "3.1.1")]
    V311,
    /// MQTT 5.
    #[default]
    #[serde(rename = "5")]
    V5,
}

impl MqttVersion {
    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::V311 => "3.1.1",
            Self::V5 => "5",
        }
    }
}

/// Commands that come back from a broker: each is a downlink for one device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MqttCommands {
    /// The topics that commands come on, with `{device}` or `{eui}`, and perhaps `{fleet}` and `{estate}`.
    #[schema(max_length = 500, example = "harbour/{device}/command")]
    pub topic: String,
    /// The topic that each command is answered on; the same placeholders are allowed.
    #[schema(max_length = 500, example = "harbour/{device}/answer")]
    pub answers: String,
}

/// An MQTT broker that messages are published at.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MqttBroker {
    /// The broker: `mqtts://HOST:PORT`, or `mqtt://` without TLS. The port is 8883 or 1883 if none is given.
    #[schema(max_length = 300, example = "mqtts://broker.harbour.example")]
    pub url: String,
    /// The version of the protocol.
    #[serde(default)]
    pub version: MqttVersion,
    /// The topic of each message, with placeholders: `{estate}`, `{fleet}`, `{device}`, `{eui}`, `{model}`, `{type}`.
    #[schema(max_length = 500, example = "harbour/{fleet}/{device}/{type}")]
    pub topic: String,
    /// The quality of service: 0 (at most once), 1 (at least once) or 2 (exactly once, as far as the broker).
    #[serde(default = "at_least_once")]
    #[schema(minimum = 0, maximum = 2)]
    pub qos: u8,
    /// Whether the broker keeps the latest message of each topic for those who subscribe later.
    #[serde(default)]
    pub retain: bool,
    /// After how many seconds the broker drops a message that nobody has taken; only with MQTT 5.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 31_536_000)]
    pub expires_after_s: Option<u32>,
    /// Properties that each message has; only with MQTT 5. Values may have placeholders. Every message has `id`, `type` and
    /// `time` beside them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(example = json!({ "place": "{fleet}" }))]
    pub user_properties: BTreeMap<String, String>,
    /// Under what name the service connects; made of estate and outlet if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 100)]
    pub client_id: Option<String>,
    /// The account at the broker; its password is one of the outlet's secrets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub account: Option<String>,
    /// Certificates (PEM) that the broker's has to come from; the system's if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 65_536)]
    pub trust: Option<String>,
    /// The certificate (PEM) that is shown to the broker; its key is one of the outlet's secrets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 65_536)]
    pub certificate: Option<String>,
    /// Commands that come back; none are taken if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commands: Option<MqttCommands>,
}

const fn at_least_once() -> u8 {
    1
}

/// When a new file is begun, if the one before is not full earlier.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Rotation {
    /// Each hour.
    Hour,
    /// Each day, by UTC.
    #[default]
    Day,
}

impl Rotation {
    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Hour => "hour",
            Self::Day => "day",
        }
    }
}

/// A folder of files on the service's machine: JSON Lines, one message a line.
///
/// The operator says where such folders are (`--outlet-folders`); an outlet's is `ESTATE/OUTLET` in it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileFolder {
    /// When a new file is begun.
    #[serde(default)]
    pub rotate: Rotation,
    /// A file is full at so many megabytes; 64 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 1_024)]
    pub file_mb: Option<u32>,
    /// The folder holds so many megabytes at most, 1,024 if not given: beyond that the oldest file is removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 2, maximum = 102_400)]
    pub folder_mb: Option<u32>,
}

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ColumnKind {
    /// Text; anything that is none is written as JSON.
    Text,
    /// A number with fractions.
    Number,
    /// A whole number.
    Integer,
    /// True or false.
    Boolean,
    /// A moment, with milliseconds and in UTC.
    Time,
}

impl ColumnKind {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Text, Self::Number, Self::Integer, Self::Boolean, Self::Time];

    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Number => "number",
            Self::Integer => "integer",
            Self::Boolean => "boolean",
            Self::Time => "time",
        }
    }
}

/// A column, and the field of the message that it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SqlColumn {
    /// The column's name.
    #[schema(example = "water_level")]
    pub column: String,
    /// The path of a field in what is sent; NULL where a message has none.
    #[schema(example = "readings.water_level.value")]
    pub field: String,
    /// What it holds.
    pub kind: ColumnKind,
}

/// A table of a database of one's own; each message is a row.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SqlTable {
    /// The database: `mariadb://HOST:PORT/DATABASE` or `postgres://HOST:PORT/DATABASE`. The port is the usual one if none is
    /// given.
    #[schema(max_length = 300, example = "postgres://db.harbour.example/quay")]
    pub url: String,
    /// The account there; its password is one of the outlet's secrets.
    #[schema(max_length = 100)]
    pub account: String,
    /// The table, perhaps with its schema before it and a dot.
    #[schema(max_length = 130, example = "readings")]
    pub table: String,
    /// The columns that are written.
    pub columns: Vec<SqlColumn>,
    /// Whether the table is created if there is none. The column of the field `id` is its key then.
    #[serde(default)]
    pub create: bool,
    /// Whether the connection has no TLS.
    #[serde(default)]
    pub without_tls: bool,
    /// Certificates (PEM) that the server's has to come from; the system's if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 65_536)]
    pub trust: Option<String>,
}
