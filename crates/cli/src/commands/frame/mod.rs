//! `heron frame show`.

pub(crate) mod args;

use std::io::Read as _;

use anyhow::{Context as _, Result, bail};
use api::calculator::frame::{FrameField, FrameQuestion, FrameReport};
use domain::Check;
use domain::calculator::frame;
use lorawan::dissect;

use crate::args::Global;
use crate::client::Client;
use crate::commands::frame::args::FrameArgs;
use crate::session;
use crate::show::{self, Out};

pub(crate) async fn run(global: &Global, out: &Out, args: FrameArgs) -> Result<()> {
    let device = args.device.clone();
    let mut question = question(args)?;
    // What cannot be read is said before anyone is asked.
    let (bytes, known) = question.check()?;
    if device.is_some() && frame::has_keys(&question) {
        bail!("--device tries the keys of a registered device: give no others beside it");
    }
    let signed_in = global.token.is_some() || session::load(global)?.is_some();
    let report = if frame::has_keys(&question) || !signed_in {
        if device.is_some() {
            bail!("--device asks the service for the keys: sign in first");
        }
        frame::report(&bytes, dissect::frame(&bytes, &known), None)
    } else {
        let client = Client::signed_in(global)?;
        if let Some(device) = device {
            question.device = Some(client.dev_eui(&device).await?.to_string());
        }
        client.post(&client.in_estate("frame").await?, &question).await?
    };
    if out.json { out.json(&report) } else { print(out, &report) }
}

fn question(args: FrameArgs) -> Result<FrameQuestion> {
    let frame = if args.frame == "-" {
        let mut text = String::new();
        std::io::stdin().take(1 << 16).read_to_string(&mut text).context("the frame cannot be read")?;
        text
    } else {
        args.frame
    };
    Ok(FrameQuestion {
        frame,
        device: None,
        region: args.region,
        counter: args.counter,
        last_counter: args.last_counter,
        app_key: args.app_key,
        nwk_key: args.nwk_key,
        dev_eui: args.dev_eui,
        join_eui: args.join_eui,
        dev_nonce: args.dev_nonce,
        nwk_s_key: args.nwk_s_key,
        f_nwk_s_int_key: args.f_nwk_s_int_key,
        s_nwk_s_int_key: args.s_nwk_s_int_key,
        nwk_s_enc_key: args.nwk_s_enc_key,
        app_s_key: args.app_s_key,
        conf_f_cnt: args.conf_f_cnt,
        data_rate: args.data_rate,
        channel: args.channel,
    })
}

fn print(out: &Out, report: &FrameReport) -> Result<()> {
    out.line(&report.summary)?;
    if let Some(device) = &report.device {
        out.line(format!("Compared with {} ({}).", device.name, device.dev_eui))?;
    }
    out.line("")?;
    let head = ["AT", "BYTES", "FIELD", "VALUE", "MEANING"];
    out.line(show::table(&head, report.fields.iter().map(|field| row(&report.bytes, field))))?;
    if let Some(stop) = &report.stopped {
        out.line(format!("\nFrom byte {} on it makes no sense: {}.", stop.at, stop.why))?;
    }
    if !report.verdicts.is_empty() {
        out.line("\nMIC")?;
    }
    for verdict in &report.verdicts {
        let agrees = if verdict.agrees { "agrees" } else { "does not agree" };
        out.line(format!("  {:<6}{agrees} with {}: {}", verdict.version, verdict.key, verdict.note))?;
        for counter in &verdict.counters {
            let agrees = if counter.agrees { "agrees" } else { "does not" };
            out.line(format!("        counter {} ({}): {agrees}", counter.counter, counter.origin))?;
        }
    }
    if let Some(payload) = &report.payload {
        out.line(format!("\nPayload in the clear: {}", show::pairs(payload)))?;
    }
    Ok(())
}

fn row(bytes: &str, field: &FrameField) -> Vec<String> {
    let sent = bytes.get(2 * field.at..2 * (field.at + field.len)).unwrap_or("");
    // A part of an encrypted field has no bytes of its own on air.
    let shown = if field.depth > 0 { field.clear.as_deref().unwrap_or(sent) } else { sent };
    let name = if field.depth > 0 { format!("· {}", field.name) } else { field.name.clone() };
    let clear = field.clear.as_deref().filter(|clear| field.depth == 0 && *clear != sent);
    let value = match clear {
        // Encrypted bytes say nothing; those behind them do.
        Some(clear) if field.value == sent => show::pairs(clear),
        _ if field.value == sent && field.len > 0 => show::pairs(sent),
        _ => field.value.clone(),
    };
    vec![field.at.to_string(), show::pairs(shown), name, value, field.note.clone().unwrap_or_default()]
}
