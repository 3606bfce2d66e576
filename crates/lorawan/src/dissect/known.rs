//! What is known of a frame's sender.

use crate::region::Region;
use crate::{AesKey, Eui64};

/// Session keys, as far as they are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SessionKeysKnown {
    /// NwkSKey, of a session of 1.0.x.
    pub nwk_s_key: Option<AesKey>,
    /// FNwkSIntKey, of a session of 1.1.
    pub f_nwk_s_int_key: Option<AesKey>,
    /// SNwkSIntKey, of a session of 1.1.
    pub s_nwk_s_int_key: Option<AesKey>,
    /// NwkSEncKey, of a session of 1.1.
    pub nwk_s_enc_key: Option<AesKey>,
    /// AppSKey.
    pub app_s_key: Option<AesKey>,
}

/// What is known of a frame's sender. Everything may be missing.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Known {
    /// Root key of 1.0.x, and of 1.1 for the application.
    pub app_key: Option<AesKey>,
    /// Root key of 1.1.
    pub nwk_key: Option<AesKey>,
    /// For the keys of the join server, and for join-accepts.
    pub dev_eui: Option<Eui64>,
    /// For join-accepts of 1.1.
    pub join_eui: Option<Eui64>,
    /// The DevNonce or RJcount that a join-accept answers.
    pub dev_nonce: Option<u16>,
    /// Keys of the session.
    pub session: SessionKeysKnown,
    /// The frame's full counter.
    pub counter: Option<u32>,
    /// The last counter accepted in the frame's direction.
    pub last_counter: Option<u32>,
    /// Low half of the counter of the frame that this one acknowledges (1.1).
    pub conf_f_cnt: Option<u16>,
    /// Data rate index of an uplink (1.1).
    pub data_rate: Option<u8>,
    /// Channel index of an uplink (1.1).
    pub channel: Option<u8>,
    /// The region, for what data rates and channels mean.
    pub region: Option<Region>,
}
