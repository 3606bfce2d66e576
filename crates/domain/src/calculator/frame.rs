//! Decoding a frame: reading the question, writing the report.

use api::calculator::frame::{
    FrameCounter, FrameDevice, FrameField, FrameQuestion, FrameReport, FrameStop, MicVerdict,
};
use api::problem::{Problem, bad_field};
use lorawan::dissect::{CounterOrigin, Known, Report};
use lorawan::{Eui64, text};

use crate::{Check, input};

/// The most bytes looked at: more than a packet carries, so that one that is too long can be shown.
const MAX_BYTES: usize = 512;

/// Whether the question has keys, so that it can be answered without a service.
pub fn has_keys(question: &FrameQuestion) -> bool {
    keys(question).into_iter().any(|(_, key)| key.is_some())
}

fn keys(question: &FrameQuestion) -> [(&'static str, &Option<String>); 7] {
    [
        ("app_key", &question.app_key),
        ("nwk_key", &question.nwk_key),
        ("nwk_s_key", &question.nwk_s_key),
        ("f_nwk_s_int_key", &question.f_nwk_s_int_key),
        ("s_nwk_s_int_key", &question.s_nwk_s_int_key),
        ("nwk_s_enc_key", &question.nwk_s_enc_key),
        ("app_s_key", &question.app_s_key),
    ]
}

impl Check for FrameQuestion {
    type Checked = (Vec<u8>, Known);

    /// The frame's bytes, and what is known.
    ///
    /// # Errors
    /// A problem that names the field.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let bytes = text::frame(&self.frame).map_err(|why| bad_field("frame", &self.frame, why))?;
        if bytes.len() > MAX_BYTES {
            let why = format!("{} bytes are more than the {MAX_BYTES} looked at; a packet carries 255", bytes.len());
            return Err(bad_field("frame", &self.frame, why));
        }
        if let (Some(device), true) = (&self.device, has_keys(self)) {
            return Err(bad_field("device", device, "a registered device's keys are tried, or those given, not both"));
        }
        let [app_key, nwk_key, nwk_s_key, f, s, enc, app_s_key] =
            keys(self).map(|(field, key)| key.as_deref().map(|text| input::key(field, text)).transpose());
        let eui = |field, text: &Option<String>| -> Result<Option<Eui64>, Problem> {
            text.as_deref().map(|text| input::eui(field, text)).transpose()
        };
        if let Some(rate @ 16..) = self.data_rate {
            return Err(bad_field("data_rate", &rate.to_string(), "0 to 15 are allowed"));
        }
        let known = Known {
            app_key: app_key?,
            nwk_key: nwk_key?,
            dev_eui: eui("dev_eui", &self.dev_eui)?,
            join_eui: eui("join_eui", &self.join_eui)?,
            dev_nonce: self.dev_nonce,
            session: lorawan::dissect::SessionKeysKnown {
                nwk_s_key: nwk_s_key?,
                f_nwk_s_int_key: f?,
                s_nwk_s_int_key: s?,
                nwk_s_enc_key: enc?,
                app_s_key: app_s_key?,
            },
            counter: self.counter,
            last_counter: self.last_counter,
            conf_f_cnt: self.conf_f_cnt,
            data_rate: self.data_rate,
            channel: self.channel,
            region: self.region,
        };
        Ok((bytes, known))
    }
}

/// From what the link layer says of `bytes`.
pub fn report(bytes: &[u8], report: Report, device: Option<FrameDevice>) -> FrameReport {
    let origin = |origin| match origin {
        CounterOrigin::Given => "given",
        CounterOrigin::Ahead => "next",
        CounterOrigin::Behind => "seen before",
        CounterOrigin::Searched => "found by search",
    };
    FrameReport {
        bytes: hex::encode(bytes),
        message_type: report.mtype.map(|mtype| mtype.name().into()),
        summary: report.summary,
        fields: report
            .fields
            .into_iter()
            .map(|f| FrameField {
                at: f.at,
                len: f.len,
                name: f.name.into(),
                value: f.value,
                note: f.note,
                clear: f.clear.map(hex::encode),
                depth: f.depth,
            })
            .collect(),
        stopped: report.stopped.map(|s| FrameStop { at: s.at, why: s.why }),
        verdicts: report
            .verdicts
            .into_iter()
            .map(|v| MicVerdict {
                version: v.version.into(),
                key: v.key.into(),
                agrees: v.agrees,
                note: v.note,
                counters: v
                    .counters
                    .into_iter()
                    .map(|c| FrameCounter { counter: c.counter, origin: origin(c.origin).into(), agrees: c.agrees })
                    .collect(),
            })
            .collect(),
        payload: report.payload.map(hex::encode),
        device,
    }
}
