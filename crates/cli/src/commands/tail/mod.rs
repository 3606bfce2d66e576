//! `heron tail`: messages as an outlet would send them, one JSON object a line.

pub(crate) mod args;

use std::time::Duration;

use anyhow::{Context as _, Result};
use api::outlet::Shape;
use domain::outlet::shape::shaped;
use eventsource_stream::Eventsource as _;
use futures::StreamExt as _;

use crate::args::moment;
use crate::client::Client;
use crate::commands::tail::args::TailArgs;
use crate::show::Out;

/// Before a broken stream is tried again.
const AGAIN_AFTER: Duration = Duration::from_secs(2);

/// What has been printed so far.
struct Printed {
    /// Where to go on from.
    last: Option<String>,
    /// How many more are to be printed.
    left: Option<u64>,
}

/// Prints messages as they come. What comes while the stream is broken is printed once it is back.
pub(crate) async fn run(client: &Client, out: &Out, args: TailArgs) -> Result<()> {
    let shape = match args.shape.as_str() {
        _ if !args.field.is_empty() => Shape::Fields(args.field),
        "flat" => Shape::Flat,
        _ => Shape::Message,
    };
    let mut query = Vec::new();
    query.extend(args.fleet.map(|fleet| ("fleet", fleet)));
    query.extend(args.types.map(|types| ("type", types)));
    query.extend(args.model.map(|model| ("model", model)));
    query.extend(args.since.map(|at| ("since", moment::text(at.since()))));
    let mut printed = Printed { last: None, left: args.limit };
    while printed.left != Some(0) {
        match listen(client, out, (&query, &shape), &mut printed).await {
            Ok(()) if printed.left == Some(0) => return Ok(()),
            Ok(()) => eprintln!("heron: the stream ended; trying again"),
            Err(error) if error.downcast_ref::<std::io::Error>().is_some() => return Err(error),
            // A refusal will not change by asking again.
            Err(error) if error.downcast_ref::<api::problem::Problem>().is_some() => return Err(error),
            Err(error) => eprintln!("heron: {error:#}; trying again"),
        }
        tokio::time::sleep(AGAIN_AFTER).await;
    }
    Ok(())
}

/// Prints messages until the stream ends, or as many are printed as were wanted.
async fn listen(
    client: &Client,
    out: &Out,
    (query, shape): (&[(&str, String)], &Shape),
    printed: &mut Printed,
) -> Result<()> {
    let path = client.in_estate("messages/stream").await?;
    let response = client.stream(&path, query, printed.last.as_deref()).await?;
    let place = response.headers().get("keen-heron-place").and_then(|place| place.to_str().ok());
    printed.last = place.map(str::to_owned).or(printed.last.take());
    let mut events = response.bytes_stream().eventsource();
    while printed.left != Some(0) {
        let Some(event) = events.next().await else { return Ok(()) };
        let event = event.context("the stream broke off")?;
        if event.data.is_empty() {
            continue;
        }
        // Scripts run in the service only, and no option names one.
        let shaped = shaped(shape, &event.data).context("a message cannot be read")?;
        out.line(shaped.unwrap_or(event.data))?;
        printed.left = printed.left.map(|left| left.saturating_sub(1));
        printed.last = Some(event.id);
    }
    Ok(())
}
