//! Devices.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use super::radio;

#[derive(Subcommand)]
pub enum DeviceVerb {
    /// List devices with their state.
    List {
        /// Only those of this fleet.
        #[arg(long)]
        fleet: Option<String>,
    },
    /// Show one with session, readings and airtime.
    Show {
        /// Its DevEUI or name.
        device: String,
    },
    /// Say how one is doing: what stands out, why, what to do, and what happened to it.
    Why {
        /// Its DevEUI or name.
        device: String,
        /// How many past events to show, at most 500.
        #[arg(long, default_value_t = 15)]
        limit: u32,
    },
    /// Register one.
    Add(Box<DeviceAddArgs>),
    /// Show its radio and MAC settings, or change those that are given.
    Radio {
        /// Its DevEUI or name.
        device: String,
        #[command(flatten)]
        radio: Box<radio::RadioArgs>,
    },
    /// Remove one with its session and outbox.
    Remove {
        /// Its DevEUI or name.
        device: String,
    },
    /// Show its keys. Each look is written to the service's log.
    Keys {
        /// Its DevEUI or name.
        device: String,
    },
}

#[derive(Args)]
pub struct DeviceAddArgs {
    /// Its DevEUI, in any pasted form, most significant byte first.
    pub dev_eui: String,
    /// Its name.
    #[arg(long)]
    pub name: String,
    /// The short name of its fleet.
    #[arg(long)]
    pub fleet: String,
    /// Its JoinEUI (AppEUI), in any pasted form.
    #[arg(long)]
    pub join_eui: String,
    /// Its AppKey; asked for if not given, so that it stays out of the shell's history.
    #[arg(long, env = "HERON_APP_KEY", hide_env_values = true)]
    pub app_key: Option<String>,
    /// Its NwkKey, if it speaks 1.1; asked for if not given.
    #[arg(long, env = "HERON_NWK_KEY", hide_env_values = true)]
    pub nwk_key: Option<String>,
    /// Where it is used; EU868 if not given.
    #[arg(long)]
    pub region: Option<Region>,
    /// Its address, if it is activated by personalization (ABP): it has session keys and no root key.
    #[arg(long, value_name = "ADDRESS", requires_all = ["nwk_s_key", "app_s_key"], help_heading = "Personalization")]
    pub dev_addr: Option<String>,
    /// NwkSKey of 1.0.x, FNwkSIntKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub nwk_s_key: Option<String>,
    /// AppSKey.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub app_s_key: Option<String>,
    /// SNwkSIntKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of 1.1.
    #[arg(long, value_name = "KEY", requires = "dev_addr", help_heading = "Personalization")]
    pub nwk_s_enc_key: Option<String>,
    #[command(flatten)]
    pub radio: radio::RadioArgs,
    /// The short name of its model.
    #[arg(long)]
    pub model: Option<String>,
}
