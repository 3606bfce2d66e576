//! `heron frame`: its verb and options.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::complete;

#[derive(Subcommand)]
pub(crate) enum FrameVerb {
    /// Decode a frame: fields, MAC commands, MIC and payload.
    ///
    /// Without keys, the service is asked, which tries those of the registered device. With keys, or
    /// without a sign-in, everything is done here and nothing leaves the machine.
    Show(Box<FrameArgs>),
}

#[derive(Args)]
pub(crate) struct FrameArgs {
    /// The PHYPayload in hex, in any pasted form, or in base64; `-` reads it from standard input.
    #[arg(value_name = "HEX|BASE64")]
    pub frame: String,
    /// Try the keys of this registered device: its DevEUI or name.
    #[arg(long, add = complete::devices())]
    pub device: Option<String>,
    /// Say what data rates and channels mean in this region.
    #[arg(long)]
    pub region: Option<Region>,
    /// The frame's full 32-bit counter; if it is not given, likely ones and then all are tried.
    #[arg(long)]
    pub counter: Option<u32>,
    /// The last counter accepted in this direction.
    #[arg(long)]
    pub last_counter: Option<u32>,
    /// AppKey, for frames of a join.
    #[arg(long, value_name = "KEY", help_heading = "Root keys")]
    pub app_key: Option<String>,
    /// NwkKey (1.1), for frames of a join.
    #[arg(long, value_name = "KEY", help_heading = "Root keys")]
    pub nwk_key: Option<String>,
    /// DevEUI, for a join-accept of 1.1.
    #[arg(long, value_name = "EUI", help_heading = "Root keys")]
    pub dev_eui: Option<String>,
    /// JoinEUI, for a join-accept of 1.1.
    #[arg(long, value_name = "EUI", help_heading = "Root keys")]
    pub join_eui: Option<String>,
    /// DevNonce or RJcount that a join-accept of 1.1 answers; all are tried if it is not given.
    #[arg(long, value_name = "N", help_heading = "Root keys")]
    pub dev_nonce: Option<u16>,
    /// NwkSKey of a session of 1.0.x.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub nwk_s_key: Option<String>,
    /// AppSKey.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub app_s_key: Option<String>,
    /// FNwkSIntKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub f_nwk_s_int_key: Option<String>,
    /// SNwkSIntKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of a session of 1.1.
    #[arg(long, value_name = "KEY", help_heading = "Session keys")]
    pub nwk_s_enc_key: Option<String>,
    /// Low half of the counter that the frame acknowledges.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub conf_f_cnt: Option<u16>,
    /// Data rate index of the uplink; searched if not given.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub data_rate: Option<u8>,
    /// Channel index of the uplink; searched if not given.
    #[arg(long, value_name = "N", help_heading = "What a MIC of 1.1 covers beside the frame")]
    pub channel: Option<u8>,
}
