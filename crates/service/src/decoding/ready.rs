//! Decoders that are ready to run: what they are, where they run, and how quick their last calls were.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use api::model::{DecoderKind, ModelVersion, TestCommand};
use api::reading::ReadingRule;
use domain::model::request::{covers, payload_kind};
use payload::{Decoded, Interpreter, Kind};

use crate::decoding::workers;
use crate::decoding::workers::{Failure, Lane, Payload, ScriptRef};

/// A decoder that can be used, and where it runs.
#[derive(Debug)]
pub enum Ready {
    /// In this process: its time is bounded by its payload's length.
    Here(payload::Decoder),
    /// In a worker.
    Script(ScriptRef),
}

impl Ready {
    /// Makes a decoder ready.
    ///
    /// # Errors
    /// If it cannot be used; the place is named.
    pub fn load(kind: DecoderKind, source: &str, lane: Lane) -> Result<Self, Failure> {
        match payload_kind(kind) {
            Kind::Script => workers::load(source, lane).map(Self::Script),
            kind => payload::Decoder::new(kind, source).map(Self::Here).map_err(|error| Failure::from(&error)),
        }
    }

    /// Whether it makes downlinks of named values.
    pub fn encodes(&self) -> bool {
        match self {
            Self::Here(decoder) => decoder.encodes(),
            Self::Script(script) => script.about().encodes,
        }
    }

    /// What was skipped in it, for its author.
    pub fn notes(&self) -> &[String] {
        match self {
            Self::Here(decoder) => decoder.notes(),
            Self::Script(script) => &script.about().notes,
        }
    }

    /// Reads a payload; says how much processor time that took.
    ///
    /// # Errors
    /// Why there are no readings.
    pub fn decode(&self, payload: Payload, lane: Lane) -> (Result<Decoded, Failure>, Duration) {
        match self {
            Self::Script(script) => workers::decode(script, payload, lane),
            Self::Here(decoder) => {
                let begun = Instant::now();
                let Payload { bytes, port, time_ms } = payload;
                let decoded = decoder.decode(&mut Interpreter::new(), &bytes, port, time_ms, || false);
                (decoded.map_err(|error| Failure::from(&error)), begun.elapsed())
            }
        }
    }
}

/// A decoder of a model, ready to run, and what its readings mean.
pub struct Decoder {
    /// The versions of the model it is for; empty if for all that have none of their own.
    pub version: String,
    /// The decoder, or why it cannot be loaded.
    pub ready: Result<Ready, String>,
    /// The rules for its readings.
    pub rules: BTreeMap<String, ReadingRule>,
    /// Commands that its encoder takes.
    pub commands: Vec<TestCommand>,
    pub pace: Pace,
}

/// The decoders of a model: those of some versions, and the one for all others.
#[derive(Default)]
pub struct Decoders {
    pub versions: Vec<(ModelVersion, Arc<Decoder>)>,
    pub others: Option<Arc<Decoder>>,
}

impl Decoders {
    pub fn is_empty(&self) -> bool {
        self.versions.is_empty() && self.others.is_none()
    }

    /// The one for these versions of the model.
    pub fn of(&self, hardware: Option<&str>, firmware: Option<&str>) -> Option<Arc<Decoder>> {
        let version = self.versions.iter().find(|(version, _)| covers(version, hardware, firmware));
        version.map(|(_, decoder)| decoder).or(self.others.as_ref()).cloned()
    }
}

/// How quick a decoder's calls are: a moving mean in which the latest call counts most.
#[derive(Debug, Default)]
pub struct Pace {
    mean_us: AtomicU32,
    calls: AtomicU32,
}

impl Pace {
    /// A decoder that takes no longer than this counts as quick.
    const QUICK_US: u32 = 500;
    /// The share of the latest call in the mean. The first one in a worker makes a world for the script, which must
    /// not count for all.
    const LATEST: u32 = 16;
    /// Calls after which the mean counts. Until then the decoder is called outside commits.
    const KNOWN: u32 = 2;

    pub fn quick(&self) -> bool {
        self.calls.load(Ordering::Relaxed) >= Self::KNOWN && self.mean_us.load(Ordering::Relaxed) <= Self::QUICK_US
    }

    pub fn took(&self, time: Duration) {
        let us = u32::try_from(time.as_micros()).unwrap_or(u32::MAX);
        let mean_us = self.mean_us.load(Ordering::Relaxed);
        self.mean_us.store(mean_us - mean_us / Self::LATEST + us / Self::LATEST, Ordering::Relaxed);
        let calls = self.calls.load(Ordering::Relaxed);
        self.calls.store(calls.saturating_add(1), Ordering::Relaxed);
    }

    /// The clock has ended a call for which others waited: it is a while until it counts as quick again.
    pub fn much_too_slow(&self) {
        self.mean_us.store(u32::MAX / 2, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_decoder_is_quick_once_that_is_known_and_slow_once_its_calls_are() {
        let pace = Pace::default();
        assert!(!pace.quick(), "nothing is known of it");
        pace.took(Duration::from_millis(7));
        pace.took(Duration::from_micros(90));
        assert!(pace.quick(), "the first call makes its world");
        (0..4).for_each(|_| pace.took(Duration::from_millis(3)));
        assert!(!pace.quick());
        (0..300).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(pace.quick());
        pace.much_too_slow();
        (0..100).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(!pace.quick(), "it held everybody up");
        (0..300).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(pace.quick());
    }
}
