//! `heron decoder`.

use crate::args::moment::Moment;
use std::path::PathBuf;

use clap::{Args, Subcommand};

/// The verbs of `heron decoder`.
#[derive(Subcommand)]
pub(crate) enum DecoderVerb {
    #[command(flatten)]
    Local(LocalDecoderVerb),
    #[command(flatten)]
    Remote(RemoteDecoderVerb),
}

/// Those that need no service.
#[derive(Subcommand)]
pub(crate) enum LocalDecoderVerb {
    /// Decode a payload, and show which bytes each reading came from. Nothing leaves the machine.
    Read(DecoderReadArgs),
    /// Encode named values, as a command would be. Nothing leaves the machine.
    Write(DecoderWriteArgs),
}

/// Those that ask the service.
#[derive(Subcommand)]
pub(crate) enum RemoteDecoderVerb {
    /// Try a draft on stored uplinks, beside the current decoder: what appears, vanishes, changes or fails.
    Try(DecoderTryArgs),
    /// Keep the current decoder's result for a payload as a test, run on every save.
    KeepTest(KeepTestArgs),
    /// A model each time it was saved.
    Editions {
        /// The model's short name.
        model: String,
    },
    /// How two editions of a model differ.
    Compare {
        /// The model's short name.
        model: String,
        /// The older one, by number; the one before the newer if not given.
        #[arg(long, value_name = "NUMBER")]
        from: Option<u32>,
        /// The newer one; the last if not given.
        #[arg(long, value_name = "NUMBER")]
        to: Option<u32>,
    },
    /// Bring an edition back, as a new one.
    Restore {
        /// The model's short name.
        model: String,
        /// Its number.
        number: u32,
    },
    /// Decode stored uplinks again with the current decoder. Old results stay until all are done.
    Redecode(RedecodeArgs),
    /// Decoding jobs: running and done.
    Jobs,
    /// Stop one; the old results stay.
    Stop {
        /// The job's name.
        job: String,
    },
    /// Uplinks that could not be decoded, by device.
    Failures,
}

#[derive(Args)]
pub(crate) struct DecoderReadArgs {
    /// The decoder: a script (.js), a field table (.table.toml), names for the low-power format (.low-power.toml), or a
    /// form of text (.text.toml).
    pub file: PathBuf,
    /// The payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: String,
    /// FPort, 1 to 223.
    #[arg(long, default_value_t = 1)]
    pub port: u8,
}

#[derive(Args)]
pub(crate) struct DecoderWriteArgs {
    /// The decoder.
    pub file: PathBuf,
    /// A value; may be given several times. A dot in the name leads into an object.
    #[arg(long = "value", value_name = "NAME=VALUE")]
    pub values: Vec<String>,
}

#[derive(Args)]
pub(crate) struct DecoderTryArgs {
    /// The model's short name.
    pub model: String,
    /// A draft of its decoder; the current one if not given.
    pub file: Option<PathBuf>,
    /// Which of the model's decoders it is a draft of: that of some versions, as `heron model show` tells them.
    #[arg(long, value_name = "VERSIONS")]
    pub version: Option<String>,
    /// So many of the last stored uplinks of devices that use it; 50 if nothing else is given.
    #[arg(long, value_name = "N")]
    pub limit: Option<u32>,
    /// Only those of this device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
    /// A stored uplink by its name; may be given several times.
    #[arg(long = "message", value_name = "ID")]
    pub messages: Vec<String>,
    /// A payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: Option<String>,
    /// FPort of that payload, 1 to 223.
    #[arg(long, default_value_t = 1, requires = "payload")]
    pub port: u8,
    /// Save the draft and use it, if no uplink fails that could be decoded before.
    #[arg(long, requires = "file")]
    pub put: bool,
    /// What the change is for; it stands beside the edition.
    #[arg(long, requires = "put")]
    pub note: Option<String>,
}

#[derive(Args)]
pub(crate) struct RedecodeArgs {
    /// The model's short name.
    pub model: String,
    /// From when on: RFC 3339, a date, or how long ago (30d).
    #[arg(long, value_name = "TIME")]
    pub since: Moment,
    /// Until when; now if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Only this device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
    /// Do not wait until it is done.
    #[arg(long)]
    pub no_wait: bool,
}

#[derive(Args)]
pub(crate) struct KeepTestArgs {
    /// The model's short name.
    pub model: String,
    /// What the test is called.
    #[arg(long)]
    pub name: String,
    /// A stored uplink by its name.
    #[arg(long, value_name = "ID", required_unless_present = "payload", conflicts_with = "payload")]
    pub message: Option<String>,
    /// A payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: Option<String>,
    /// FPort of that payload, 1 to 223.
    #[arg(long, default_value_t = 1, requires = "payload")]
    pub port: u8,
    /// Which of the model's decoders: that of some versions, as `heron model show` tells them.
    #[arg(long, value_name = "VERSIONS")]
    pub version: Option<String>,
}
