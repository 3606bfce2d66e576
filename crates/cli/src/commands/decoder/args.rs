//! `heron decoder`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::moment::Moment;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum DecoderVerb {
    /// Try a decoder: a file here with a payload or values, or a draft on a model's stored uplinks.
    ///
    /// Without `--model` nothing leaves the machine: `--payload` is decoded, `--value` encoded as a command would be. With
    /// `--model` the service tries the file beside the model's current decoder: what appears, vanishes, changes or fails.
    Try(Box<DecoderTryArgs>),
    /// Tests of a model: what its decoder must make of a payload. They run each time it is saved.
    Test {
        #[command(subcommand)]
        verb: TestVerb,
    },
    /// Editions of a model: it is kept each time it is saved.
    Edition {
        #[command(subcommand)]
        verb: EditionVerb,
    },
    /// Decode stored uplinks again with the current decoder. Old results stay until all are done.
    Redecode(RedecodeArgs),
    /// Jobs that decode stored uplinks again.
    Job {
        #[command(subcommand)]
        verb: JobVerb,
    },
    /// List uplinks that could not be decoded, by device.
    Failures,
}

#[derive(Subcommand)]
pub(crate) enum TestVerb {
    /// List a model's tests.
    List {
        /// The model's short name.
        #[arg(add = complete::models())]
        model: String,
    },
    /// Keep the current decoder's result for a payload as a test.
    Add(TestAddArgs),
    /// Remove one.
    Remove {
        /// The model's short name.
        #[arg(add = complete::models())]
        model: String,
        /// The test's name.
        name: String,
        /// Which of the model's decoders: that of some versions, as `heron model show` tells them.
        #[arg(long, value_name = "VERSIONS")]
        version: Option<String>,
    },
}

#[derive(Subcommand)]
pub(crate) enum EditionVerb {
    /// List a model's editions, the latest first.
    List {
        /// The model's short name.
        #[arg(add = complete::models())]
        model: String,
    },
    /// Compare two of them, line by line.
    Compare {
        /// The model's short name.
        #[arg(add = complete::models())]
        model: String,
        /// The older one, by number; the one before the newer if not given.
        #[arg(long, value_name = "NUMBER")]
        from: Option<u32>,
        /// The newer one; the last if not given.
        #[arg(long, value_name = "NUMBER")]
        to: Option<u32>,
    },
    /// Restore one, as a new edition.
    Restore {
        /// The model's short name.
        #[arg(add = complete::models())]
        model: String,
        /// Its number.
        number: u32,
    },
}

#[derive(Subcommand)]
pub(crate) enum JobVerb {
    /// List them: running and done.
    List,
    /// Show one.
    Show {
        /// The job, as `heron decoder job list` names it.
        job: String,
    },
    /// Stop one that is running; the old results stay.
    Remove {
        /// The job, as `heron decoder job list` names it.
        job: String,
    },
}

#[derive(Args)]
pub(crate) struct DecoderTryArgs {
    /// The decoder: a script (.js), a field table (.table.toml), names for the low-power format (.low-power.toml), or a
    /// form of text (.text.toml). With --model the current one, if not given.
    #[arg(required_unless_present = "model")]
    pub file: Option<PathBuf>,
    /// A payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: Option<String>,
    /// FPort of that payload, 1 to 223.
    #[arg(long, default_value_t = 1, requires = "payload")]
    pub port: u8,
    /// A value to encode; may be given several times. A dot in the name leads into an object.
    #[arg(long = "value", value_name = "NAME=VALUE", conflicts_with_all = ["payload", "model"])]
    pub values: Vec<String>,
    /// Try it on this model's stored uplinks: its short name.
    #[arg(long, help_heading = "With a model", add = complete::models())]
    pub model: Option<String>,
    /// Which of the model's decoders it is a draft of: that of some versions, as `heron model show` tells them.
    #[arg(long, value_name = "VERSIONS", requires = "model", help_heading = "With a model")]
    pub version: Option<String>,
    /// So many of the last stored uplinks of devices that use it; 50 if nothing else is given.
    #[arg(long, value_name = "N", requires = "model", help_heading = "With a model")]
    pub limit: Option<u32>,
    /// Only those of this device: its DevEUI or name.
    #[arg(long, requires = "model", help_heading = "With a model", add = complete::devices())]
    pub device: Option<String>,
    /// A stored uplink by its id; may be given several times.
    #[arg(long = "message", value_name = "ID", requires = "model", help_heading = "With a model")]
    pub messages: Vec<String>,
    /// Save the draft and use it, if no uplink fails that could be decoded before.
    #[arg(long, requires_all = ["file", "model"], help_heading = "With a model")]
    pub save: bool,
    /// What the change is for; it stands beside the edition.
    #[arg(long, value_name = "TEXT", requires = "save", help_heading = "With a model")]
    pub note: Option<String>,
}

#[derive(Args)]
pub(crate) struct RedecodeArgs {
    /// The model's short name.
    #[arg(add = complete::models())]
    pub model: String,
    /// From when on: RFC 3339, a date, or how long ago (30d).
    #[arg(long, value_name = "TIME")]
    pub since: Moment,
    /// Until when; now if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Only this device: its DevEUI or name.
    #[arg(long, add = complete::devices())]
    pub device: Option<String>,
    /// Do not wait until it is done.
    #[arg(long)]
    pub no_wait: bool,
}

#[derive(Args)]
pub(crate) struct TestAddArgs {
    /// The model's short name.
    #[arg(add = complete::models())]
    pub model: String,
    /// What the test is called.
    #[arg(long)]
    pub name: String,
    /// A stored uplink by its id.
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
