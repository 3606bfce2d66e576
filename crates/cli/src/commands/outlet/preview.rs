//! `heron outlet preview`: what would be sent of the latest messages.

use anyhow::{Result, bail};
use api::outlet::{ShapeTried, TriedMessage};

use crate::client::Client;
use crate::commands::outlet::args::PreviewArgs;
use crate::commands::outlet::settings::{Fields, messages};
use crate::show::{self, NeedsAttention, Out};

pub(super) async fn run(client: &Client, out: &Out, args: PreviewArgs) -> Result<()> {
    if args.which.tag.is_some() {
        bail!("--tag is not looked at here: leave it out");
    }
    let mut body = Fields::default();
    messages(args.which, &mut body)?;
    if !body.0.contains_key("shape") {
        body.put("shape", Some("message"));
    }
    body.put("latest", Some(args.latest));
    let tried: ShapeTried = client.post(&client.in_estate("outlets/shape").await?, &body.0).await?;
    let failed = tried.items.iter().any(|item| item.why.is_some());
    if out.json {
        out.json(&tried)?;
    } else if tried.items.is_empty() {
        out.line("There is no such message yet.")?;
    } else {
        tried.items.iter().try_for_each(|item| {
            out.one(item, lines)?;
            out.line("")
        })?;
    }
    if failed { Err(NeedsAttention.into()) } else { Ok(()) }
}

fn lines(item: &TriedMessage) -> Vec<(&'static str, String)> {
    let message = &item.before;
    let device = message.device.as_ref().map(|device| format!(" of {}", device.name)).unwrap_or_default();
    let before = serde_json::to_string(message).unwrap_or_default();
    let after = match (&item.after, &item.why) {
        (Some(after), _) => after.to_string(),
        (None, Some(why)) => format!("nothing, as the script fails: {}", why.message),
        (None, None) => "nothing: the script leaves it out".into(),
    };
    vec![
        ("message", format!("{}{device}, {}", message.body.kind(), show::clock(message.time))),
        ("before", before),
        ("after", after),
    ]
}
