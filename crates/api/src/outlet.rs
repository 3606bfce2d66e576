//! Outlets: where the messages of a fleet, or of a whole estate, are delivered.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// A type of message that an outlet can deliver.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MessageType {
    /// A data frame was accepted.
    Uplink,
    /// A join was accepted.
    Join,
    /// A frame was refused.
    Refused,
    /// A downlink moved on: each stage is a message.
    Downlink,
    /// A notice about a device.
    Notice,
}

impl MessageType {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Uplink, Self::Join, Self::Refused, Self::Downlink, Self::Notice];

    /// The value of a message's `type`.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Uplink => "uplink",
            Self::Join => "join",
            Self::Refused => "refused",
            Self::Downlink => "downlink",
            Self::Notice => "notice",
        }
    }
}

/// What is sent of a message.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Shape {
    /// The message as it is documented.
    #[default]
    Message,
    /// One object without objects in it; names are joined by dots: `readings.water_level.value`.
    Flat,
    /// Only these fields, each named by its path. What a message does not have is left out.
    #[schema(value_type = Vec<String>, example = json!(["id", "time", "device.eui", "readings.water_level.value"]))]
    Fields(Vec<String>),
}

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
}

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

/// The settings of an outlet, but for its secrets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OutletSettings {
    /// Its short name: lower-case letters, digits and dashes.
    #[schema(example = "harbour-office")]
    pub slug: String,
    /// Whose messages: those of this fleet. If not given, those of all fleets of the estate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "tide-and-sluice")]
    pub fleet: Option<String>,
    /// Only messages of these types; all if there are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub types: Vec<MessageType>,
    /// Only those of devices with this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// Only those of devices of this model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// What is sent of each.
    #[serde(default)]
    pub shape: Shape,
    /// Where to.
    pub to: Destination,
    /// For how long a message is tried again that is not taken, in seconds; 6 hours if not given. After that it is a dead
    /// letter. While the other side cannot be reached at all, messages wait as long as that takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 604_800)]
    pub retry_for_s: Option<f64>,
}

/// An outlet to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewOutlet {
    /// Its settings.
    #[serde(flatten)]
    pub settings: OutletSettings,
    /// Its secrets.
    #[serde(default)]
    pub secrets: OutletSecrets,
    /// From when on messages are delivered (RFC 3339); from now on if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<DateTime<Utc>>,
}

/// Changes of where an outlet delivers to.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeDestination {
    /// Of a web server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub webhook: Option<ChangeWebhook>,
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

/// What an outlet does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OutletState {
    /// What comes is delivered, and nothing is held up.
    Delivering,
    /// Some messages are tried again.
    Retrying,
    /// The other side does not take anything.
    Failing,
    /// Somebody has paused it, or the other side said that it is gone (410).
    Paused,
}

impl OutletState {
    /// As it is shown.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Delivering => "delivering",
            Self::Retrying => "retrying",
            Self::Failing => "failing",
            Self::Paused => "paused",
        }
    }
}

/// How an outlet stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutletStatus {
    /// What it does.
    pub state: OutletState,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// Why it does not deliver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// When the next try is.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub next_try: Option<DateTime<Utc>>,
    /// Messages delivered since the service was started.
    pub delivered: u64,
    /// Messages that wait, those included that it may turn out not to take. Beyond 100,000 they are not counted.
    pub backlog: u64,
    /// When the oldest of them happened.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub oldest_waiting: Option<DateTime<Utc>>,
    /// Messages that were given up and are kept as dead letters.
    pub dead_letters: u64,
    /// When something was delivered last, since the service was started.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub last_delivered: Option<DateTime<Utc>>,
    /// Messages delivered a minute, over the last five minutes.
    pub a_minute: f64,
}

/// An outlet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Outlet {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its settings.
    #[serde(flatten)]
    pub settings: OutletSettings,
    /// The secrets that are set, by name.
    pub secrets_set: Vec<String>,
    /// How it stands.
    pub status: OutletStatus,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// A request as it was made. Secrets are left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MadeRequest {
    /// The method and the address.
    #[schema(example = "POST https://harbour.example/keen-heron")]
    pub line: String,
    /// Headers; those with secrets have `(hidden)` instead of their values.
    pub headers: BTreeMap<String, String>,
    /// The first 4,096 characters of the body.
    pub body: String,
}

/// An answer of the other side.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GivenAnswer {
    /// Its status.
    #[schema(example = 200)]
    pub status: u16,
    /// The first 4,096 bytes of its body, as text.
    pub body: String,
}

/// A delivery, or a try at one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    /// When it began.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// Whether the messages in it were taken.
    pub delivered: bool,
    /// Why not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// How long it took.
    pub took_ms: f64,
    /// The messages in it, by id.
    pub messages: Vec<String>,
    /// What was sent.
    pub request: MadeRequest,
    /// What was answered, if anything was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<GivenAnswer>,
}

/// A message that was given up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeadLetter {
    /// Its id.
    pub id: String,
    /// The message.
    #[schema(value_type = crate::message::Message)]
    pub message: crate::message::Message,
    /// When it was given up.
    #[serde(with = "crate::millis")]
    pub given_up_at: DateTime<Utc>,
    /// How often it was tried.
    pub tries: u32,
    /// Why it was not taken, the last time.
    pub why: String,
    /// What was sent, the last time.
    pub request: MadeRequest,
    /// What was answered, the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<GivenAnswer>,
}

/// From when on messages are sent again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SendAgain {
    /// From when on.
    pub since: DateTime<Utc>,
}

/// What comes of sending again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SentAgain {
    /// Messages that are looked at again, those of other fleets included. Beyond 100,000 they are not counted.
    pub messages: u64,
}

/// How many dead letters are tried again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Replayed {
    /// How many.
    pub letters: u64,
}

/// The next messages in the order of their commits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NextMessages {
    /// The messages, oldest first; none if none came in time.
    pub items: Vec<crate::message::Message>,
    /// Pass this as `after` for those that follow.
    #[schema(example = "4398046511104")]
    pub next: String,
}
