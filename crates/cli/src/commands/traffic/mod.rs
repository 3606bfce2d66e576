//! `heron traffic`.

pub(crate) mod args;

use std::time::Duration;

use anyhow::{Context as _, Result};
use api::Page;
use api::heard::{HeardBy, Radio};
use api::message::{Body, Downlink, DownlinkStage, Evidence, MacCommand, Message, Reading, Uplink};
use eventsource_stream::Eventsource as _;
use futures::StreamExt as _;

use crate::args::moment;
use crate::client::Client;
use crate::commands::traffic::args::{PastArgs, TrafficFollowArgs, TrafficVerb, WhichArgs};
use crate::save;
use crate::show::{self, Out};

/// Before a broken stream is tried again.
const AGAIN_AFTER: Duration = Duration::from_secs(2);

/// Query parameters.
type Query = Vec<(&'static str, String)>;

pub(crate) async fn run(client: &Client, out: &Out, verb: TrafficVerb) -> Result<()> {
    match verb {
        TrafficVerb::List(args) => {
            let mut query = which(client, &args.which).await?;
            query.extend(of_past(&args.past));
            query.push(("limit", args.limit.to_string()));
            let page: Page<Message> = client.get(&client.in_estate("traffic").await?, &query).await?;
            if page.items.is_empty() && !out.json {
                return out.line("Nothing like that was heard or sent.");
            }
            page.items.iter().rev().try_for_each(|message| tell(out, message, args.bytes))
        }
        TrafficVerb::Follow(args) => follow(client, out, &args).await,
        TrafficVerb::Export { which: args, past, output } => {
            let mut query = which(client, &args).await?;
            query.extend(of_past(&past));
            query.push(("form", save::text_form(output.as_deref())?.to_owned()));
            let response = client.stream(&client.in_estate("traffic/export").await?, &query, None).await?;
            save::whole(response, output.as_deref()).await
        }
    }
}

/// Which messages are wanted, of those that come and those of the past.
async fn which(client: &Client, args: &WhichArgs) -> Result<Query> {
    let mut query = vec![("type", args.kind.clone())];
    if let Some(device) = &args.device {
        query.push(("device", client.dev_eui(device).await?.to_string()));
    }
    query.extend(args.gateway.clone().map(|gateway| ("gateway", gateway)));
    Ok(query)
}

/// What the past is limited to.
fn of_past(args: &PastArgs) -> Query {
    let mut filters = Vec::new();
    filters.extend(args.fleet.clone().map(|fleet| ("fleet", fleet)));
    filters.extend(args.model.clone().map(|model| ("model", model)));
    filters.extend(args.tag.clone().map(|tag| ("tag", tag)));
    filters.extend(args.since.map(|at| ("since", moment::text(at.since()))));
    filters.extend(args.until.map(|at| ("until", moment::text(at.until()))));
    filters
}

/// The types to look back at. What gateways do is not in the history: who follows it sees it from now on.
fn kinds_of_past(kinds: &str) -> String {
    kinds.split(',').map(str::trim).filter(|kind| *kind != "gateway").collect::<Vec<_>>().join(",")
}

/// The last messages before those that come.
async fn before(client: &Client, args: &TrafficFollowArgs, mut query: Query) -> Result<Vec<Message>> {
    let kinds = kinds_of_past(&args.which.kind);
    if kinds.is_empty() || args.limit == 0 {
        return Ok(Vec::new());
    }
    query.retain(|(name, _)| *name != "type");
    query.extend([("type", kinds), ("limit", args.limit.to_string())]);
    query.extend(args.since.map(|at| ("since", moment::text(at.since()))));
    let page: Page<Message> = client.get(&client.in_estate("traffic").await?, &query).await?;
    Ok(page.items)
}

async fn follow(client: &Client, out: &Out, args: &TrafficFollowArgs) -> Result<()> {
    let query = which(client, &args.which).await?;
    let messages = before(client, args, query.clone()).await?;
    if !out.json {
        out.line(format!("Times are {}.", show::zone()))?;
    }
    let mut last = messages.first().map(|m| m.id.clone());
    messages.iter().rev().try_for_each(|message| tell(out, message, args.bytes))?;
    loop {
        match listen(client, out, &query, &mut last, args.bytes).await {
            Ok(()) => eprintln!("heron: the stream ended; trying again"),
            Err(error) if error.downcast_ref::<std::io::Error>().is_some() => return Err(error),
            // A refusal will not change by asking again.
            Err(error) if error.downcast_ref::<api::problem::Problem>().is_some() => return Err(error),
            Err(error) => eprintln!("heron: {error:#}; trying again"),
        }
        tokio::time::sleep(AGAIN_AFTER).await;
    }
}

/// Tells messages as they come, until the stream ends.
async fn listen(
    client: &Client,
    out: &Out,
    query: &[(&str, String)],
    last: &mut Option<String>,
    bytes: bool,
) -> Result<()> {
    let response = client.stream(&client.in_estate("live").await?, query, last.as_deref()).await?;
    let mut events = response.bytes_stream().eventsource();
    while let Some(event) = events.next().await {
        let event = event.context("the stream broke off")?;
        if event.event == "gap" {
            eprintln!("heron: {} messages were skipped, as they came faster than they could be shown", event.data);
            continue;
        }
        if event.data.is_empty() {
            continue;
        }
        let message: Message = serde_json::from_str(&event.data).context("a message cannot be read")?;
        *last = Some(message.id.clone());
        tell(out, &message, bytes)?;
    }
    Ok(())
}

fn tell(out: &Out, message: &Message, bytes: bool) -> Result<()> {
    if out.json {
        return out.json_line(message);
    }
    print(out, message)?;
    match message.body.phy_payload() {
        Some(frame) if bytes => out.line(format!("    frame: {frame}")),
        _ => Ok(()),
    }
}

pub(super) fn print(out: &Out, message: &Message) -> Result<()> {
    let who = message.device.as_ref().map_or("–", |d| d.name.as_str());
    let head = format!("{}  {:<9} {who:<12}", show::clock(message.time), message.body.kind());
    match &message.body {
        Body::Uplink(uplink) => print_uplink(out, &head, uplink),
        Body::Join(join) => {
            let how = join.rejoin_type.map_or_else(|| "joined".into(), |kind| format!("rejoined (type {kind})"));
            out.line(format!("{head} {how}: DevAddr {}, DevNonce {}", join.dev_addr, join.dev_nonce))?;
            out.line(format!("    {}  {}", radio(&join.radio), heard(&join.heard_by)))?;
            indented(out, "not answered", join.unanswered.as_deref())
        }
        Body::Refused(refused) => {
            out.line(format!("{head} {}", refused.refusal.why))?;
            out.line(format!("    {}  {}", radio(&refused.radio), heard(&refused.heard_by)))?;
            evidence(out, &refused.refusal.evidence)?;
            indented(out, "next", Some(&refused.refusal.next_step))
        }
        Body::Downlink(downlink) => print_downlink(out, &head, downlink),
        Body::Notice(notice) => {
            out.line(format!("{head} {}: {}", notice.code, notice.why))?;
            evidence(out, &notice.evidence)?;
            indented(out, "next", notice.next_step.as_deref())
        }
        Body::Gateway(_) => Ok(()),
    }
}

fn print_uplink(out: &Out, head: &str, uplink: &Uplink) -> Result<()> {
    let frame = &uplink.frame;
    let port = frame.port.map_or_else(|| "no port".into(), |p| format!("port {p}"));
    let earlier = |r: &Reading| match r.earlier.len() {
        0 => String::new(),
        n => format!(" (and {n} earlier)"),
    };
    let readings: Vec<_> = uplink.readings.iter().map(|(name, r)| format!("{name} {r}{}", earlier(r))).collect();
    let bytes = show::pairs(&frame.payload);
    out.line(format!("{head} #{} {port} [{bytes}]  {}", frame.counter, readings.join(", ")))?;
    out.line(format!("    {}  {}", radio(&uplink.radio), heard(&uplink.heard_by)))?;
    if let Some(rehearsed) = &uplink.rehearsed {
        out.line(format!("    REHEARSED by {}: nothing was received", rehearsed.by))?;
    }
    mac(out, &frame.mac)?;
    for warning in uplink.warnings.iter().chain(&uplink.decode_warnings) {
        indented(out, "warning", Some(warning))?;
    }
    indented(out, "not decoded", uplink.decode_error.as_deref())
}

fn print_downlink(out: &Out, head: &str, downlink: &Downlink) -> Result<()> {
    out.line(format!("{head} {}", downlink_line(downlink)))?;
    mac(out, downlink.frame.as_ref().map_or(&[], |frame| &frame.mac))?;
    let Some(sent) = &downlink.sent else { return Ok(()) };
    let why = sent.window_reason.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    out.line(format!("    {} by {} in {}, {} dBm{why}", radio(&sent.radio), sent.name, sent.window, sent.power_dbm))
}

fn indented(out: &Out, label: &str, text: Option<&str>) -> Result<()> {
    text.map_or(Ok(()), |text| out.line(format!("    {label}: {text}")))
}

fn mac(out: &Out, commands: &[MacCommand]) -> Result<()> {
    commands.iter().try_for_each(|command| out.line(format!("    {}: {}", command.name, command.words)))
}

pub(super) fn downlink_line(downlink: &Downlink) -> String {
    let stage = match downlink.stage {
        DownlinkStage::Sent => "sent",
        DownlinkStage::Acknowledged => "acknowledged by the device",
        DownlinkStage::Returned => "back in the outbox",
        DownlinkStage::Failed => "failed",
    };
    let what = match &downlink.frame {
        None => "join-accept".into(),
        Some(frame) => {
            let counter = frame.counter.map(|n| format!("#{n} ")).unwrap_or_default();
            match frame.port {
                Some(port) => format!("{counter}port {port} [{}]", show::pairs(&frame.payload)),
                None if downlink.acknowledges => format!("{counter}acknowledgement"),
                None => format!("{counter}without payload"),
            }
        }
    };
    let note = downlink.note.as_ref().map(|note| format!(": {note}")).unwrap_or_default();
    format!("{stage} {what}{note}")
}

fn radio(radio: &Radio) -> String {
    let rate = match (radio.spreading_factor, radio.bandwidth_khz) {
        (Some(sf), Some(khz)) => format!("SF{sf}/{khz} kHz"),
        _ => "FSK".into(),
    };
    let index = radio.data_rate.map(|n| format!("DR{n} ")).unwrap_or_default();
    format!("{index}{rate} {:.1} MHz {:.1} ms", radio.frequency_mhz, radio.airtime_ms)
}

pub(crate) fn heard(by: &[HeardBy]) -> String {
    let one = |h: &HeardBy| {
        let snr = h.snr_db.map(|snr| format!(", SNR {snr:.1} dB")).unwrap_or_default();
        format!("{} ({:.0} dBm{snr})", h.name, h.rssi_dbm)
    };
    format!("heard by {}", by.iter().map(one).collect::<Vec<_>>().join(", "))
}

/// The values behind a sentence, on a line of their own.
fn evidence(out: &Out, values: &[Evidence]) -> Result<()> {
    if values.is_empty() {
        return Ok(());
    }
    let all: Vec<String> = values.iter().map(|value| format!("{} {}", value.name, value.value)).collect();
    out.line(format!("    {}", all.join(" · ")))
}
