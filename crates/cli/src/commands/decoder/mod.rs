//! `heron decoder`, as far as it asks the service: drafts tried beside the current decoder, editions, and stored
//! uplinks decoded again.

pub(crate) mod args;
mod editions;
mod failures;
mod jobs;
pub(crate) mod payload;
mod restore;

use std::io::IsTerminal as _;
use std::time::Duration;

use anyhow::{Result, bail};
use api::job::{Job, JobState, Redecode};
use api::model::draft::{Draft, DraftPayload, Outcome, Tried, TriedUplink, UplinkChange};
use api::model::edition::{Comparison, Edition, LineChange};
use api::model::{Model, ModelVersion, PutModel};
use domain::model::draft;

use crate::args::moment::Moment;
use crate::client::Client;
use crate::commands::Context;
use crate::commands::decoder::args::{
    DecoderTryArgs, DecoderVerb, KeepTestArgs, LocalDecoderVerb, RedecodeArgs, RemoteDecoderVerb,
};
use crate::commands::decoder::payload::source_of;
use crate::show::{self, Out};

/// Stored uplinks tried if nothing else is said.
const LAST: u32 = 50;
/// How often a job is asked about.
const ASK_EVERY: Duration = Duration::from_millis(300);

/// Carries a verb out. Some need no service.
pub(crate) async fn run(context: &Context, verb: DecoderVerb) -> Result<()> {
    match verb {
        DecoderVerb::Local(verb) => local(context, verb),
        DecoderVerb::Remote(verb) => remote(&context.client()?, &context.out, verb, context.global.yes).await,
    }
}

fn local(context: &Context, verb: LocalDecoderVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        LocalDecoderVerb::Read(args) => payload::read(out, &args),
        LocalDecoderVerb::Write(args) => payload::write(out, &args),
    }
}

async fn remote(client: &Client, out: &Out, verb: RemoteDecoderVerb, yes: bool) -> Result<()> {
    match verb {
        RemoteDecoderVerb::Try(args) => try_draft(client, out, args).await,
        RemoteDecoderVerb::KeepTest(args) => keep_test(client, out, args).await,
        RemoteDecoderVerb::Editions { model } => editions::run(client, out, model).await,
        RemoteDecoderVerb::Compare { model, from, to } => compare(client, out, &model, from, to).await,
        RemoteDecoderVerb::Restore { model, number } => restore::run(client, out, model, number, yes).await,
        RemoteDecoderVerb::Redecode(args) => redecode(client, out, args).await,
        RemoteDecoderVerb::Jobs => jobs::run(client, out).await,
        RemoteDecoderVerb::Stop { job } => {
            client.delete(&client.in_estate(&format!("jobs/{job}")).await?).await?;
            out.line("It is stopped; nothing has changed.")
        }
        RemoteDecoderVerb::Failures => failures::run(client, out).await,
    }
}

async fn try_draft(client: &Client, out: &Out, args: DecoderTryArgs) -> Result<()> {
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
    let path = client.in_estate(&format!("models/{}/try", args.model)).await?;
    let tried: Tried = client.post(&path, &draft).await?;
    if out.json {
        out.json(&tried)?;
    } else {
        tell(out, &tried, source.is_some())?;
    }
    if let Some(problem) = &tried.problem {
        bail!("the draft does not load: {}", problem.message);
    }
    let (Some((source, kind)), true) = (source, args.put) else { return Ok(()) };
    let broken = draft::counts(&tried).get(&UplinkChange::Broken).copied().unwrap_or(0);
    if broken > 0 {
        bail!("{broken} uplinks could be decoded before and fail now; the draft was not saved");
    }
    if let Some(flaw) = &tried.flaw {
        bail!("{flaw}; the draft was not saved");
    }
    let mut about = model_of(client, &args.model).await?.about;
    match version_of(&mut about, args.version.as_deref())? {
        None => (about.decoder, about.decoder_kind) = (Some(source), kind),
        Some(version) => (version.decoder, version.decoder_kind) = (source, kind),
    }
    let note = args.note.unwrap_or_default();
    let _: Model = client.put_noted(&client.in_estate(&format!("models/{}", args.model)).await?, &note, &about).await?;
    out.line(format!(
        "It is in use. To decode stored uplinks again: `heron decoder redecode {} --since 30d`.",
        args.model
    ))
}

async fn model_of(client: &Client, slug: &str) -> Result<Model> {
    client.get(&client.in_estate(&format!("models/{slug}")).await?, &[]).await
}

/// What a model has of its own for some versions, as they are told in words; none if it is about all others.
fn version_of<'a>(about: &'a mut PutModel, words: Option<&str>) -> Result<Option<&'a mut ModelVersion>> {
    let Some(words) = words else { return Ok(None) };
    match about.versions.iter_mut().find(|version| version.label() == words) {
        Some(version) => Ok(Some(version)),
        None => bail!("the model has no decoder of its own for {words:?}"),
    }
}

async fn keep_test(client: &Client, out: &Out, args: KeepTestArgs) -> Result<()> {
    let draft = Draft {
        version: args.version.clone(),
        payloads: args.payload.into_iter().map(|bytes| DraftPayload { port: args.port, bytes }).collect(),
        messages: args.message.into_iter().collect(),
        ..Draft::default()
    };
    let tried: Tried = client.post(&client.in_estate(&format!("models/{}/try", args.model)).await?, &draft).await?;
    let Some(uplink) = tried.uplinks.first() else { bail!("there is nothing to keep") };
    let test = draft::as_test(&uplink.after, &args.name, uplink.port, &uplink.payload);
    let mut about = model_of(client, &args.model).await?.about;
    let tests = match version_of(&mut about, args.version.as_deref())? {
        Some(version) => &mut version.tests,
        None => &mut about.tests,
    };
    tests.retain(|other| other.name != test.name);
    tests.push(test.clone());
    let note = format!("test {:?} kept", args.name);
    let _: Model = client.put_noted(&client.in_estate(&format!("models/{}", args.model)).await?, &note, &about).await?;
    if out.json {
        return out.json(&test);
    }
    let expected: Vec<String> = test.readings.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let expected = if test.fails { "an error".into() } else { expected.join(", ") };
    out.line(format!("Kept: port {} [{}] must give {expected}.", test.port, show::pairs(&test.bytes)))
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

async fn compare(client: &Client, out: &Out, model: &str, from: Option<u32>, to: Option<u32>) -> Result<()> {
    let base = client.in_estate(&format!("models/{model}")).await?;
    let to = match to {
        Some(to) => to,
        None => {
            let page: api::Page<Edition> = client.get(&format!("{base}/editions"), &[("limit", "1".into())]).await?;
            let Some(last) = page.items.first() else { bail!("{model} has not been saved since editions are kept") };
            last.number
        }
    };
    let from = from.unwrap_or(to.saturating_sub(1));
    let query = [("from", from.to_string()), ("to", to.to_string())];
    let comparison: Comparison = client.get(&format!("{base}/comparison"), &query).await?;
    if out.json {
        return out.json(&comparison);
    }
    if comparison.parts.is_empty() {
        return out.line(format!("Editions {from} and {to} are the same."));
    }
    for part in &comparison.parts {
        out.line(format!("{} of edition {from} and of edition {to}:", part.field))?;
        for line in &part.lines {
            let number = line.new.or(line.old).map_or_else(String::new, |n| n.to_string());
            match line.change {
                LineChange::Stays => out.line(format!("{number:>5}   {}", line.text))?,
                LineChange::Added => out.line(format!("{number:>5} + {}", line.text))?,
                LineChange::Removed => out.line(format!("{number:>5} - {}", line.text))?,
                LineChange::Skipped => out.line("    …")?,
            }
        }
    }
    Ok(())
}

async fn redecode(client: &Client, out: &Out, args: RedecodeArgs) -> Result<()> {
    let device = match &args.device {
        Some(device) => Some(client.dev_eui(device).await?.to_string()),
        None => None,
    };
    let (from, until) = (args.since.since(), args.until.map(Moment::until));
    let wanted = Redecode { model: args.model, device, from, until };
    let path = client.in_estate("jobs").await?;
    let mut job: Job = client.post(&path, &wanted).await?;
    while !args.no_wait && job.state == JobState::Running {
        tokio::time::sleep(ASK_EVERY).await;
        job = client.get(&format!("{path}/{}", job.id), &[]).await?;
        if !out.json && std::io::stderr().is_terminal() {
            eprint!("\r{} of {} uplinks ", job.done, job.total);
        }
    }
    if !out.json && !args.no_wait && std::io::stderr().is_terminal() {
        eprint!("\r\u{1b}[K");
    }
    if out.json {
        out.json(&job)?;
    } else {
        let note = if job.note.is_empty() { "it is under way: `heron decoder jobs`" } else { &job.note };
        out.line(format!("{} {}: {note}", job.id, job.state.name()))?;
    }
    if matches!(job.state, JobState::Failed | JobState::Cancelled) {
        bail!("the job is {}", job.state.name());
    }
    Ok(())
}
