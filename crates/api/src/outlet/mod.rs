//! Outlets: where the messages of a fleet, or of a whole estate, are delivered.

mod change;
mod connect;
mod delivery;
mod destination;
mod secrets;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use change::{
    ChangeDestination, ChangeFileFolder, ChangeMqttBroker, ChangeOutlet, ChangeSecrets, ChangeSqlTable, ChangeWebhook,
};
pub use connect::{ConnectSetting, Connecting, Snippet, SnippetLanguage};
pub use delivery::{
    CommandAnswer, CommandTaken, CommandsState, DeadLetter, Delivery, GivenAnswer, MadeRequest, Replayed, SendAgain,
    SentAgain, ShapeTrial, ShapeTried, TriedMessage,
};
pub use destination::{
    ColumnKind, Destination, FileFolder, Method, MqttBroker, MqttCommands, MqttVersion, Rotation, SqlColumn, SqlTable,
    Together, Webhook,
};
pub use secrets::OutletSecrets;

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
    /// What a script makes of it: JavaScript with `transform(message)`. What that returns is sent; a message for which it
    /// returns `null` is left out.
    #[schema(value_type = String, example = "function transform(message) { return { level: message.readings.water_level.value }; }")]
    Script(String),
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
    /// Whether commands are taken, for an outlet that takes some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commands: Option<CommandsState>,
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

/// The next messages in the order of their commits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NextMessages {
    /// The messages, oldest first; none if none came in time.
    pub items: Vec<crate::message::Message>,
    /// Pass this as `after` for those that follow.
    #[schema(example = "4398046511104")]
    pub next: String,
}
