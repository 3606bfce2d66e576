//! Decoding a frame.

use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    #[schema(minimum = 0, maximum = 65_535)]
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
    #[schema(minimum = 0, maximum = 65_535)]
    pub conf_f_cnt: Option<u16>,
    /// Data rate index that an uplink was sent at (1.1).
    #[schema(minimum = 0, maximum = 15)]
    pub data_rate: Option<u8>,
    /// Channel index that an uplink was sent on (1.1).
    #[schema(minimum = 0, maximum = 255)]
    pub channel: Option<u8>,
}

/// A decoded frame.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameReport {
    /// The frame's bytes, in hex.
    pub bytes: String,
    /// The message type, if the first byte is there.
    pub message_type: Option<String>,
    /// The frame in one sentence.
    pub summary: String,
    /// Its pieces, in order.
    pub fields: Vec<FrameField>,
    /// Where it cannot be decoded further, if it cannot.
    pub stopped: Option<FrameStop>,
    /// Whether the MIC agrees, under each version for which keys were known.
    pub verdicts: Vec<MicVerdict>,
    /// The application's payload in the clear, in hex, if it could be decrypted.
    pub payload: Option<String>,
    /// The registered device it was compared with.
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

/// Where a frame cannot be decoded further.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FrameStop {
    /// The first wrong byte, counted from 0.
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
