//! `heron link`: devices and gateways, as forecast and as measured.

use std::path::PathBuf;

use anyhow::Result;
use api::coverage::link::{AssignBy, CoverageVerdict, DeviceCoverage, DeviceLink};
use clap::{Args, Subcommand, ValueEnum};
use serde::Serialize;

use crate::client::Client;
use crate::commands::coverage::args::ModelWord;
use crate::commands::forecast::args::path_model;
use crate::complete;
use crate::show::Out;

mod file;

#[derive(Subcommand)]
pub(crate) enum LinkVerb {
    /// List the links of placed devices to gateways: forecast, measured in the latest 48 uplinks, and the difference.
    List(Box<LinkArgs>),
    /// Write them all to a file that ends with .csv or .xlsx.
    Export {
        #[command(flatten)]
        which: Box<LinkArgs>,
        /// The file.
        #[arg(long, short, value_name = "FILE")]
        output: PathBuf,
    },
    /// Say of each device what its links come to: good, weak by nature, weak by fault, or hanging on one gateway. Ends with 1
    /// if one needs attention.
    Check(Box<DeviceArgs>),
}

/// Which devices, and how their links are computed.
#[derive(Args)]
pub(crate) struct DeviceArgs {
    /// Only devices of this fleet.
    #[arg(long, add = complete::fleets())]
    fleet: Option<String>,
    /// Only devices of this model.
    #[arg(long, add = complete::models())]
    model: Option<String>,
    /// Only devices with this tag.
    #[arg(long)]
    tag: Option<String>,
    /// Only this device, by name or DevEUI.
    #[arg(long, add = complete::devices())]
    device: Option<String>,
    /// How the loss of a path is computed.
    #[arg(long, value_enum, default_value = "p1812")]
    path_model: ModelWord,
}

/// Which links of which devices.
#[derive(Args)]
pub(crate) struct LinkArgs {
    #[command(flatten)]
    devices: DeviceArgs,
    /// Only links to this gateway, by name or EUI.
    #[arg(long, add = complete::gateways())]
    gateway: Option<String>,
    /// By what a gateway is assigned to a device.
    #[arg(long, value_enum, default_value = "forecast")]
    by: ByWord,
}

#[derive(Clone, Copy, ValueEnum)]
enum ByWord {
    /// The most margin in the forecast.
    Forecast,
    /// The strongest that was measured.
    Measured,
    /// The nearest.
    Distance,
}

type Query = Vec<(&'static str, String)>;

fn given(all: impl IntoIterator<Item = (&'static str, Option<String>)>) -> Query {
    all.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
}

/// A word of the interface.
fn word(value: impl Serialize) -> Result<Option<String>> {
    Ok(serde_json::to_value(value)?.as_str().map(str::to_owned))
}

impl DeviceArgs {
    fn query(&self) -> Result<Query> {
        Ok(given([
            ("fleet", self.fleet.clone()),
            ("model", self.model.clone()),
            ("tag", self.tag.clone()),
            ("device", self.device.clone()),
            ("path_model", word(path_model(self.path_model))?),
        ]))
    }
}

impl LinkArgs {
    fn query(&self) -> Result<Query> {
        let by = match self.by {
            ByWord::Forecast => AssignBy::Forecast,
            ByWord::Measured => AssignBy::Measured,
            ByWord::Distance => AssignBy::Distance,
        };
        let links = given([("gateway", self.gateway.clone()), ("by", word(by)?)]);
        Ok([self.devices.query()?, links].concat())
    }
}

async fn all(client: &Client, which: &LinkArgs) -> Result<Vec<DeviceLink>> {
    client.all(&client.in_estate("links").await?, &which.query()?).await
}

fn row(link: &DeviceLink) -> Vec<String> {
    let decibel = |value: Option<f64>| value.map_or_else(|| "–".into(), |db| format!("{db:.1} dB"));
    let measured = link.measured;
    vec![
        link.device.clone(),
        link.gateway.clone(),
        if link.assigned { "yes".into() } else { String::new() },
        format!("{:.2} km", link.distance_m / 1000.0),
        format!("{:.1} dB", link.loss_db),
        format!("{:.1} dBm", link.forecast_dbm),
        format!("{:.1} dB", link.margin_db),
        link.data_rate.map_or_else(|| "none".into(), |rate| format!("DR{rate}")),
        measured.map_or_else(|| "–".into(), |one| format!("{:.0} dBm", one.rssi_dbm)),
        decibel(measured.map(|one| one.snr_db)),
        measured.map_or_else(|| "–".into(), |one| format!("{} of {}", one.heard, one.of)),
        decibel(link.residual_db),
    ]
}

const HEAD: [&str; 12] = [
    "DEVICE", "GATEWAY", "ASSIGNED", "DISTANCE", "LOSS", "FORECAST", "MARGIN", "BEST DR", "RSSI", "SNR", "HEARD",
    "RESIDUAL",
];

async fn check(client: &Client, out: &Out, which: &DeviceArgs) -> Result<()> {
    let all: Vec<DeviceCoverage> = client.all(&client.in_estate("coverage").await?, &which.query()?).await?;
    let head = ["DEVICE", "VERDICT", "MARGIN", "BEST", "SECOND", "WHY"];
    out.list(&all, "No device is like that.", &head, |one| {
        let margin = one.margin_db.map_or_else(|| "–".into(), |db| format!("{db:.1} dB"));
        let name = |gateway: &Option<String>| gateway.clone().unwrap_or_else(|| "–".into());
        let verdict = one.verdict.label().to_owned();
        vec![one.device.clone(), verdict, margin, name(&one.best), name(&one.second), one.words.clone()]
    })?;
    let troubled =
        |one: &&DeviceCoverage| matches!(one.verdict, CoverageVerdict::WeakByFault | CoverageVerdict::NotHeard);
    let troubled = all.iter().filter(troubled).count();
    anyhow::ensure!(troubled == 0, "{troubled} of {} devices are weaker than the forecast explains", all.len());
    Ok(())
}

pub(crate) async fn run(client: &Client, out: &Out, verb: LinkVerb) -> Result<()> {
    match verb {
        LinkVerb::List(which) => {
            let links = all(client, &which).await?;
            out.list(&links, "No device with a place is like that, or no gateway has a place.", &HEAD, row)
        }
        LinkVerb::Export { which, output } => {
            let form = file::Form::of(&output)?;
            file::write(&output, form, &all(client, &which).await?)
        }
        LinkVerb::Check(which) => check(client, out, &which).await,
    }
}
