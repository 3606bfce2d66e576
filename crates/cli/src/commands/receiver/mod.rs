//! `heron receiver`: kinds of receiver, as forecasts see devices.

use anyhow::{Result, bail};
use api::coverage::site::{NewReceiver, Receiver, ReceiverChange, ReceiverRadio};
use clap::{Args, Subcommand};

use crate::args::ListArgs;
use crate::client::Client;
use crate::complete;
use crate::show::{self, Out};

#[derive(Subcommand)]
pub(crate) enum ReceiverVerb {
    /// List kinds of receiver; an estate has `outdoors` and `indoors` at first.
    List(ListArgs),
    /// Show one with its radio.
    Show {
        /// Its name.
        #[arg(add = complete::receivers())]
        receiver: String,
    },
    /// Add a kind of receiver.
    Add {
        /// Its name.
        name: String,
        #[command(flatten)]
        radio: ReceiverRadioArgs,
    },
    /// Change one; what is not given stays.
    Set {
        /// Its name.
        #[arg(add = complete::receivers())]
        receiver: String,
        #[command(flatten)]
        radio: ReceiverRadioArgs,
    },
    /// Remove one; `outdoors` and `indoors` are set back to their first values.
    Remove {
        /// Its name.
        #[arg(add = complete::receivers())]
        receiver: String,
    },
}

/// A receiver's radio.
#[derive(Args)]
pub(crate) struct ReceiverRadioArgs {
    /// Its antenna above the ground, in metres, 0 to 1,000; 1.5 if it was never given.
    #[arg(long, value_name = "METRES")]
    height_m: Option<f64>,
    /// Its antenna's gain, in dBi, -20 to 20; 0 if it was never given.
    #[arg(long, value_name = "DBI", allow_hyphen_values = true)]
    gain_dbi: Option<f64>,
    /// What it transmits, in dBm, -10 to 30; 14 if it was never given.
    #[arg(long, value_name = "DBM", allow_hyphen_values = true)]
    power_dbm: Option<f64>,
    /// Lost in walls, soil or a body, in dB, 0 to 60; 0 if it was never given.
    #[arg(long, value_name = "DB")]
    penetration_loss_db: Option<f64>,
    /// Noise of its receiver, in dB, 0 to 30; 6 if it was never given.
    #[arg(long, value_name = "DB")]
    noise_figure_db: Option<f64>,
}

impl ReceiverRadioArgs {
    fn change(&self) -> ReceiverChange {
        ReceiverChange {
            height_m: self.height_m,
            gain_dbi: self.gain_dbi,
            power_dbm: self.power_dbm,
            penetration_loss_db: self.penetration_loss_db,
            noise_figure_db: self.noise_figure_db,
        }
    }

    fn radio(&self) -> ReceiverRadio {
        let usual = ReceiverRadio::default();
        ReceiverRadio {
            height_m: self.height_m.unwrap_or(usual.height_m),
            gain_dbi: self.gain_dbi.unwrap_or(usual.gain_dbi),
            power_dbm: self.power_dbm.unwrap_or(usual.power_dbm),
            penetration_loss_db: self.penetration_loss_db.unwrap_or(usual.penetration_loss_db),
            noise_figure_db: self.noise_figure_db.unwrap_or(usual.noise_figure_db),
        }
    }
}

fn lines(one: &Receiver) -> Vec<(&'static str, String)> {
    let radio = &one.radio;
    vec![
        ("receiver", one.name.clone()),
        ("height", format!("{} m above the ground", radio.height_m)),
        ("gain", format!("{} dBi", radio.gain_dbi)),
        ("power", format!("{} dBm", radio.power_dbm)),
        ("penetration loss", format!("{} dB", radio.penetration_loss_db)),
        ("noise figure", format!("{} dB", radio.noise_figure_db)),
    ]
}

pub(crate) async fn run(client: &Client, out: &Out, verb: ReceiverVerb, yes: bool) -> Result<()> {
    match verb {
        ReceiverVerb::List(which) => {
            let all: Vec<Receiver> = client.all(&client.in_estate("receivers").await?, &which.query()).await?;
            let head = ["RECEIVER", "HEIGHT", "GAIN", "POWER", "PENETRATION LOSS"];
            out.list(&all, "No kind of receiver is like that.", &head, |one| {
                lines(one).into_iter().take(5).map(|(_, value)| value).collect()
            })
        }
        ReceiverVerb::Show { receiver } => {
            let one: Receiver = client.get(&client.one("receivers", &receiver).await?, &[]).await?;
            out.one(&one, lines)
        }
        ReceiverVerb::Add { name, radio } => {
            let new = NewReceiver { name, radio: radio.radio() };
            let one: Receiver = client.post(&client.in_estate("receivers").await?, &new).await?;
            out.one(&one, lines)
        }
        ReceiverVerb::Set { receiver, radio } => {
            let change = radio.change();
            if change == ReceiverChange::default() {
                bail!("nothing to change was given: see `heron receiver set --help`");
            }
            let one: Receiver = client.patch(&client.one("receivers", &receiver).await?, &change).await?;
            out.one(&one, lines)
        }
        ReceiverVerb::Remove { receiver } => {
            show::confirm(yes, &format!("The kind of receiver {receiver} will be removed."))?;
            client.delete(&client.one("receivers", &receiver).await?).await?;
            out.said(format!("{receiver} was removed."))
        }
    }
}
