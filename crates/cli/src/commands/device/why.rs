//! `heron device why`: what stands out about a device, and what happened to it.

use anyhow::Result;
use api::device::join::{JoinCheck, Verdict};
use api::diagnosis::device::{DeviceWhy, Weight};
use api::heard::HeardBy;
use api::message::{Body, Message};

use crate::client::Client;
use crate::commands::traffic;
use crate::show::{self, Out};
use crate::terminal;

pub(super) async fn run(client: &Client, out: &Out, device: &str, limit: u32) -> Result<()> {
    let eui = client.dev_eui(device).await?;
    let path = client.in_estate(&format!("devices/{eui}/why")).await?;
    let why: DeviceWhy = client.get(&path, &[("limit", limit.to_string())]).await?;
    if out.json {
        return out.json(&why);
    }
    for finding in &why.findings {
        let mark = match finding.weight {
            Weight::Trouble => terminal::sign("!!"),
            Weight::Attention => terminal::sign("! "),
            Weight::Fine => "  ".into(),
        };
        out.line(format!("{mark} {:<10} {}", finding.about, finding.what))?;
        if let Some(step) = &finding.next_step {
            out.line(format!("   {:<10} Next: {step}", ""))?;
        }
    }
    if !why.conditions.is_empty() {
        out.line("\nBefore it can be heard, in this order:")?;
    }
    for (n, condition) in why.conditions.iter().enumerate() {
        out.line(format!("{} {}. {}: {}", mark(condition.verdict), n + 1, condition.what, condition.known))?;
    }
    if why.timeline.is_empty() {
        return out.line("\nNothing has happened to it yet.");
    }
    out.line("\nWhat happened, newest first:")?;
    for message in &why.timeline {
        out.line(format!("{:<12} {}", show::ago(Some(message.time)), event(message)))?;
        let (checks, heard_by): (&[JoinCheck], &[HeardBy]) = match &message.body {
            Body::Join(join) => (&join.checks, &join.heard_by),
            Body::Refused(refused) => (&refused.checks, &refused.heard_by),
            _ => continue,
        };
        if checks.is_empty() {
            continue;
        }
        out.line(format!("{:<12}   {}", "", traffic::heard(heard_by)))?;
        let signs: String = checks.iter().map(|check| check.verdict.sign()).collect();
        let passed = checks.iter().filter(|check| check.verdict == Verdict::Passed).count();
        out.line(format!("{:<12}   {signs}  {passed} of {} checks passed", "", checks.len()))?;
        for check in checks.iter().filter(|check| matches!(check.verdict, Verdict::Failed | Verdict::Doubtful)) {
            let found = check.found.as_ref().map_or_else(String::new, |found| format!(": {found}"));
            out.line(format!("{:<12}   {} {}{found}", "", check.verdict.sign(), check.what))?;
        }
    }
    Ok(())
}

/// A sign for what is known of a condition; most that cannot be seen from here are open.
fn mark(verdict: Verdict) -> char {
    if verdict == Verdict::NotReached { '○' } else { verdict.sign() }
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
