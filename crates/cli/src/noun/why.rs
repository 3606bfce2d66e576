//! `heron device why`: what stands out about a device, and what happened to it.

use anyhow::Result;
use api::message::{Body, Message};
use api::why::{DeviceWhy, Weight};

use super::traffic;
use crate::client::Client;
use crate::show::{self, Out};

pub async fn run(client: &Client, out: &Out, device: &str, limit: u32) -> Result<()> {
    let eui = client.dev_eui(device).await?;
    let path = client.in_estate(&format!("devices/{eui}/why")).await?;
    let why: DeviceWhy = client.get(&path, &[("limit", limit.to_string())]).await?;
    if out.json {
        return out.json(&why);
    }
    for finding in &why.findings {
        let mark = match finding.weight {
            Weight::Trouble => "!!",
            Weight::Attention => "! ",
            Weight::Fine => "  ",
        };
        out.line(format!("{mark} {:<10} {}", finding.about, finding.what))?;
        if let Some(step) = &finding.next_step {
            out.line(format!("   {:<10} Next: {step}", ""))?;
        }
    }
    if why.timeline.is_empty() {
        return out.line("\nNothing has happened to it yet.");
    }
    out.line("\nWhat happened, newest first:")?;
    for message in &why.timeline {
        out.line(format!("{:<12} {}", show::ago(Some(message.time)), event(message)))?;
    }
    Ok(())
}

/// An event in one line.
fn event(message: &Message) -> String {
    match &message.body {
        Body::Join(join) => {
            let how = join.rejoin_type.map_or_else(|| "joined".into(), |kind| format!("rejoined (type {kind})"));
            let answer = join.unanswered.as_ref().map_or_else(String::new, |why| format!("; not answered: {why}"));
            format!("{how}, DevAddr {}, DevNonce {}{answer}", join.dev_addr, join.dev_nonce)
        }
        Body::Refused(refused) => format!("refused ({}): {}", refused.refusal.code, refused.refusal.why),
        Body::Notice(notice) => {
            let mark = if notice.wants_attention { "! " } else { "" };
            let step = notice.next_step.as_ref().map_or_else(String::new, |step| format!(" Next: {step}"));
            format!("{mark}{}: {}{step}", notice.code, notice.why)
        }
        Body::Downlink(downlink) => {
            let by = downlink.sent.as_ref().map_or_else(String::new, |s| format!(", by {} in {}", s.name, s.window));
            let mac: Vec<&str> = downlink.frame.iter().flat_map(|f| f.mac.iter().map(|c| c.name.as_str())).collect();
            let with = if mac.is_empty() { String::new() } else { format!(", with {}", mac.join(", ")) };
            format!("downlink {}{with}{by}", traffic::downlink_line(downlink))
        }
        Body::Uplink(uplink) => format!("uplink #{}", uplink.frame.counter),
        Body::Gateway(_) => String::new(),
    }
}
