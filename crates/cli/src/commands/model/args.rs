//! Models and what is known of their readings.

use std::path::PathBuf;

use api::reading::ReadingKind;
use clap::{Args, Subcommand, ValueEnum};

use crate::args::ListArgs;
use crate::args::radio::RadioArgs;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ModelVerb {
    /// List models.
    List(ListArgs),
    /// Show one with its decoder.
    Show {
        /// Its short name.
        #[arg(value_name = "MODEL", add = complete::models())]
        slug: String,
    },
    /// Add one.
    Add(Box<ModelAddArgs>),
    /// Change one; what is not given stays.
    Set(Box<ModelSetArgs>),
    /// Remove one that no device is of.
    Remove {
        /// Its short name.
        #[arg(value_name = "MODEL", add = complete::models())]
        slug: String,
    },
    /// What is known of its readings: units, limits, words.
    Reading {
        #[command(subcommand)]
        verb: ReadingVerb,
    },
}

#[derive(Subcommand)]
pub(crate) enum ReadingVerb {
    /// List what is known of a model's readings.
    List {
        /// The model's short name.
        #[arg(value_name = "MODEL", add = complete::models())]
        slug: String,
    },
    /// Set what is known of one; what is not given stays.
    Set(ReadingArgs),
    /// Remove what is known of one: its values are shown as the decoder gives them.
    Remove {
        /// The model's short name.
        #[arg(value_name = "MODEL", add = complete::models())]
        slug: String,
        /// The reading's name.
        reading: String,
    },
}

#[derive(Args)]
pub(crate) struct ReadingArgs {
    /// The model's short name.
    #[arg(value_name = "MODEL", add = complete::models())]
    pub slug: String,
    /// The reading's name.
    pub reading: String,
    /// Its unit, after scale and offset.
    #[arg(long)]
    pub unit: Option<String>,
    /// What kind of value it is.
    #[arg(long)]
    pub kind: Option<Kind>,
    /// The factor for the decoder's value.
    #[arg(long, allow_negative_numbers = true)]
    pub scale: Option<f64>,
    /// The offset added afterwards.
    #[arg(long, allow_negative_numbers = true)]
    pub offset: Option<f64>,
    /// The lowest plausible value.
    #[arg(long, allow_negative_numbers = true)]
    pub min: Option<f64>,
    /// The highest.
    #[arg(long, allow_negative_numbers = true)]
    pub max: Option<f64>,
    /// Significant decimals.
    #[arg(long)]
    pub decimals: Option<u8>,
    /// Where the device's counter begins again at 0, for a running total.
    #[arg(long)]
    pub wraps_at: Option<f64>,
    /// Word for a value, as VALUE=WORD (true=open); may be given several times.
    #[arg(long = "word", value_name = "VALUE=WORD")]
    pub words: Vec<String>,
}

/// What kind of value a reading is.
#[derive(Clone, Copy, ValueEnum)]
pub enum Kind {
    Measured,
    /// A running total, which goes on when its device restarts its count.
    Total,
    State,
    Text,
    Position,
}

impl From<Kind> for ReadingKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Measured => Self::Measured,
            Kind::Total => Self::Total,
            Kind::State => Self::State,
            Kind::Text => Self::Text,
            Kind::Position => Self::Position,
        }
    }
}

#[derive(Args)]
pub(crate) struct ModelAddArgs {
    /// Its short name: lower-case letters, digits and dashes.
    pub slug: String,
    /// Who makes it.
    #[arg(long)]
    pub maker: String,
    /// Its name.
    #[arg(long)]
    pub name: String,
    #[command(flatten)]
    pub about: ModelAboutArgs,
}

#[derive(Args)]
pub(crate) struct ModelSetArgs {
    /// Its short name.
    #[arg(value_name = "MODEL", add = complete::models())]
    pub slug: String,
    /// Who makes it.
    #[arg(long)]
    pub maker: Option<String>,
    /// Its name.
    #[arg(long)]
    pub name: Option<String>,
    #[command(flatten)]
    pub about: ModelAboutArgs,
}

#[derive(Args)]
pub(crate) struct ModelAboutArgs {
    /// File that says how its payloads are read: a script (.js, with decodeUplink), a field table (.table.toml), names
    /// for the low-power format (.low-power.toml), or a form of text (.text.toml).
    #[arg(long, value_name = "FILE")]
    pub decoder: Option<PathBuf>,
    /// Unit of a reading, as READING=UNIT; may be given several times. For more than that: `heron model reading set`.
    #[arg(long = "unit", value_name = "READING=UNIT")]
    pub units: Vec<String>,
    #[command(flatten)]
    pub radio: Box<RadioArgs>,
}
