//! Trying a draft of a decoder beside the current one.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::message::{Body, DeviceRef, Message};
use api::model::PutModel;
use api::model::draft::{DecoderProblem, Draft, Outcome, Tried, TriedUplink};
use api::reading::ReadingRule;
use chrono::{DateTime, Utc};
use domain::model::draft;

use crate::decoding::catalogue::flaw_of;
use crate::decoding::decoder;
use crate::decoding::ready::{Decoder, Ready};
use crate::decoding::workers::{Lane, Payload};

/// The time limit for all payloads of one try.
const TIME: Duration = Duration::from_secs(8);
/// Until then the bytes of each reading are looked for as well: it takes some calls for each byte.
const TRACING: Duration = Duration::from_secs(2);

/// A payload to try.
pub(crate) struct Case {
    pub message: Option<String>,
    pub device: Option<DeviceRef>,
    pub time: DateTime<Utc>,
    pub port: u8,
    pub bytes: Vec<u8>,
}

impl Case {
    /// A payload that came with the request.
    pub(crate) fn given((port, bytes): (u8, Vec<u8>)) -> Self {
        Self { message: None, device: None, time: Utc::now(), port, bytes }
    }

    /// A stored uplink; `None` if it has no payload for a decoder.
    pub(crate) fn stored(message: Message) -> Option<Self> {
        let Message { id, time, device, body: Body::Uplink(heard), .. } = message else { return None };
        let port = heard.frame.port.filter(|port| *port > 0)?;
        let bytes = hex::decode(&heard.frame.payload).ok()?;
        Some(Self { message: Some(id), device, time, port, bytes })
    }
}

/// The model as it would be with the draft; none if it has no decoder for those versions.
pub(crate) fn with_draft(mut about: PutModel, draft: &Draft) -> Option<PutModel> {
    if let Some(rules) = &draft.readings {
        about.readings.clone_from(rules);
    }
    let version = match draft.version.as_deref().filter(|version| !version.is_empty()) {
        Some(words) => Some(about.versions.iter_mut().find(|version| version.label() == words)?),
        None => None,
    };
    if let Some(tests) = &draft.tests {
        let of = version.map_or(&mut about.tests, |version| &mut version.tests);
        of.clone_from(tests);
    }
    let version = match draft.version.as_deref() {
        Some(words) => about.versions.iter_mut().find(|version| version.label() == words),
        None => None,
    };
    match (&draft.decoder, version) {
        (None, _) => {}
        (Some(source), None) => (about.decoder, about.decoder_kind) = (Some(source.clone()), draft.decoder_kind),
        (Some(source), Some(version)) => {
            (version.decoder, version.decoder_kind) = (source.clone(), draft.decoder_kind);
        }
    }
    Some(about)
}

/// Tries a draft. Blocks while it waits for workers.
pub(crate) fn run(draft: &Draft, about: &PutModel, in_force: Option<&Arc<Decoder>>, cases: Vec<Case>) -> Tried {
    let begun = Instant::now();
    let loaded = draft.decoder.as_deref().map(|source| Ready::load(draft.decoder_kind, source, Lane::People));
    let mut tried = Tried::default();
    let after = match &loaded {
        Some(Ok(decoder)) => {
            tried.notes = decoder.notes().to_vec();
            Ok(decoder)
        }
        Some(Err(error)) => {
            let problem = DecoderProblem::from(error);
            tried.problem = Some(problem.clone());
            Err(problem)
        }
        None => match in_force {
            Some(decoder) => decoder.ready.as_ref().map_err(|why| why.clone().into()),
            None => Err("the model has no decoder yet".to_owned().into()),
        },
    };
    if after.is_ok() {
        tried.flaw = flaw_of(about);
    }
    let total = cases.len();
    for case in cases {
        if begun.elapsed() > TIME {
            break;
        }
        let trace = begun.elapsed() < TRACING;
        let before = in_force.map(|decoder| {
            let ready = decoder.ready.as_ref().map_err(|why| DecoderProblem::from(why.clone()));
            outcome(ready, &case, &decoder.rules, false)
        });
        let after = outcome(after.as_ref().map(|d| *d).map_err(DecoderProblem::clone), &case, &about.readings, trace);
        tried.uplinks.push(TriedUplink {
            change: draft::change(before.as_ref(), &after),
            message: case.message,
            device: case.device,
            time: case.time,
            port: case.port,
            payload: hex::encode(&case.bytes),
            before,
            after,
        });
    }
    tried.left_out = total - tried.uplinks.len();
    tried.readings = draft::changes(&tried.uplinks);
    tried
}

fn outcome(
    decoder: Result<&Ready, DecoderProblem>,
    case: &Case,
    rules: &BTreeMap<String, ReadingRule>,
    trace: bool,
) -> Outcome {
    let failed = |problem: DecoderProblem| Outcome { problem: Some(problem), ..Outcome::default() };
    let decoder = match decoder {
        Ok(decoder) => decoder,
        Err(problem) => return failed(problem),
    };
    let payload = Payload { bytes: case.bytes.clone(), port: case.port, time_ms: case.time.timestamp_millis() };
    match decoder::try_out(decoder, &payload, trace) {
        Ok((decoded, tried_bytes)) => {
            let mut warnings = Vec::new();
            let readings = decoder::meant(rules, &decoded, &mut warnings);
            warnings.extend(decoded.warnings);
            Outcome { readings, warnings, problem: None, tried_bytes }
        }
        Err(error) => failed((&error).into()),
    }
}

#[cfg(test)]
mod tests {
    use api::model::draft::UplinkChange;
    use api::model::{DecoderKind, ModelVersion};

    use super::*;

    const IN_FORCE: &str = "function decodeUplink(i) {
        if (i.fPort !== 1) throw new Error('port ' + i.fPort);
        return {data: {level: i.bytes[0]}};
    }";

    fn model() -> PutModel {
        PutModel { decoder: Some(IN_FORCE.into()), ..PutModel::default() }
    }

    fn tried(draft: &Draft, payloads: &[(u8, Vec<u8>)]) -> Tried {
        let decoders = crate::decoding::catalogue::load(&model()).0;
        let about = with_draft(model(), draft).unwrap();
        let cases = payloads.iter().cloned().map(Case::given).collect();
        run(draft, &about, decoders.others.as_ref(), cases)
    }

    #[test]
    fn a_fixed_decoder_shows_what_it_fixes() {
        let draft = Draft { decoder: Some(IN_FORCE.replace("!== 1", "> 2")), ..Draft::default() };
        let tried = tried(&draft, &[(1, vec![7]), (2, vec![8]), (3, vec![9])]);
        let changes: Vec<UplinkChange> = tried.uplinks.iter().map(|uplink| uplink.change).collect();
        assert_eq!(changes, [UplinkChange::Same, UplinkChange::Fixed, UplinkChange::Fails]);
        assert_eq!(tried.uplinks[0].after.tried_bytes["level"], [0]);
        let problem = tried.uplinks[2].after.problem.as_ref().unwrap();
        assert_eq!((problem.line, problem.message.contains("port 3")), (Some(2), true));
    }

    #[test]
    fn a_draft_that_does_not_load_says_where() {
        let draft =
            Draft { decoder: Some("function decodeUplink(i) {\n  return {data: }\n}".into()), ..Draft::default() };
        let tried = tried(&draft, &[(1, vec![7])]);
        let problem = tried.problem.unwrap();
        assert_eq!(problem.line, Some(2), "{problem:?}");
        assert_eq!(tried.uplinks[0].change, UplinkChange::Broken);
    }

    #[test]
    fn a_draft_of_a_versions_decoder_takes_its_place_alone() {
        let version = ModelVersion {
            hardware: vec![],
            firmware: vec!["1.0".into()],
            decoder: "old".into(),
            decoder_kind: DecoderKind::Script,
            tests: vec![],
            commands: vec![],
        };
        let about = PutModel { versions: vec![version], ..model() };
        let draft = Draft { decoder: Some("new".into()), version: Some("firmware 1.0".into()), ..Draft::default() };
        let with = with_draft(about.clone(), &draft).unwrap();
        assert_eq!((with.decoder.as_deref(), with.versions[0].decoder.as_str()), (Some(IN_FORCE), "new"));
        assert!(with_draft(about, &Draft { version: Some("firmware 9".into()), ..draft }).is_none());
    }

    #[test]
    fn rules_alone_can_be_tried() {
        let rule = ReadingRule { scale: Some(0.1), unit: Some("m".into()), ..ReadingRule::default() };
        let draft = Draft { readings: Some([("level".to_owned(), rule)].into()), ..Draft::default() };
        let tried = tried(&draft, &[(1, vec![7])]);
        assert_eq!(tried.uplinks[0].change, UplinkChange::Changed);
        assert_eq!(tried.uplinks[0].after.readings["level"].to_string(), "0.7 m");
    }
}
