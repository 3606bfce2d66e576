//! `heron rehearse`.

pub(crate) mod args;

use anyhow::Result;
use api::device::rehearsal::{RehearsalOutcome, Rehearse};

use crate::args::moment::Moment;
use crate::client::Client;
use crate::commands::rehearse::args::RehearseArgs;
use crate::commands::traffic;
use crate::show::Out;

pub(crate) async fn run(client: &Client, out: &Out, args: RehearseArgs) -> Result<()> {
    let device = client.dev_eui(&args.device).await?;
    let wanted = Rehearse {
        payload: args.payload,
        again: args.again,
        port: args.port,
        time: args.time.map(Moment::since),
        counter: args.counter,
        rssi_dbm: args.rssi,
        snr_db: args.snr,
        gateway: args.gateway,
    };
    let path = client.in_estate(&format!("devices/{device}/rehearse")).await?;
    let outcome: RehearsalOutcome = client.post(&path, &wanted).await?;
    if out.json {
        return out.json(&outcome);
    }
    traffic::print(out, &outcome.message)?;
    outcome.went_to.iter().try_for_each(|place| out.line(format!("    went to the {place}")))
}
