//! Models: types of device, with their decoders.

pub mod catalogue;
pub mod draft;
pub mod edition;

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::ReadingValue;
use crate::radio::settings::RadioSettings;
use crate::reading::ReadingRule;

/// How a decoder is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DecoderKind {
    /// JavaScript with `decodeUplink(input)`, and perhaps `encodeDownlink(input)` (TS013).
    #[default]
    Script,
    /// A field table, in TOML.
    Table,
    /// The low-power payload format, with names of channels in TOML.
    LowPower,
    /// Text or JSON, with its form in TOML.
    Text,
}

impl DecoderKind {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Script => "script",
            Self::Table => "field table",
            Self::LowPower => "low-power format",
            Self::Text => "text",
        }
    }

    fn is_script(&self) -> bool {
        *self == Self::Script
    }
}

/// Bytes, and what a decoder must make of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestPayload {
    /// What it is, for people.
    #[schema(example = "spring tide")]
    pub name: String,
    /// FPort.
    #[schema(minimum = 1, maximum = 223)]
    pub port: u8,
    /// The payload, in hex.
    #[schema(example = "0a1b2c")]
    pub bytes: String,
    /// Every reading that must come of it, by name.
    #[serde(default)]
    pub readings: BTreeMap<String, ReadingValue>,
    /// Whether the decoder must report an error instead.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fails: bool,
}

/// A command of named values, and the downlink that the encoder must make of it. People are offered these as examples.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestCommand {
    /// What it is, for people.
    #[schema(example = "open to 40 %")]
    pub name: String,
    /// By name.
    #[schema(value_type = Object, example = json!({ "opening": 40 }))]
    pub values: serde_json::Map<String, serde_json::Value>,
    /// FPort.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 223)]
    pub port: Option<u8>,
    /// The payload, in hex.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "28")]
    pub bytes: Option<String>,
    /// Whether the encoder must report an error instead.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fails: bool,
}

/// What is different in some versions of a model's hardware or firmware: how their payloads are read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelVersion {
    /// Hardware it is about; any if none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hardware: Vec<String>,
    /// Firmware it is about; any if none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub firmware: Vec<String>,
    /// What reads its payloads.
    pub decoder: String,
    /// How that is written.
    #[serde(default, skip_serializing_if = "DecoderKind::is_script")]
    pub decoder_kind: DecoderKind,
    /// What the script must make of some payloads.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tests: Vec<TestPayload>,
    /// What its encoder must make of some commands.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<TestCommand>,
}

impl ModelVersion {
    /// The setting, as text.
    pub fn label(&self) -> String {
        let hardware = (!self.hardware.is_empty()).then(|| format!("hardware {}", self.hardware.join(", ")));
        let firmware = (!self.firmware.is_empty()).then(|| format!("firmware {}", self.firmware.join(", ")));
        hardware.into_iter().chain(firmware).collect::<Vec<_>>().join(", ")
    }
}

/// A make of device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Model {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its short name, used in addresses.
    #[schema(example = "brinemark-tide-gauge")]
    pub slug: String,
    /// Its summary.
    #[serde(flatten)]
    pub about: PutModel,
    /// Why its decoder is not used, if it is not: it does not load, or fails one of its own tests.
    pub flaw: Option<String>,
    /// The catalogue it came from, if it did.
    pub source: Option<String>,
    /// What was changed here of what came from there.
    pub edited: Vec<String>,
    /// When it was last changed.
    #[serde(with = "crate::millis")]
    pub changed_at: DateTime<Utc>,
}

/// A model to add or change.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PutModel {
    /// Who makes it.
    #[schema(max_length = 80)]
    pub maker: String,
    /// Its name.
    #[schema(max_length = 80)]
    pub name: String,
    /// What it is, at most 500 characters.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub description: String,
    /// The ProfileID on its labels, eight hex digits: vendor, and profile of the vendor (TR005).
    #[serde(default)]
    #[schema(example = "0abc0001")]
    pub profile_id: Option<String>,
    /// What reads its payloads, and perhaps writes commands. It is loaded once to see that it can be.
    #[serde(default)]
    pub decoder: Option<String>,
    /// How that is written; a script if not given.
    #[serde(default)]
    pub decoder_kind: DecoderKind,
    /// What the script must make of some payloads. While one of these fails, the script is not used.
    #[serde(default)]
    pub tests: Vec<TestPayload>,
    /// What its encoder must make of some commands. While one of these fails, the script is not used.
    #[serde(default)]
    pub commands: Vec<TestCommand>,
    /// Versions of hardware or firmware whose payloads are read otherwise; the first that covers a device counts.
    #[serde(default)]
    pub versions: Vec<ModelVersion>,
    /// What is to be known of its readings, by their names; a unit alone may be given as text.
    #[serde(default, alias = "units")]
    pub readings: BTreeMap<String, ReadingRule>,
    /// What its radio and MAC are like, as far as the make decides that.
    #[serde(default)]
    pub radio: RadioSettings,
}
