//! Running decoders: uplinks in, uplinks with readings out.
//!
//! Scripts run in processes of their own ([`workers`]); field tables, the low-power format and text run here, since
//! their cost is known. A call blocks until the script has ended, so it must not run on an async thread.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use api::device::outbox::Values;
use api::message::{Body, Message, Reading};
use api::reading::{ReadingKind, ReadingRule};
use chrono::{TimeDelta, Utc};
use domain::reading::{rule, timing};
use payload::{Decoded, Encoded, Interpreter};
use store::{DecodeFailure, Decoding, EstateId, Store, StoreError, StoredMessage, StoredReading, WrittenMessage};
use tokio::sync::{Semaphore, mpsc};
use tokio_util::sync::CancellationToken;

use crate::decoding::fair_queue::Fair;
use crate::decoding::ready::{Decoder, Ready};
use crate::decoding::totals::Totals;
use crate::decoding::workers;
use crate::decoding::workers::{Failure, Lane, Payload, Quick, ScriptRef};
use crate::pipeline::ahead::Ahead;
use crate::pipeline::directory::Directory;

/// Uplinks decoded at the same time outside commits. There is one worker for them.
const AT_ONCE: usize = 1;
/// Uplinks of one fleet that wait in memory; the others stay marked in the database.
const FLEET_QUEUE: usize = 4096;
/// Undecoded uplinks read from the database at a time.
const LEFT_OVER: u32 = 500;
/// How often the database is asked for such uplinks.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Younger ones may still be on their way through the queue, or their readings to the database.
const UNDER_WAY: TimeDelta = TimeDelta::seconds(5);

/// A message that is published after it was stored.
pub(crate) struct DecodeJob {
    pub written: Arc<WrittenMessage>,
    pub work: Work,
}

/// What is to be done before it is published.
pub(crate) enum Work {
    /// It is decoded.
    Decode {
        payload: Payload,
        /// Where a result may be that came too late for the commit.
        ahead: Option<Arc<Ahead>>,
    },
    /// Nothing: it only waits for uplinks of its device before it.
    Wait,
}

/// An uplink with its readings, or a message that has waited for those before it, for the committer.
pub(crate) struct ReadUplink {
    pub stored: StoredMessage,
    pub found: Option<Found>,
}

/// Uplinks by estate and fleet.
type Lines = Fair<(EstateId, Option<String>), DecodeJob>;

/// Decodes until the service stops, first what the service before has left. Uplinks already taken are finished; the others
/// stay marked. Fleets take turns: a script that uses all of its time delays another fleet by one call.
pub(crate) async fn run(
    store: Store,
    directory: Arc<Directory>,
    (left, mut queue): (Vec<WrittenMessage>, mpsc::Receiver<DecodeJob>),
    done: mpsc::Sender<ReadUplink>,
    stopping: CancellationToken,
) {
    let permits = Arc::new(Semaphore::new(AT_ONCE));
    let mut look = tokio::time::interval(LOOK_EVERY);
    let mut lines = Lines::new(FLEET_QUEUE);
    let line_up = |lines: &mut Lines, job: DecodeJob| {
        let key = (job.written.estate_id, job.written.message.fleet.clone());
        // An uplink without room is marked in the database.
        let _ = lines.put(key, job);
    };
    // First: later uplinks of the same devices are published after these.
    left.into_iter().for_each(|written| line_up(&mut lines, DecodeJob::stored(written)));
    loop {
        tokio::select! {
            biased;
            () = stopping.cancelled() => break,
            job = queue.recv() => match job {
                Some(job) => line_up(&mut lines, job),
                None => break,
            },
            permit = Arc::clone(&permits).acquire_owned(), if !lines.is_empty() => {
                if let (Ok(permit), Some(job)) = (permit, lines.take()) {
                    start(&directory, permit, &done, job);
                }
            }
            // Only when nothing else is to do.
            _ = look.tick(), if lines.is_empty() => match store.undecoded(LEFT_OVER).await {
                Ok(left) => {
                    let settled = Utc::now() - UNDER_WAY;
                    let left = left.into_iter().filter(|written| written.message.time < settled);
                    left.for_each(|written| line_up(&mut lines, DecodeJob::stored(written)));
                }
                Err(error) => tracing::warn!("uplinks left undecoded could not be read: {error}"),
            }
        }
    }
    // The holder of a permit still has a result to hand over.
    let _ = permits.acquire_many(AT_ONCE as u32).await;
}

/// Uplinks that were left undecoded when the service ended, oldest first. Their devices are noted.
pub(crate) async fn left_behind(store: &Store, directory: &Directory) -> Vec<WrittenMessage> {
    let left = match store.undecoded(FLEET_QUEUE as u32).await {
        Ok(left) => left,
        Err(error) => {
            // They are asked for again, one page after another.
            tracing::warn!("uplinks left undecoded could not be read: {error}");
            Vec::new()
        }
    };
    for device in left.iter().filter_map(|written| written.message.device.as_ref()) {
        directory.outstanding.add(device.eui);
    }
    left
}

impl DecodeJob {
    /// One that was left undecoded.
    fn stored(written: WrittenMessage) -> Self {
        let work = match &written.message.body {
            Body::Uplink(_) => Work::Decode { payload: payload_of(&written.message).unwrap_or_default(), ahead: None },
            _ => Work::Wait,
        };
        Self { written: Arc::new(written), work }
    }

    /// One that has nothing to be decoded, or is decoded already.
    pub(crate) fn waiting(written: Arc<WrittenMessage>) -> Self {
        Self { written, work: Work::Wait }
    }

    /// Decodes it with the current decoder.
    pub(crate) fn read(self, directory: &Directory) -> Result<ReadUplink, StoreError> {
        let Self { written, work } = self;
        let Work::Decode { payload, ahead } = work else {
            let stored = StoredMessage { written, decoding: Decoding::Done };
            return Ok(ReadUplink { stored, found: None });
        };
        let WrittenMessage { estate_id, mut message, .. } = Arc::unwrap_or_clone(written);
        let found = match decoder_of(directory, estate_id, &message) {
            Some(decoder) => {
                let late = ahead.and_then(|ahead| ahead.late());
                let called = late.unwrap_or_else(|| call(&decoder, payload, Lane::Later));
                write_down(&directory.totals, &decoder, &mut message, called)
            }
            None => {
                if let Body::Uplink(uplink) = &mut message.body {
                    let gone = "the model's decoder was taken away before this uplink was decoded";
                    uplink.decode_warnings.push(gone.into());
                }
                Found::default()
            }
        };
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        Ok(ReadUplink { stored: StoredMessage { written, decoding: Decoding::Done }, found: Some(found) })
    }
}

fn start(
    directory: &Arc<Directory>,
    permit: tokio::sync::OwnedSemaphorePermit,
    done: &mpsc::Sender<ReadUplink>,
    job: DecodeJob,
) {
    let (directory, done) = (Arc::clone(directory), done.clone());
    tokio::spawn(async move {
        match tokio::task::spawn_blocking(move || job.read(&directory)).await {
            Ok(Ok(read)) => drop(done.send(read).await),
            Ok(Err(error)) => tracing::error!("a decoded uplink cannot be written down: {error}"),
            Err(_) => {}
        }
        drop(permit);
    });
}

/// The result of decoding an uplink, to be stored.
#[derive(Default)]
pub(crate) struct Found {
    pub readings: Vec<StoredReading>,
    pub failure: Option<DecodeFailure>,
}

/// The current decoder of a message's device.
pub(crate) fn decoder_of(directory: &Directory, estate_id: EstateId, message: &Message) -> Option<Arc<Decoder>> {
    let device = message.device.as_ref()?;
    directory.decoder(estate_id, device.model.as_deref()?, device.eui)
}

/// The payload in a message, for a decoder.
///
/// # Errors
/// In words, if it is no uplink.
pub(crate) fn payload_of(message: &Message) -> Result<Payload, String> {
    let Body::Uplink(heard) = &message.body else { return Err("there is no payload".into()) };
    let bytes = hex::decode(&heard.frame.payload).map_err(|why| why.to_string())?;
    Ok(Payload { bytes, port: heard.frame.port.unwrap_or(0), time_ms: message.time.timestamp_millis() })
}

/// Calls a decoder. Blocks while it waits for a worker.
///
/// # Errors
/// In words, why there are no readings.
pub(crate) fn call(decoder: &Decoder, payload: Payload, lane: Lane) -> Result<Decoded, String> {
    let ready = decoder.ready.as_ref().map_err(Clone::clone)?;
    let (port, len) = (payload.port, payload.bytes.len());
    let (decoded, took) = ready.decode(payload, lane);
    decoder.pace.took(took);
    decoded.map_err(|failure| told(port, len, &failure))
}

fn told(port: u8, len: usize, failure: &Failure) -> String {
    format!("port {port}, {len} bytes: {}", failure.message)
}

/// An uplink's payload, and the decoder of its device.
#[derive(Clone)]
pub(crate) struct ToRead {
    pub decoder: Arc<Decoder>,
    pub payload: Payload,
}

impl ToRead {
    /// Decodes it in this process, if its decoder is not a script; its time is then bounded by the payload's length.
    pub(crate) fn read_here(&self) -> Option<Result<Decoded, String>> {
        match &self.decoder.ready {
            Ok(Ready::Script(_)) => None,
            Ok(Ready::Here(_)) | Err(_) => Some(call(&self.decoder, self.payload.clone(), Lane::Later)),
        }
    }

    /// Its script, if that is known to be quick.
    pub(crate) fn quick_script(&self) -> Option<&ScriptRef> {
        match &self.decoder.ready {
            Ok(Ready::Script(script)) if self.decoder.pace.quick() => Some(script),
            _ => None,
        }
    }
}

/// Decodes uplinks by scripts that are known to be quick, as far as `time` allows, and passes on each result. Blocks.
pub(crate) fn read_quickly(uplinks: &[ToRead], time: Duration, mut done: impl FnMut(usize, Result<Decoded, String>)) {
    let (calls, of_calls): (Vec<(ScriptRef, Payload)>, Vec<usize>) = uplinks
        .iter()
        .enumerate()
        .filter_map(|(at, uplink)| Some(((uplink.quick_script()?.clone(), uplink.payload.clone()), at)))
        .unzip();
    if calls.is_empty() {
        return;
    }
    let slow = |nth: usize| uplinks[of_calls[nth]].decoder.pace.much_too_slow();
    workers::decode_quickly(&calls, time, slow, |nth, Quick { result, took }| {
        let uplink = &uplinks[of_calls[nth]];
        uplink.decoder.pace.took(took);
        let (port, len) = (uplink.payload.port, uplink.payload.bytes.len());
        done(of_calls[nth], result.map_err(|failure| told(port, len, &failure)));
    });
}

/// Calls the decoder, for the workbench: `trace` also looks for the bytes of each reading.
///
/// # Errors
/// Why there are no readings.
pub(crate) fn try_out(
    decoder: &Ready,
    payload: &Payload,
    trace: bool,
) -> Result<(Decoded, BTreeMap<String, Vec<usize>>), Failure> {
    let decoded = decoder.decode(payload.clone(), Lane::People).0?;
    let found = match decoder {
        Ready::Script(script) if trace => workers::trace(script, payload.clone(), Lane::People),
        Ready::Here(decoder) if trace => {
            let (bytes, of) = (&payload.bytes, (payload.port, payload.time_ms));
            payload::trace::sources(decoder, &mut Interpreter::new(), (bytes, of.0, of.1), &decoded, || false)
        }
        Ready::Script(_) | Ready::Here(_) => BTreeMap::new(),
    };
    Ok((decoded, found))
}

/// Makes a downlink of named values. Blocks while it waits for a worker.
///
/// # Errors
/// In words, why there is none.
pub(crate) fn encode(decoder: &Decoder, values: &Values) -> Result<Encoded, String> {
    match decoder.ready.as_ref().map_err(Clone::clone)? {
        Ready::Script(script) => workers::encode(script, values).map_err(|failure| failure.message),
        Ready::Here(ready) => {
            ready.encode(&mut Interpreter::new(), values, || false).map_err(|error| error.to_string())
        }
    }
}

/// Reads a downlink as the device will, if the decoder can. Blocks while it waits for a worker.
pub(crate) fn read_downlink(decoder: &Decoder, port: u8, payload: &[u8]) -> Option<Result<Values, String>> {
    let Ok(Ready::Script(script)) = &decoder.ready else { return None };
    if !script.about().reads_downlinks {
        return None;
    }
    let read = workers::read_downlink(script, port, payload);
    let values = read.map(|decoded| {
        let value = |reading: payload::Reading| {
            let value = match reading.value {
                // As people write it: 40, not 40.0.
                payload::ReadingValue::Number(n) if n.fract() == 0.0 && n.abs() < 1e15 => (n as i64).into(),
                other => serde_json::to_value(rule::wire_value(other)).unwrap_or_default(),
            };
            (reading.of.name.clone(), value)
        };
        decoded.readings.into_iter().map(value).collect()
    });
    Some(values.map_err(|failure| failure.message))
}

/// A decoder's values as the model means them, by name; running totals stand as their devices count.
pub(crate) fn meant(
    rules: &BTreeMap<String, ReadingRule>,
    decoded: &Decoded,
    warnings: &mut Vec<String>,
) -> BTreeMap<String, Reading> {
    let plain = ReadingRule::default();
    let readings = decoded.readings.iter();
    readings
        .map(|found| {
            (found.of.name.clone(), rule::apply(rules.get(found.name()).unwrap_or(&plain), found, None, warnings))
        })
        .collect()
}

/// Removes from an uplink what a decoder has put into it.
pub(crate) fn undo(message: &mut Message) {
    if let Body::Uplink(uplink) = &mut message.body {
        uplink.readings.clear();
        uplink.decode_warnings.clear();
        uplink.decode_error = None;
    }
}

/// Puts a decoder's result into its uplink, and returns what has to be stored.
pub(crate) fn write_down(
    totals: &Totals,
    decoder: &Decoder,
    message: &mut Message,
    called: Result<Decoded, String>,
) -> Found {
    let (Body::Uplink(uplink), Some(device)) = (&mut message.body, &message.device) else { return Found::default() };
    let decoded = match called {
        Ok(decoded) => decoded,
        Err(why) => {
            uplink.decode_error = Some(why.clone());
            let failure = DecodeFailure {
                dev_eui: device.eui,
                model: device.model.clone().unwrap_or_default(),
                message_id: message.id.clone(),
                at: message.time,
                why,
            };
            return Found { failure: Some(failure), ..Found::default() };
        }
    };
    let mut readings = Vec::with_capacity(decoded.readings.len());
    let plain = ReadingRule::default();
    for found in &decoded.readings {
        let name = &found.of.name;
        let Some(time) = timing::measured_at(found, message.time, &mut uplink.decode_warnings) else { continue };
        let rule = decoder.rules.get(name).unwrap_or(&plain);
        let totals = (rule.kind == Some(ReadingKind::Total)).then_some(totals);
        let mut counted = totals.and_then(|totals| totals.before(device.eui, name, time));
        let reading = rule::apply(rule, found, totals.map(|_| &mut counted), &mut uplink.decode_warnings);
        if let (Some(totals), Some(counted)) = (totals, counted) {
            totals.put(device.eui, name, time, counted);
        }
        readings.push(StoredReading {
            dev_eui: device.eui,
            name: name.clone(),
            reading: reading.clone(),
            time,
            counted,
        });
        timing::put(&mut uplink.readings, name, reading);
    }
    uplink.decode_warnings.extend(decoded.warnings);
    Found { readings, failure: None }
}
