//! `heron decoder`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum DecoderVerb {
    /// Decode a payload, and show which bytes each reading came from. Nothing leaves the machine.
    Read(DecoderReadArgs),
    /// Encode named values, as a command would be. Nothing leaves the machine.
    Write(DecoderWriteArgs),
}

#[derive(Args)]
pub struct DecoderReadArgs {
    /// The decoder: a script (.js), a field table (.table.toml), names for the low-power format (.low-power.toml), or a form of
    /// text (.text.toml).
    pub file: PathBuf,
    /// The payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: String,
    /// FPort, 1 to 223.
    #[arg(long, default_value_t = 1)]
    pub port: u8,
}

#[derive(Args)]
pub struct DecoderWriteArgs {
    /// The decoder.
    pub file: PathBuf,
    /// A value; may be given several times. A dot in the name leads into an object.
    #[arg(long = "value", value_name = "NAME=VALUE")]
    pub values: Vec<String>,
}
