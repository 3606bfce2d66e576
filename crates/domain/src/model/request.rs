//! Checks of a model that somebody saves: its tests, commands, versions and readings.

use api::model::{DecoderKind, ModelVersion, PutModel, TestCommand, TestPayload};
use api::problem::{Problem, bad_field};

use crate::reading::rule;
use crate::{Check, input};

/// Versions a model can have.
const MOST_VERSIONS: usize = 30;

/// Test payloads a decoder can have.
const MOST_TESTS: usize = 100;

/// By the name of its file.
pub fn kind_of_file(name: &str) -> Option<DecoderKind> {
    let ends = |ending: &str| name.len() > ending.len() && name.ends_with(ending);
    match name {
        _ if ends(".js") => Some(DecoderKind::Script),
        _ if ends(".table.toml") => Some(DecoderKind::Table),
        _ if ends(".low-power.toml") => Some(DecoderKind::LowPower),
        _ if ends(".text.toml") => Some(DecoderKind::Text),
        _ => None,
    }
}

/// How a decoder of this kind runs.
pub fn payload_kind(kind: DecoderKind) -> payload::Kind {
    match kind {
        DecoderKind::Script => payload::Kind::Script,
        DecoderKind::Table => payload::Kind::Table,
        DecoderKind::LowPower => payload::Kind::LowPower,
        DecoderKind::Text => payload::Kind::Text,
    }
}

/// The file extensions of decoders, for people.
pub const DECODER_FILES: &str = ".js, .table.toml, .low-power.toml or .text.toml";

impl Check for TestPayload {
    type Checked = ();

    fn check(&self) -> Result<Self::Checked, Problem> {
        input::name("test.name", &self.name)?;
        if self.fails && !self.readings.is_empty() {
            return Err(bad_field("test.readings", &self.name, "a test that must fail has no readings"));
        }
        check_frame("test", self.port, &self.bytes)
    }
}

impl Check for TestCommand {
    type Checked = ();

    fn check(&self) -> Result<Self::Checked, Problem> {
        input::name("command.name", &self.name)?;
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

/// Whether it is about a device with this hardware and firmware. A device whose versions are not known is of none.
pub fn covers(version: &ModelVersion, hardware: Option<&str>, firmware: Option<&str>) -> bool {
    let among =
        |all: &[String], one: Option<&str>| all.is_empty() || one.is_some_and(|one| all.iter().any(|v| v == one));
    among(&version.hardware, hardware) && among(&version.firmware, firmware)
}

/// Test payloads and commands that its scripts are tried on.
pub fn test_count(model: &PutModel) -> usize {
    let versions = model.versions.iter().map(|version| version.tests.len() + version.commands.len());
    model.tests.len() + model.commands.len() + versions.sum::<usize>()
}

/// The same with its values checked and an empty decoder taken as none.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check(model: PutModel) -> Result<PutModel, Problem> {
    model.readings.iter().try_for_each(|(name, rule)| rule::check(rule, name))?;
    let many = |field: &str, n: usize, most: usize| match n {
        n if n <= most => Ok(()),
        n => Err(bad_field(field, &format!("{n} of them"), format!("at most {most} are allowed"))),
    };
    many("versions", model.versions.len(), MOST_VERSIONS)?;
    many("readings", model.readings.len(), payload::MAX_READINGS)?;
    let decoder = model.decoder.filter(|d| !d.trim().is_empty());
    for (field, tests) in [("tests", model.tests.len()), ("commands", model.commands.len())] {
        if decoder.is_none() && tests > 0 {
            return Err(bad_field(field, &format!("{tests} of them"), "there is no decoder to be tested"));
        }
    }
    for version in &model.versions {
        if version.hardware.is_empty() && version.firmware.is_empty() {
            return Err(bad_field(
                "versions",
                "one without hardware and firmware",
                "at least one of them is to be named",
            ));
        }
        for name in version.hardware.iter().chain(&version.firmware) {
            crate::device::register::version("versions", Some(name))?;
        }
    }
    for tests in model.versions.iter().map(|version| &version.tests).chain([&model.tests]) {
        many("tests", tests.len(), MOST_TESTS)?;
        tests.iter().try_for_each(TestPayload::check)?;
    }
    for commands in model.versions.iter().map(|version| &version.commands).chain([&model.commands]) {
        many("commands", commands.len(), MOST_TESTS)?;
        commands.iter().try_for_each(TestCommand::check)?;
    }
    let profile_id = model.profile_id.map(|id| id.trim().to_ascii_lowercase()).filter(|id| !id.is_empty());
    if let Some(id) = profile_id.as_ref().filter(|id| id.len() != 8 || !id.chars().all(|c| c.is_ascii_hexdigit())) {
        return Err(bad_field(
            "profile_id",
            id,
            "eight hex digits are wanted: vendor, and profile of the vendor (TR005)",
        ));
    }
    Ok(PutModel {
        maker: input::name("maker", &model.maker)?,
        name: input::name("name", &model.name)?,
        description: crate::device::register::description(&model.description)?,
        profile_id,
        decoder,
        decoder_kind: model.decoder_kind,
        tests: model.tests,
        commands: model.commands,
        versions: model.versions,
        readings: model.readings,
        radio: model.radio,
    })
}
