//! Taking a frame apart.

use lorawan::Eui64;
use lorawan::dissect::{CounterOrigin, Known, Report};
use lorawan::region::Region;
use lorawan::text;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem, bad_field};

/// The most bytes looked at: more than a packet carries, so that one that is too long can be shown.
const MAX_BYTES: usize = 512;

/// A frame, and what is known of its sender. Only the frame is needed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FrameQuestion {
    /// The PHYPayload in hex, in any pasted form, or in base64.
    #[schema(example = "4067452303809c010264c6efd059e2ef")]
    pub frame: String,
    /// DevEUI of a registered device whose keys are to be tried.
    pub device: Option<String>,
    /// Name of the region, for what data rates and channels mean.
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
    /// The full 32-bit counter, if it is known.
    pub counter: Option<u32>,
    /// The last counter accepted in the frame's direction.
    pub last_counter: Option<u32>,
    /// AppKey, for frames of a join.
    pub app_key: Option<String>,
    /// NwkKey (1.1), for frames of a join.
    pub nwk_key: Option<String>,
    /// DevEUI, for a join-accept of 1.1.
    pub dev_eui: Option<String>,
    /// JoinEUI, for a join-accept of 1.1.
    pub join_eui: Option<String>,
    /// The DevNonce or RJcount that a join-accept of 1.1 answers; all are tried if it is not given.
    pub dev_nonce: Option<u16>,
    /// NwkSKey of a session of 1.0.x.
    pub nwk_s_key: Option<String>,
    /// FNwkSIntKey of a session of 1.1.
    pub f_nwk_s_int_key: Option<String>,
    /// SNwkSIntKey of a session of 1.1.
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of a session of 1.1.
    pub nwk_s_enc_key: Option<String>,
    /// AppSKey.
    pub app_s_key: Option<String>,
    /// Low half of the counter that the frame acknowledges (1.1).
    pub conf_f_cnt: Option<u16>,
    /// Data rate index that an uplink was sent at (1.1).
    pub data_rate: Option<u8>,
    /// Channel index that an uplink was sent on (1.1).
    pub channel: Option<u8>,
}

impl FrameQuestion {
    /// Whether keys come with the question, so that it can be answered without a service.
    pub fn has_keys(&self) -> bool {
        self.keys().into_iter().any(|(_, key)| key.is_some())
    }

    fn keys(&self) -> [(&'static str, &Option<String>); 7] {
        [
            ("app_key", &self.app_key),
            ("nwk_key", &self.nwk_key),
            ("nwk_s_key", &self.nwk_s_key),
            ("f_nwk_s_int_key", &self.f_nwk_s_int_key),
            ("s_nwk_s_int_key", &self.s_nwk_s_int_key),
            ("nwk_s_enc_key", &self.nwk_s_enc_key),
            ("app_s_key", &self.app_s_key),
        ]
    }

    /// The frame's bytes, and what is known.
    ///
    /// # Errors
    /// A problem that names the field.
    pub fn check(&self) -> Result<(Vec<u8>, Known), Problem> {
        let bytes = text::frame(&self.frame).map_err(|why| bad_field("frame", &self.frame, why))?;
        if bytes.len() > MAX_BYTES {
            let why = format!("{} bytes are more than the {MAX_BYTES} looked at; a packet carries 255", bytes.len());
            return Err(bad_field("frame", &self.frame, why));
        }
        if let (Some(device), true) = (&self.device, self.has_keys()) {
            return Err(bad_field("device", device, "a registered device's keys are tried, or those given, not both"));
        }
        let [app_key, nwk_key, nwk_s_key, f, s, enc, app_s_key] =
            self.keys().map(|(field, key)| key.as_deref().map(|text| problem::key(field, text)).transpose());
        let eui = |field, text: &Option<String>| -> Result<Option<Eui64>, Problem> {
            text.as_deref().map(|text| problem::eui(field, text)).transpose()
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

/// A frame taken apart.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameReport {
    /// What was understood as the frame, in hex.
    pub bytes: String,
    /// The message type, if the first byte is there.
    pub message_type: Option<String>,
    /// The frame in one sentence.
    pub summary: String,
    /// Its pieces, in order.
    pub fields: Vec<FrameField>,
    /// Where it stops making sense, if it does.
    pub stopped: Option<FrameStop>,
    /// Whether the MIC agrees, under each version for which keys were known.
    pub verdicts: Vec<MicVerdict>,
    /// The application's payload in the clear, in hex, if it could be decrypted.
    pub payload: Option<String>,
    /// The registered device it was held against.
    pub device: Option<FrameDevice>,
}

/// A piece of a frame.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameField {
    /// First byte, counted from 0.
    pub at: usize,
    /// How many bytes.
    pub len: usize,
    /// The standard's name.
    pub name: String,
    /// The value as it is written.
    pub value: String,
    /// What it means.
    pub note: Option<String>,
    /// The bytes in the clear, in hex, where the frame holds them encrypted or as a part of another.
    pub clear: Option<String>,
    /// 1 for a part of the field before it, such as a MAC command within FOpts.
    pub depth: u8,
}

/// Where a frame stops making sense.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameStop {
    /// The first byte that does not fit, counted from 0.
    pub at: usize,
    /// Why.
    pub why: String,
}

/// Whether a MIC agrees under one version's rules.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MicVerdict {
    /// `1.0.x` or `1.1`.
    pub version: String,
    /// The key or keys it was checked with.
    pub key: String,
    /// Whether it agrees.
    pub agrees: bool,
    /// What that means.
    pub note: String,
    /// Counters tried.
    pub counters: Vec<FrameCounter>,
}

/// A counter that a frame may have been sent under.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameCounter {
    /// All 32 bits.
    pub counter: u32,
    /// Why it was tried: `given`, `next`, `seen before`, `found by search`.
    pub origin: String,
    /// Whether the MIC agrees with it.
    pub agrees: bool,
}

/// A registered device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameDevice {
    /// Its DevEUI.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
}

impl FrameReport {
    /// From what the link layer says of `bytes`.
    pub fn new(bytes: &[u8], report: Report, device: Option<FrameDevice>) -> Self {
        let origin = |origin| match origin {
            CounterOrigin::Given => "given",
            CounterOrigin::Ahead => "next",
            CounterOrigin::Behind => "seen before",
            CounterOrigin::Searched => "found by search",
        };
        Self {
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
}
