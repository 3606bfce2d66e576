//! Models: makes of device, with their decoders.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::ReadingValue;
use crate::problem::{self, Problem, bad_field};
use crate::radio::RadioSettings;
use crate::reading::ReadingRule;

/// Versions a model can have.
const MOST_VERSIONS: usize = 30;
/// Test payloads a decoder can have.
const MOST_TESTS: usize = 100;

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
    /// By the name of its file.
    pub fn of_file(name: &str) -> Option<Self> {
        let ends = |ending: &str| name.len() > ending.len() && name.ends_with(ending);
        match name {
            _ if ends(".js") => Some(Self::Script),
            _ if ends(".table.toml") => Some(Self::Table),
            _ if ends(".low-power.toml") => Some(Self::LowPower),
            _ if ends(".text.toml") => Some(Self::Text),
            _ => None,
        }
    }

    /// In words.
    pub const fn words(self) -> &'static str {
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

impl From<DecoderKind> for payload::Kind {
    fn from(kind: DecoderKind) -> Self {
        match kind {
            DecoderKind::Script => Self::Script,
            DecoderKind::Table => Self::Table,
            DecoderKind::LowPower => Self::LowPower,
            DecoderKind::Text => Self::Text,
        }
    }
}

/// What files of decoders end with, for people.
pub const DECODER_FILES: &str = ".js, .table.toml, .low-power.toml or .text.toml";

/// Bytes, and what a decoder must make of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestPayload {
    /// What it is, for people.
    #[schema(example = "spring tide")]
    pub name: String,
    /// FPort.
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

impl TestPayload {
    pub(crate) fn check(&self) -> Result<(), Problem> {
        problem::name("test.name", &self.name)?;
        if self.fails && !self.readings.is_empty() {
            return Err(bad_field("test.readings", &self.name, "a test that must fail has no readings"));
        }
        check_frame("test", self.port, &self.bytes)
    }
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
    pub port: Option<u8>,
    /// The payload, in hex.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "28")]
    pub bytes: Option<String>,
    /// Whether the encoder must report an error instead.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fails: bool,
}

impl TestCommand {
    fn check(&self) -> Result<(), Problem> {
        problem::name("command.name", &self.name)?;
        match (self.fails, self.port, &self.bytes) {
            (true, None, None) => Ok(()),
            (true, ..) => Err(bad_field("command.fails", &self.name, "a command that must fail has no port and bytes")),
            (false, Some(port), Some(bytes)) => check_frame("command", port, bytes),
            (false, ..) => Err(bad_field("command", &self.name, "port and bytes are wanted, or that it fails")),
        }
    }
}

fn check_frame(what: &str, port: u8, bytes: &str) -> Result<(), Problem> {
    if !(1..=223).contains(&port) {
        return Err(bad_field(&format!("{what}.port"), &port.to_string(), "FPort 1 to 223 are allowed"));
    }
    match hex::decode(bytes) {
        Ok(bytes) if bytes.len() <= 242 => Ok(()),
        _ => {
            let allowed = "hex digits are wanted, two a byte, at most 242 bytes";
            Err(bad_field(&format!("{what}.bytes"), bytes, allowed))
        }
    }
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
    /// Whether it is about a device with this hardware and firmware. A device whose versions are not known is of none.
    pub fn covers(&self, hardware: Option<&str>, firmware: Option<&str>) -> bool {
        let among =
            |all: &[String], one: Option<&str>| all.is_empty() || one.is_some_and(|one| all.iter().any(|v| v == one));
        among(&self.hardware, hardware) && among(&self.firmware, firmware)
    }

    /// Which, in words.
    pub fn words(&self) -> String {
        let hardware = (!self.hardware.is_empty()).then(|| format!("hardware {}", self.hardware.join(", ")));
        let firmware = (!self.firmware.is_empty()).then(|| format!("firmware {}", self.firmware.join(", ")));
        hardware.into_iter().chain(firmware).collect::<Vec<_>>().join(", ")
    }
}

/// A make of device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Model {
    /// Changes with what is told of it; sent back as `If-Match` with a change, which is then refused if somebody else was
    /// faster.
    #[serde(default)]
    pub revision: String,
    /// Its short name, used in addresses.
    #[schema(example = "brinemark-tide-gauge")]
    pub slug: String,
    /// What is told of it.
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
    pub maker: String,
    /// Its name.
    pub name: String,
    /// What it is, at most 500 characters.
    #[serde(default)]
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

impl PutModel {
    /// Test payloads and commands that its scripts are tried on.
    pub fn test_count(&self) -> usize {
        let versions = self.versions.iter().map(|version| version.tests.len() + version.commands.len());
        self.tests.len() + self.commands.len() + versions.sum::<usize>()
    }

    /// The same with its values checked and an empty decoder taken as none.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(self) -> Result<Self, Problem> {
        self.readings.iter().try_for_each(|(name, rule)| rule.check(name))?;
        let many = |field: &str, n: usize, most: usize| match n {
            n if n <= most => Ok(()),
            n => Err(bad_field(field, &format!("{n} of them"), format!("at most {most} are allowed"))),
        };
        many("versions", self.versions.len(), MOST_VERSIONS)?;
        many("readings", self.readings.len(), payload::MAX_READINGS)?;
        let decoder = self.decoder.filter(|d| !d.trim().is_empty());
        for (field, tests) in [("tests", self.tests.len()), ("commands", self.commands.len())] {
            if decoder.is_none() && tests > 0 {
                return Err(bad_field(field, &format!("{tests} of them"), "there is no decoder to be tested"));
            }
        }
        for version in &self.versions {
            if version.hardware.is_empty() && version.firmware.is_empty() {
                return Err(bad_field(
                    "versions",
                    "one without hardware and firmware",
                    "at least one of them is to be named",
                ));
            }
            for name in version.hardware.iter().chain(&version.firmware) {
                crate::registration::version("versions", Some(name))?;
            }
        }
        for tests in self.versions.iter().map(|version| &version.tests).chain([&self.tests]) {
            many("tests", tests.len(), MOST_TESTS)?;
            tests.iter().try_for_each(TestPayload::check)?;
        }
        for commands in self.versions.iter().map(|version| &version.commands).chain([&self.commands]) {
            many("commands", commands.len(), MOST_TESTS)?;
            commands.iter().try_for_each(TestCommand::check)?;
        }
        let profile_id = self.profile_id.map(|id| id.trim().to_ascii_lowercase()).filter(|id| !id.is_empty());
        if let Some(id) = profile_id.as_ref().filter(|id| id.len() != 8 || !id.chars().all(|c| c.is_ascii_hexdigit())) {
            return Err(bad_field(
                "profile_id",
                id,
                "eight hex digits are wanted: vendor, and profile of the vendor (TR005)",
            ));
        }
        Ok(Self {
            maker: problem::name("maker", &self.maker)?,
            name: problem::name("name", &self.name)?,
            description: crate::registration::description(&self.description)?,
            profile_id,
            decoder,
            decoder_kind: self.decoder_kind,
            tests: self.tests,
            commands: self.commands,
            versions: self.versions,
            readings: self.readings,
            radio: self.radio,
        })
    }
}
