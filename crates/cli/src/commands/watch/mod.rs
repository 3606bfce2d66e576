//! `heron watch`.

use anyhow::Result;
use api::diagnosis::device::Weight;
use api::diagnosis::watch::{About, Watch};

use crate::client::Client;
use crate::show::Out;

pub async fn run(client: &Client, out: &Out) -> Result<()> {
    let watch: Watch = client.get(&client.in_estate("watch").await?, &[]).await?;
    if out.json {
        return out.json(&watch);
    }
    let Watch { gateways, gateways_listening, devices, devices_active, strangers, .. } = watch;
    out.line(match gateways_listening.zip(devices_active) {
        Some((listening, active)) => {
            format!("{listening} of {gateways} gateways are listening, {active} of {devices} devices are active.")
        }
        None => format!("{gateways} gateways and {devices} devices; the database does not say how they are."),
    })?;
    if strangers > 0 {
        let call = if strangers == 1 { "gateway calls" } else { "gateways call" };
        out.line(format!("{strangers} {call} without being registered: `heron gateway strangers`."))?;
    }
    if watch.concerns.is_empty() {
        return out.line("Nothing needs attention.");
    }
    for concern in watch.concerns {
        let sign = match concern.weight {
            Weight::Trouble => "x",
            Weight::Attention => "!",
            Weight::Fine => " ",
        };
        let about = match concern.about {
            About::Service => "the service",
            About::Gateway => "gateway",
            About::Device => "device",
            About::Decoder => "model",
        };
        let name = concern.name.map(|name| format!(" {name}")).unwrap_or_default();
        out.line(format!("{sign} {about}{name}: {}", concern.what))?;
        out.line(format!("    Next: {}", concern.next_step))?;
        if let (Some(model), Some(message)) = (concern.model, concern.message) {
            out.line(format!("    `heron decoder try {model} --message {message}`"))?;
        }
    }
    Ok(())
}
