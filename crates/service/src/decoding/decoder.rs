//! Running decoders: uplinks in, uplinks with readings out.
//!
//! Scripts run in processes of their own ([`workers`]); field tables, the low-power format and text run here, since what
//! they take is known. Whoever calls a script waits for it, so none of this is for a thread that serves.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use api::device::outbox::Values;
use api::message::{Body, Message, Reading};
use api::model::DecoderKind;
use api::reading::{ReadingKind, ReadingRule};
use chrono::{TimeDelta, Utc};
use domain::model::request::payload_kind;
use domain::reading::rule;
use payload::{Decoded, Encoded, Interpreter, Kind};
use store::{DecodeFailure, EstateId, Store, StoredReading};
use tokio::sync::{Semaphore, mpsc};
use tokio_util::sync::CancellationToken;

use crate::decoding::fair_queue::Fair;
use crate::decoding::totals::Totals;
use crate::decoding::workers;
use crate::decoding::workers::{Failure, Lane, Payload, Quick, ScriptRef};
use crate::pipeline::commit;
use crate::pipeline::directory::{Decoder, Directory};

/// Uplinks that are decoded at once beside the commits. There is one worker for them.
const AT_ONCE: usize = 1;
/// Uplinks of one fleet that wait; what is beyond stays marked in the database.
const FLEET_QUEUE: usize = 4096;
/// Uplinks left undecoded that are taken up at once.
const LEFT_OVER: u32 = 500;
/// How often the database is asked for such uplinks.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Younger ones may still be on their way through the queue, or their readings to the database.
const UNDER_WAY: TimeDelta = TimeDelta::seconds(5);

/// A decoder that can be used, and where it runs.
#[derive(Debug)]
pub enum Ready {
    /// In this process: it takes no longer than its payload is long.
    Here(payload::Decoder),
    /// In a worker.
    Script(ScriptRef),
}

impl Ready {
    /// Makes a decoder ready.
    ///
    /// # Errors
    /// If it cannot be used; the place is named.
    pub fn load(kind: DecoderKind, source: &str, lane: Lane) -> Result<Self, Failure> {
        match payload_kind(kind) {
            Kind::Script => workers::load(source, lane).map(Self::Script),
            kind => payload::Decoder::new(kind, source).map(Self::Here).map_err(|error| Failure::from(&error)),
        }
    }

    /// Whether it makes downlinks of named values.
    pub fn encodes(&self) -> bool {
        match self {
            Self::Here(decoder) => decoder.encodes(),
            Self::Script(script) => script.about().encodes,
        }
    }

    /// What was passed over in it, for whoever wrote it.
    pub fn notes(&self) -> &[String] {
        match self {
            Self::Here(decoder) => decoder.notes(),
            Self::Script(script) => &script.about().notes,
        }
    }

    /// Reads a payload; says how much processor time that took.
    ///
    /// # Errors
    /// Why there are no readings.
    pub fn decode(&self, payload: Payload, lane: Lane) -> (Result<Decoded, Failure>, Duration) {
        match self {
            Self::Script(script) => workers::decode(script, payload, lane),
            Self::Here(decoder) => {
                let begun = Instant::now();
                let Payload { bytes, port, time_ms } = payload;
                let decoded = decoder.decode(&mut Interpreter::new(), &bytes, port, time_ms, || false);
                (decoded.map_err(|error| Failure::from(&error)), begun.elapsed())
            }
        }
    }
}

/// Uplinks by estate and fleet.
type Lines = Fair<(EstateId, Option<String>), (EstateId, Message)>;

/// Decodes until the service stops. What has been taken in is finished; the rest stays marked. Fleets take turns: one
/// whose script takes all the time it may holds up another for one call.
pub async fn run(
    store: Store,
    directory: Arc<Directory>,
    mut queue: mpsc::Receiver<(EstateId, Message)>,
    done: mpsc::Sender<commit::Decoded>,
    stopping: CancellationToken,
) {
    let permits = Arc::new(Semaphore::new(AT_ONCE));
    let mut look = tokio::time::interval(LOOK_EVERY);
    let mut lines = Lines::new(FLEET_QUEUE);
    let line_up = |lines: &mut Lines, (estate, message): (EstateId, Message)| {
        // One for which there is no room is marked in the database.
        let _ = lines.put((estate, message.fleet.clone()), (estate, message));
    };
    loop {
        tokio::select! {
            biased;
            () = stopping.cancelled() => break,
            job = queue.recv() => match job {
                Some(job) => line_up(&mut lines, job),
                None => break,
            },
            permit = Arc::clone(&permits).acquire_owned(), if !lines.is_empty() => {
                if let (Ok(permit), Some((estate, message))) = (permit, lines.take()) {
                    start(&directory, permit, &done, estate, message);
                }
            }
            // Only when nothing else is to do.
            _ = look.tick(), if lines.is_empty() => match store.undecoded(LEFT_OVER).await {
                Ok(left) => {
                    let settled = Utc::now() - UNDER_WAY;
                    left.into_iter().filter(|(_, message)| message.time < settled).for_each(|job| line_up(&mut lines, job));
                }
                Err(error) => tracing::warn!("uplinks left undecoded could not be read: {error}"),
            }
        }
    }
    // Whoever holds a permit still has a result to hand over.
    let _ = permits.acquire_many(AT_ONCE as u32).await;
}

fn start(
    directory: &Arc<Directory>,
    permit: tokio::sync::OwnedSemaphorePermit,
    done: &mpsc::Sender<commit::Decoded>,
    estate_id: EstateId,
    mut message: Message,
) {
    let (directory, done) = (Arc::clone(directory), done.clone());
    tokio::spawn(async move {
        let work = move || {
            let found = match decoder_of(&directory, estate_id, &message) {
                Some(decoder) => {
                    let called = call(&decoder, &message, Lane::Later);
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
            commit::Decoded::new(estate_id, message, found)
        };
        match tokio::task::spawn_blocking(work).await {
            Ok(Ok(decoded)) => drop(done.send(decoded).await),
            Ok(Err(error)) => tracing::error!("a decoded uplink cannot be written down: {error}"),
            Err(_) => {}
        }
        drop(permit);
    });
}

/// What came of decoding an uplink, for the records.
#[derive(Default)]
pub struct Found {
    pub readings: Vec<StoredReading>,
    pub failure: Option<DecodeFailure>,
}

/// The decoder of a message's device, as of now.
pub fn decoder_of(directory: &Directory, estate_id: EstateId, message: &Message) -> Option<Arc<Decoder>> {
    let device = message.device.as_ref()?;
    directory.decoder(estate_id, device.model.as_deref()?, device.eui)
}

/// What there is for a decoder in a message.
pub fn payload_of(message: &Message) -> Result<Payload, String> {
    let Body::Uplink(heard) = &message.body else { return Err("there is no payload".into()) };
    let bytes = hex::decode(&heard.frame.payload).map_err(|why| why.to_string())?;
    Ok(Payload { bytes, port: heard.frame.port.unwrap_or(0), time_ms: message.time.timestamp_millis() })
}

/// Calls a decoder. It may wait for a worker, so it is not for a thread that serves.
///
/// # Errors
/// In words, why there are no readings.
pub fn call(decoder: &Decoder, message: &Message, lane: Lane) -> Result<Decoded, String> {
    let ready = decoder.ready.as_ref().map_err(Clone::clone)?;
    let payload = payload_of(message)?;
    let (port, len) = (payload.port, payload.bytes.len());
    let (decoded, took) = ready.decode(payload, lane);
    decoder.pace.took(took);
    decoded.map_err(|failure| told(port, len, &failure))
}

fn told(port: u8, len: usize, failure: &Failure) -> String {
    format!("port {port}, {len} bytes: {}", failure.message)
}

/// An uplink that is to be read on its way to the commit.
pub struct QuickJob {
    decoder: Arc<Decoder>,
    script: ScriptRef,
    payload: Payload,
}

/// What is quickly read, if the decoder is known to be quick: at once, or as a job for a worker.
pub enum Quickly {
    Done(Result<Decoded, String>),
    Job(QuickJob),
    /// Nothing is known of the decoder yet, or it is slow.
    Later,
}

/// Reads an uplink on the spot, or says who can.
pub fn quickly(decoder: &Arc<Decoder>, message: &Message) -> Quickly {
    match &decoder.ready {
        Ok(Ready::Script(script)) if decoder.pace.quick() => match payload_of(message) {
            Ok(payload) => Quickly::Job(QuickJob { decoder: Arc::clone(decoder), script: script.clone(), payload }),
            Err(why) => Quickly::Done(Err(why)),
        },
        Ok(Ready::Script(_)) => Quickly::Later,
        Ok(Ready::Here(_)) | Err(_) => Quickly::Done(call(decoder, message, Lane::Later)),
    }
}

/// Has a worker read uplinks, for as long as `time` allows; none stands for one that is to be read later.
pub fn all_quickly(jobs: Vec<QuickJob>, time: Duration) -> Vec<Option<Result<Decoded, String>>> {
    let calls: Vec<(ScriptRef, Payload)> = jobs.iter().map(|job| (job.script.clone(), job.payload.clone())).collect();
    let done = workers::decode_quickly(&calls, time, |at| jobs[at].decoder.pace.much_too_slow());
    let result = |(job, quick): (QuickJob, Option<Quick>)| {
        let Quick { result, took } = quick?;
        job.decoder.pace.took(took);
        Some(result.map_err(|failure| told(job.payload.port, job.payload.bytes.len(), &failure)))
    };
    jobs.into_iter().zip(done).map(result).collect()
}

/// Calls what decodes, for the workbench: `trace` also looks for the bytes of each reading.
///
/// # Errors
/// Why there are no readings.
pub fn try_out(
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

/// Makes a downlink of named values. It may wait for a worker, so it is not for a thread that serves.
///
/// # Errors
/// In words, why there is none.
pub fn encode(decoder: &Decoder, values: &Values) -> Result<Encoded, String> {
    match decoder.ready.as_ref().map_err(Clone::clone)? {
        Ready::Script(script) => workers::encode(script, values).map_err(|failure| failure.message),
        Ready::Here(ready) => {
            ready.encode(&mut Interpreter::new(), values, || false).map_err(|error| error.to_string())
        }
    }
}

/// Reads a downlink as the device will, if the decoder can. It may wait for a worker, too.
pub fn read_downlink(decoder: &Decoder, port: u8, payload: &[u8]) -> Option<Result<Values, String>> {
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
pub fn meant(
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

/// Takes out of an uplink what a decoder has made of it.
pub fn undo(message: &mut Message) {
    if let Body::Uplink(uplink) = &mut message.body {
        uplink.readings.clear();
        uplink.decode_warnings.clear();
        uplink.decode_error = None;
    }
}

/// Puts what a decoder returned into its uplink, and gives what is to be stored.
pub fn write_down(totals: &Totals, decoder: &Decoder, message: &mut Message, called: Result<Decoded, String>) -> Found {
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
        let rule = decoder.rules.get(name).unwrap_or(&plain);
        let totals = (rule.kind == Some(ReadingKind::Total)).then_some(totals);
        let mut counted = totals.and_then(|totals| totals.before(device.eui, name, message.time));
        let reading = rule::apply(rule, found, totals.map(|_| &mut counted), &mut uplink.decode_warnings);
        if let (Some(totals), Some(counted)) = (totals, counted) {
            totals.put(device.eui, name, message.time, counted);
        }
        uplink.readings.insert(name.clone(), reading.clone());
        readings.push(StoredReading { dev_eui: device.eui, name: name.clone(), reading, time: message.time, counted });
    }
    uplink.decode_warnings.extend(decoded.warnings);
    Found { readings, failure: None }
}

/// How quick a decoder has shown itself lately: the mean of its calls, the latest counting most.
#[derive(Debug, Default)]
pub struct Pace {
    mean_us: AtomicU32,
    calls: AtomicU32,
}

impl Pace {
    /// A decoder that takes no longer holds nobody up.
    const QUICK_US: u32 = 500;
    /// Part of the mean that is the latest call's. The first one in a worker makes a world for the script, which must not
    /// count for all.
    const LATEST: u32 = 16;
    /// Calls after which something is known of it. Until then it is called where nobody waits.
    const KNOWN: u32 = 2;

    pub fn quick(&self) -> bool {
        self.calls.load(Ordering::Relaxed) >= Self::KNOWN && self.mean_us.load(Ordering::Relaxed) <= Self::QUICK_US
    }

    pub fn took(&self, time: Duration) {
        let us = u32::try_from(time.as_micros()).unwrap_or(u32::MAX);
        let mean_us = self.mean_us.load(Ordering::Relaxed);
        self.mean_us.store(mean_us - mean_us / Self::LATEST + us / Self::LATEST, Ordering::Relaxed);
        let calls = self.calls.load(Ordering::Relaxed);
        self.calls.store(calls.saturating_add(1), Ordering::Relaxed);
    }

    /// The clock has ended a call for which others waited: it is a while until it counts as quick again.
    pub fn much_too_slow(&self) {
        self.mean_us.store(u32::MAX / 2, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_decoder_is_quick_once_that_is_known_and_slow_once_its_calls_are() {
        let pace = Pace::default();
        assert!(!pace.quick(), "nothing is known of it");
        pace.took(Duration::from_millis(7));
        pace.took(Duration::from_micros(90));
        assert!(pace.quick(), "the first call makes its world");
        (0..4).for_each(|_| pace.took(Duration::from_millis(3)));
        assert!(!pace.quick());
        (0..300).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(pace.quick());
        pace.much_too_slow();
        (0..100).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(!pace.quick(), "it held everybody up");
        (0..300).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(pace.quick());
    }
}
