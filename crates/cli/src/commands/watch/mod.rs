//! `heron watch`.

use anyhow::Result;
use api::diagnosis::device::Weight;
use api::diagnosis::watch::{About, Concern, Watch};

use crate::client::Client;
use crate::show::{self, NeedsAttention, Out};
use crate::terminal;

/// # Errors
/// [`NeedsAttention`] if something does, after it was shown.
pub(crate) async fn run(client: &Client, out: &Out) -> Result<()> {
    let watch: Watch = client.get(&client.in_estate("watch").await?, &[]).await?;
    if out.json {
        out.json(&watch)?;
    } else {
        write(out, &watch)?;
    }
    let fine = watch.concerns.iter().all(|concern| concern.weight == Weight::Fine);
    if fine { Ok(()) } else { Err(NeedsAttention.into()) }
}

fn write(out: &Out, watch: &Watch) -> Result<()> {
    let Watch { gateways, gateways_listening, devices, devices_active, strangers, .. } = watch;
    out.line(match gateways_listening.zip(*devices_active) {
        Some((listening, active)) => {
            format!("{listening} of {gateways} gateways are listening, {active} of {devices} devices are active.")
        }
        None => {
            format!("{gateways} gateways and {devices} devices; their state is not known while the database is away.")
        }
    })?;
    if *strangers > 0 {
        let connect = if *strangers == 1 { "gateway connects" } else { "gateways connect" };
        out.line(format!("{strangers} {connect} without being registered: `heron gateway strangers`."))?;
    }
    if watch.concerns.is_empty() {
        return out.line("Nothing needs attention.");
    }
    watch.concerns.iter().try_for_each(|concern| write_one(out, concern))
}

fn write_one(out: &Out, concern: &Concern) -> Result<()> {
    let sign = match concern.weight {
        Weight::Trouble => terminal::sign("x"),
        Weight::Attention => terminal::sign("!"),
        Weight::Fine => " ".into(),
    };
    let about = match concern.about {
        About::Service => "the service",
        About::Gateway => "gateway",
        About::Device => "device",
        About::Decoder => "model",
        About::Outlet => "outlet",
    };
    let name = concern.name.as_ref().map(|name| format!(" {name}")).unwrap_or_default();
    out.line(format!("{sign} {about}{name}: {}", concern.what))?;
    if let Some(since) = concern.since {
        out.line(format!("    Since {} ({})", show::moment(since), show::ago(Some(since))))?;
    }
    out.line(format!("    Next: {}", concern.next_step))?;
    if let (Some(model), Some(message)) = (&concern.model, &concern.message) {
        out.line(format!("    `heron decoder try --model {model} --message {message}`"))?;
    }
    Ok(())
}
