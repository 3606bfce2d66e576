//! `heron survey`: its verbs and options.

use std::path::PathBuf;

use api::coverage::survey::SurveyQuantity;
use clap::{Args, Subcommand, ValueEnum};
use coverage::geo::Place;
use lorawan::region::Region;

use crate::args::ListArgs;
use crate::args::moment::Moment;
use crate::commands::coverage::args::place;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum SurveyVerb {
    /// Show the survey in figures: uplinks, and each gateway with the noise at its antenna.
    Show {
        #[command(flatten)]
        filter: Box<FilterArgs>,
        /// A place: latitude and longitude in degrees. Shows what was measured around it.
        #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
        at: Option<Place>,
    },
    /// List weak and dark areas, the worst first, with what to do.
    Areas(Box<FilterArgs>),
    /// List changes of signal that stayed: of gateways and of devices, the latest first. Ends with 1 if one is weaker.
    Changes(ListArgs),
    /// Show the signal of a device at a gateway over time, with its steps.
    Signal {
        /// The device, by name or DevEUI.
        #[arg(add = complete::devices())]
        device: String,
        /// The gateway, by name or EUI.
        #[arg(add = complete::gateways())]
        gateway: String,
    },
    /// Write the hexagons to a file that ends with .csv or .geojson.
    Export {
        #[command(flatten)]
        filter: Box<FilterArgs>,
        /// What they are coloured by.
        #[arg(long, value_enum, default_value = "margin")]
        quantity: QuantityWord,
        /// Their size, as a resolution of H3: 5 (sides of 9.9 km) to 12 (11 m).
        #[arg(long, default_value_t = 9)]
        resolution: u8,
        /// The file.
        #[arg(long, short, value_name = "FILE")]
        output: PathBuf,
    },
    /// Import a drive test from CSV: a row for each gateway that heard an uplink; a row without RSSI was heard by nobody.
    Import {
        /// The file.
        file: PathBuf,
        /// Its name; that of the file if not given.
        #[arg(long)]
        name: Option<String>,
        /// Which column is which, such as rssi_dbm=signal. Repeat it for more; usual names are known.
        #[arg(long = "column", value_name = "OURS=THEIRS", value_parser = mapping)]
        columns: Vec<(String, String)>,
        /// The region whose data rates and power count.
        #[arg(long, default_value = "EU868")]
        region: Region,
        /// Only say what would be imported.
        #[arg(long = "dry-run")]
        check: bool,
    },
    /// List the drive tests that were imported.
    Imports(ListArgs),
    /// Remove a drive test that was imported.
    Remove {
        /// Its name.
        #[arg(add = complete::drive_tests())]
        name: String,
    },
}

/// Which uplinks.
#[derive(Args)]
pub(crate) struct FilterArgs {
    /// From when on: RFC 3339, a date, or how long ago (7d).
    #[arg(long, value_name = "TIME")]
    since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME")]
    until: Option<Moment>,
    /// Only of this device, by name or DevEUI.
    #[arg(long, add = complete::devices())]
    device: Option<String>,
    /// Only as heard, or missed, by this gateway: its name or EUI.
    #[arg(long, add = complete::gateways())]
    gateway: Option<String>,
    /// Only at this data rate: its number.
    #[arg(long, value_name = "NUMBER")]
    data_rate: Option<u8>,
}

impl FilterArgs {
    /// As the interface has it.
    pub(super) fn query(&self) -> Vec<(&'static str, String)> {
        let all = [
            ("since", self.since.map(|at| at.since().to_rfc3339())),
            ("until", self.until.map(|at| at.until().to_rfc3339())),
            ("device", self.device.clone()),
            ("gateway", self.gateway.clone()),
            ("data_rate", self.data_rate.map(|rate| rate.to_string())),
        ];
        all.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
    }
}

/// A column of ours and the name that it has in a file.
fn mapping(text: &str) -> Result<(String, String), String> {
    let (ours, theirs) = text.split_once('=').ok_or("a column of ours, = and its name in the file are wanted")?;
    Ok((ours.trim().to_owned(), theirs.trim().to_owned()))
}

/// What hexagons are coloured by.
#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum QuantityWord {
    /// SNR above what the data rate needs, in dB.
    Margin,
    /// The same at full power and the slowest data rate, in dB.
    Reserve,
    /// Signal strength, in dBm.
    Rssi,
    /// Signal over noise, in dB.
    Snr,
    /// The data rate used.
    DataRate,
    /// Which gateway heard best most often.
    BestGateway,
    /// How many gateways heard an uplink.
    Gateways,
    /// The share of uplinks that were heard, in percent.
    Heard,
    /// How many uplinks there are.
    Count,
}

impl From<QuantityWord> for SurveyQuantity {
    fn from(word: QuantityWord) -> Self {
        match word {
            QuantityWord::Margin => Self::Margin,
            QuantityWord::Reserve => Self::Reserve,
            QuantityWord::Rssi => Self::Rssi,
            QuantityWord::Snr => Self::Snr,
            QuantityWord::DataRate => Self::DataRate,
            QuantityWord::BestGateway => Self::BestGateway,
            QuantityWord::Gateways => Self::Gateways,
            QuantityWord::Heard => Self::Heard,
            QuantityWord::Count => Self::Count,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mapping_has_two_names() {
        assert_eq!(mapping("rssi_dbm = signal level"), Ok(("rssi_dbm".into(), "signal level".into())));
        assert!(mapping("rssi_dbm").unwrap_err().contains('='));
    }
}
