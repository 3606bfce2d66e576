//! `heron tail`: messages as an outlet would send them, one JSON object a line.

pub(crate) mod args;

use std::time::Duration;

use anyhow::{Context as _, Result};
use api::message::Message;
use api::outlet::{Shape, ShapeTrial, ShapeTried};
use domain::outlet::shape::shaped;
use eventsource_stream::{Event, Eventsource as _};
use futures::StreamExt as _;
use serde_json::Value;

use crate::args::moment;
use crate::client::Client;
use crate::commands::tail::args::TailArgs;
use crate::show::Out;

/// Before a broken stream is tried again.
const AGAIN_AFTER: Duration = Duration::from_secs(2);
/// Messages that are shaped together at most, when so many have come.
const TOGETHER: usize = 20;

/// What has been printed so far.
struct Printed {
    /// Where to go on from.
    last: Option<String>,
    /// How many more are to be printed.
    left: Option<u64>,
}

/// Prints messages as they come. What comes while the stream is broken is printed once it is back.
pub(crate) async fn run(client: &Client, out: &Out, args: TailArgs) -> Result<()> {
    let shape = match (args.script, args.shape.as_str()) {
        (Some(path), _) => {
            Shape::Script(std::fs::read_to_string(&path).with_context(|| format!("reading {}", path.display()))?)
        }
        _ if !args.field.is_empty() => Shape::Fields(args.field),
        (None, "flat") => Shape::Flat,
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
    // Those that have come already are taken together.
    let mut events = response.bytes_stream().eventsource().ready_chunks(TOGETHER);
    while printed.left != Some(0) {
        let Some(together) = events.next().await else { return Ok(()) };
        let (mut whole, mut broken) = (Vec::new(), None);
        for event in together {
            match event {
                Ok(event) if event.data.is_empty() => {}
                Ok(event) => whole.push(event),
                Err(why) => broken = Some(why),
            }
        }
        for (place, line) in shape_all(client, shape, whole).await? {
            if printed.left == Some(0) {
                return Ok(());
            }
            if let Some(line) = line {
                out.line(line)?;
                printed.left = printed.left.map(|left| left.saturating_sub(1));
            }
            printed.last = Some(place);
        }
        if let Some(why) = broken {
            return Err(why).context("the stream broke off");
        }
    }
    Ok(())
}

/// The line of each message, after the id of its event; none if a script leaves it out or fails.
async fn shape_all(client: &Client, shape: &Shape, events: Vec<Event>) -> Result<Vec<(String, Option<String>)>> {
    if !matches!(shape, Shape::Script(_)) {
        let line = |event: Event| {
            let line = shaped(shape, &event.data).context("a message cannot be read")?;
            Ok((event.id, Some(line.unwrap_or(event.data))))
        };
        return events.into_iter().map(line).collect();
    }
    if events.is_empty() {
        return Ok(Vec::new());
    }
    // Scripts run in the service only.
    let ids = events.iter().map(|event| event.id.clone()).collect();
    let trial = ShapeTrial { shape: shape.clone(), events: ids, ..ShapeTrial::default() };
    let tried: ShapeTried = client.post(&client.in_estate("outlets/shape").await?, &trial).await?;
    let line = |event: Event| {
        let message: Message = serde_json::from_str(&event.data).context("a message cannot be read")?;
        let item = tried.items.iter().find(|item| item.before.id == message.id);
        if let Some(why) = item.and_then(|item| item.why.as_ref()) {
            eprintln!("heron: the script fails at message {}: {}", message.id, why.message);
        }
        Ok((event.id, item.and_then(|item| item.after.as_ref()).map(Value::to_string)))
    };
    events.into_iter().map(line).collect()
}
