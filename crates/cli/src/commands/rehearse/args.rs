//! `heron rehearse`: its options.

use clap::Args;

use crate::args::moment::Moment;

#[derive(Args)]
pub(crate) struct RehearseArgs {
    /// The device's DevEUI or name.
    pub device: String,
    /// The payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX", required_unless_present = "again")]
    pub payload: Option<String>,
    /// A stored uplink of the device, by its name.
    #[arg(long, value_name = "ID")]
    pub again: Option<String>,
    /// FPort, 1 to 223; 1, or that of the stored uplink, if not given.
    #[arg(long)]
    pub port: Option<u8>,
    /// When it is to have been received: RFC 3339, a date, or how long ago (2h); now if not given.
    #[arg(long, value_name = "TIME")]
    pub time: Option<Moment>,
    /// The frame counter it is to have.
    #[arg(long)]
    pub counter: Option<u32>,
    /// Signal strength.
    #[arg(long, value_name = "DBM", allow_negative_numbers = true)]
    pub rssi: Option<f32>,
    /// Signal-to-noise ratio.
    #[arg(long, value_name = "DB", allow_negative_numbers = true)]
    pub snr: Option<f32>,
    /// The gateway that is to have heard it: its EUI or name.
    #[arg(long)]
    pub gateway: Option<String>,
}
