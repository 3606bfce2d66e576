//! `heron decoder`, as far as it asks the service: drafts tried beside the current decoder, editions, and stored
//! uplinks decoded again.

pub(crate) mod args;
mod editions;
mod failures;
mod jobs;
pub(crate) mod payload;
mod tests;

use anyhow::{Result, bail};
use api::model::draft::{Draft, DraftPayload, Outcome, Tried, TriedUplink, UplinkChange};
use api::model::{Model, ModelVersion, PutModel};
use domain::model::draft;

use crate::client::Client;
use crate::commands::Context;
use crate::commands::decoder::args::{DecoderTryArgs, DecoderVerb};
use crate::commands::decoder::payload::source_of;
use crate::show::{self, Out};

/// Stored uplinks tried if nothing else is said.
const LAST: u32 = 50;

/// Carries a verb out. A decoder in a file is tried without a service.
pub(crate) async fn run(context: &Context, verb: DecoderVerb) -> Result<()> {
    let (out, yes) = (&context.out, context.global.yes);
    match verb {
        DecoderVerb::Try(args) => match &args.model {
            Some(model) => try_draft(&context.client()?, out, model.clone(), *args).await,
            None => payload::try_here(out, &args),
        },
        DecoderVerb::Test { verb } => tests::run(&context.client()?, out, verb, yes).await,
        DecoderVerb::Edition { verb } => editions::run(&context.client()?, out, verb, yes).await,
        DecoderVerb::Redecode(args) => jobs::redecode(&context.client()?, out, args).await,
        DecoderVerb::Job { verb } => jobs::run(&context.client()?, out, verb).await,
        DecoderVerb::Failures => failures::run(&context.client()?, out).await,
    }
}

async fn try_draft(client: &Client, out: &Out, model: String, args: DecoderTryArgs) -> Result<()> {
    let source = args.file.as_deref().map(source_of).transpose()?;
    let device = match &args.device {
        Some(device) => Some(client.dev_eui(device).await?.to_string()),
        None => None,
    };
    let something = args.payload.is_some() || !args.messages.is_empty();
    let (decoder, decoder_kind) = source.clone().unzip();
    let draft = Draft {
        decoder,
        decoder_kind: decoder_kind.unwrap_or_default(),
        version: args.version.clone(),
        payloads: args.payload.into_iter().map(|bytes| DraftPayload { port: args.port, bytes }).collect(),
        last: args.limit.unwrap_or(if something { 0 } else { LAST }),
        device,
        messages: args.messages,
        ..Draft::default()
    };
    let path = client.one("models", &model).await?;
    let tried: Tried = client.post(&format!("{path}/try"), &draft).await?;
    if out.json {
        out.json(&tried)?;
    } else {
        tell(out, &tried, source.is_some())?;
    }
    if let Some(problem) = &tried.problem {
        bail!("the draft does not load: {}", problem.message);
    }
    let (Some((source, kind)), true) = (source, args.save) else { return Ok(()) };
    let broken = draft::counts(&tried).get(&UplinkChange::Broken).copied().unwrap_or(0);
    if broken > 0 {
        bail!("{broken} uplinks could be decoded before and fail now; the draft was not saved");
    }
    if let Some(flaw) = &tried.flaw {
        bail!("{flaw}; the draft was not saved");
    }
    let mut about = client.get::<Model>(&path, &[]).await?.about;
    match version_of(&mut about, args.version.as_deref())? {
        None => (about.decoder, about.decoder_kind) = (Some(source), kind),
        Some(version) => (version.decoder, version.decoder_kind) = (source, kind),
    }
    let note = args.note.unwrap_or_default();
    let _: Model = client.put_noted(&path, &note, &about).await?;
    match out.json {
        true => Ok(()),
        false => out.line(format!(
            "It is in use. To decode stored uplinks again: `heron decoder redecode {model} --since 30d`."
        )),
    }
}

/// What a model has of its own for some versions, as they are told in words; none if it is about all others.
fn version_of<'a>(about: &'a mut PutModel, words: Option<&str>) -> Result<Option<&'a mut ModelVersion>> {
    let Some(words) = words else { return Ok(None) };
    match about.versions.iter_mut().find(|version| version.label() == words) {
        Some(version) => Ok(Some(version)),
        None => bail!("the model has no decoder of its own for {words:?}"),
    }
}

fn tell(out: &Out, tried: &Tried, drafted: bool) -> Result<()> {
    tried.notes.iter().try_for_each(|note| out.line(format!("note: {note}")))?;
    if let Some(flaw) = &tried.flaw {
        out.line(format!("it would not be used: {flaw}"))?;
    }
    if let [one] = tried.uplinks.as_slice() {
        return tell_one(out, one, drafted);
    }
    let mut seen: Vec<(UplinkChange, String)> = Vec::new();
    for uplink in &tried.uplinks {
        let Some(problem) = &uplink.after.problem else { continue };
        // One of each is enough to see what is the matter.
        let key = (uplink.change, problem.message.clone());
        if seen.contains(&key) {
            continue;
        }
        let whose = uplink.device.as_ref().map_or("given", |device| device.name.as_str());
        let TriedUplink { message: name, .. } = uplink;
        let name = name.as_deref().unwrap_or("");
        out.line(format!(
            "{}: {whose} [{}] {}  {name}",
            uplink.change.label(),
            show::pairs(&uplink.payload),
            problem.message
        ))?;
        seen.push(key);
    }
    let counts: Vec<String> =
        draft::counts(tried).iter().map(|(change, n)| format!("{n} {}", change.label())).collect();
    out.line(format!("{} uplinks: {}", tried.uplinks.len(), counts.join(", ")))?;
    if tried.left_out > 0 {
        out.line(format!("{} more were not tried, since the decoders took too long", tried.left_out))?;
    }
    let rows = tried.readings.iter().map(|r| {
        let n = |n: usize| if n == 0 { "–".into() } else { n.to_string() };
        vec![r.name.clone(), n(r.appears), n(r.vanishes), n(r.changes), n(r.same)]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    match rows.is_empty() {
        true => Ok(()),
        false => out.line(show::table(&["READING", "APPEARS", "VANISHES", "CHANGES", "SAME"], rows.into_iter())),
    }
}

fn tell_one(out: &Out, uplink: &TriedUplink, drafted: bool) -> Result<()> {
    let whose = uplink.device.as_ref().map_or_else(String::new, |device| format!("{}, ", device.name));
    out.line(format!("{whose}port {} [{}]: {}", uplink.port, show::pairs(&uplink.payload), uplink.change.label()))?;
    let nothing = Outcome::default();
    let before = uplink.before.as_ref().unwrap_or(&nothing);
    let draft = Some(&uplink.after).filter(|_| drafted);
    for (which, outcome) in [("current", uplink.before.as_ref()), ("draft", draft)] {
        let Some(outcome) = outcome else { continue };
        if let Some(problem) = &outcome.problem {
            out.line(format!("{which}: {}", problem.message))?;
        }
        outcome.warnings.iter().try_for_each(|warning| out.line(format!("{which}, warning: {warning}")))?;
    }
    let mut names: Vec<&String> = before.readings.keys().chain(uplink.after.readings.keys()).collect();
    names.sort();
    names.dedup();
    if names.is_empty() {
        return Ok(());
    }
    let rows = names.into_iter().map(|name| {
        let shown = |outcome: &Outcome| outcome.readings.get(name).map_or_else(|| "–".into(), ToString::to_string);
        let places = match uplink.after.readings.get(name).and_then(|reading| reading.bytes) {
            Some([from, to]) => (from..to).map(usize::from).collect(),
            None => uplink.after.tried_bytes.get(name).cloned().unwrap_or_default(),
        };
        let bytes: Vec<String> = places.iter().map(ToString::to_string).collect();
        let all =
            [Some(name.clone()), Some(shown(before)), drafted.then(|| shown(&uplink.after)), Some(bytes.join(" "))];
        all.into_iter().flatten().collect()
    });
    let head: &[&str] =
        if drafted { &["READING", "IN FORCE", "DRAFT", "BYTES"] } else { &["READING", "IN FORCE", "BYTES"] };
    out.line(show::table(head, rows))
}
