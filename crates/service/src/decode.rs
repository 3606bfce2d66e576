//! Running decoders: uplinks in, uplinks with readings out.
//!
//! Scripts run on threads of their own kind, a few at a time, each within its limits; a script that
//! loops holds up one of them for its time, and nothing else.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use api::message::{Body, Message, Reading, ReadingValue};
use api::outbox::Values;
use api::reading::{ReadingKind, ReadingRule};
use chrono::{TimeDelta, Utc};
use payload::{DecodeError, Decoded, Encoded, Interpreter};
use rustix::time::{ClockId, clock_gettime};
use store::{DecodeFailure, EstateId, Store, StoredReading};
use tokio::sync::{Semaphore, mpsc};
use tokio_util::sync::CancellationToken;

use crate::committer;
use crate::directory::{Decoder, Directory};
use crate::fair::Fair;
use crate::totals::Totals;

/// Scripts take one in so many of the processor's cores at most: frames and their answers must not wait for them.
const OF_CORES: usize = 2;
/// Processor time a script may take, besides its other limits. By the clock on the wall, a busy machine would
/// stop scripts that did nothing wrong.
pub const TIME: Duration = Duration::from_millis(40);
/// The same on the spot, where others wait for it.
const HURRY: Duration = Duration::from_millis(5);
/// Uplinks of one fleet that wait; what is beyond stays marked in the database.
const FLEET_QUEUE: usize = 4096;
/// Uplinks left undecoded that are taken up at once.
const LEFT_OVER: u32 = 500;
/// How often the database is asked for such uplinks.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Younger ones may still be on their way through the queue, or their readings to the database.
const UNDER_WAY: TimeDelta = TimeDelta::seconds(5);

/// Uplinks by estate and fleet.
type Lines = Fair<(EstateId, Option<String>), (EstateId, Message)>;

thread_local! {
    static INTERPRETER: RefCell<Interpreter> = const { RefCell::new(Interpreter::new()) };
}

/// Decodes until the service stops. What has been taken in is finished; the rest stays marked. Fleets take turns: one
/// whose script takes all the time it may holds up another for one call.
pub async fn run(
    store: Store,
    directory: Arc<Directory>,
    mut queue: mpsc::Receiver<(EstateId, Message)>,
    done: mpsc::Sender<committer::Decoded>,
    stopping: CancellationToken,
) {
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let at_once = u32::try_from((cores / OF_CORES).max(1)).unwrap_or(1);
    let permits = Arc::new(Semaphore::new(at_once as usize));
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
    let _ = permits.acquire_many(at_once).await;
}

fn start(
    directory: &Arc<Directory>,
    permit: tokio::sync::OwnedSemaphorePermit,
    done: &mpsc::Sender<committer::Decoded>,
    estate_id: EstateId,
    mut message: Message,
) {
    let (directory, done) = (Arc::clone(directory), done.clone());
    tokio::spawn(async move {
        let work = move || {
            let found = match decoder_of(&directory, estate_id, &message) {
                Some(decoder) => {
                    let called = call(&decoder, &message, TIME);
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
            committer::Decoded::new(estate_id, message, found)
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

/// Decodes an uplink on the spot, if its decoder is known to be quick; else leaves it as it is.
pub fn quickly(directory: &Directory, estate_id: EstateId, message: &mut Message) -> Option<Found> {
    let decoder = decoder_of(directory, estate_id, message)?;
    if !decoder.pace.quick() {
        return None;
    }
    match call(&decoder, message, HURRY) {
        Err(Failed::Stopped(_)) => None,
        called => Some(write_down(&directory.totals, &decoder, message, called)),
    }
}

/// The decoder of a message's device, as of now.
pub fn decoder_of(directory: &Directory, estate_id: EstateId, message: &Message) -> Option<Arc<Decoder>> {
    let device = message.device.as_ref()?;
    directory.decoder(estate_id, device.model.as_deref()?, device.eui)
}

/// Why there are no readings.
pub enum Failed {
    /// Its time was up.
    Stopped(String),
    /// Anything else.
    Wrong(String),
}

/// Calls a decoder. This runs a script, so it is not for a thread that serves.
///
/// # Errors
/// In words, why there are no readings.
pub fn call(decoder: &Decoder, message: &Message, time: Duration) -> Result<Decoded, Failed> {
    let Body::Uplink(heard) = &message.body else { return Err(Failed::Wrong("there is no payload".into())) };
    let ready = decoder.ready.as_ref().map_err(|why| Failed::Wrong(why.clone()))?;
    let bytes = hex::decode(&heard.frame.payload).map_err(|why| Failed::Wrong(why.to_string()))?;
    let port = heard.frame.port.unwrap_or(0);
    let begun = processor_time();
    let over = ends_after(time);
    let decoded =
        INTERPRETER.with_borrow_mut(|it| ready.decode(it, &bytes, port, message.time.timestamp_millis(), over));
    decoder.pace.took(processor_time().saturating_sub(begun));
    decoded.map_err(|error| {
        let why = format!("port {port}, {} bytes: {error}", bytes.len());
        if matches!(error, DecodeError::TooSlow) { Failed::Stopped(why) } else { Failed::Wrong(why) }
    })
}

/// Calls what decodes, for the workbench: `trace` also looks for the bytes of each reading.
pub fn try_out(
    decoder: &payload::Decoder,
    (bytes, port, time_ms): (&[u8], u8, i64),
    trace: bool,
) -> Result<(Decoded, BTreeMap<String, Vec<usize>>), DecodeError> {
    let over = ends_after(TIME);
    INTERPRETER.with_borrow_mut(|it| {
        let decoded = decoder.decode(it, bytes, port, time_ms, over.clone())?;
        let found = match trace {
            true => payload::trace::sources(decoder, it, (bytes, port, time_ms), &decoded, over),
            false => BTreeMap::new(),
        };
        Ok((decoded, found))
    })
}

/// Makes a downlink of named values. This runs a script, so it is not for a thread that serves.
///
/// # Errors
/// In words, why there is none.
pub fn encode(decoder: &Decoder, values: &Values) -> Result<Encoded, String> {
    let ready = decoder.ready.as_ref().map_err(Clone::clone)?;
    let over = ends_after(TIME);
    let encoded = INTERPRETER.with_borrow_mut(|it| ready.encode(it, values, over));
    encoded.map_err(|why| why.to_string())
}

/// Reads a downlink as the device will, if the decoder can. This runs a script, too.
pub fn read_downlink(decoder: &Decoder, port: u8, payload: &[u8]) -> Option<Result<Values, String>> {
    let ready = decoder.ready.as_ref().ok()?;
    let over = ends_after(TIME);
    let read = INTERPRETER.with_borrow_mut(|it| ready.read_downlink(it, payload, port, over))?;
    let values = read.map(|decoded| {
        let value = |reading: payload::Reading| {
            let value = match reading.value {
                // As people write it: 40, not 40.0.
                payload::ReadingValue::Number(n) if n.fract() == 0.0 && n.abs() < 1e15 => (n as i64).into(),
                other => serde_json::to_value(ReadingValue::from(other)).unwrap_or_default(),
            };
            (reading.of.name.clone(), value)
        };
        decoded.readings.into_iter().map(value).collect()
    });
    Some(values.map_err(|why| why.to_string()))
}

/// Whether a call has taken so much of the processor, counted from now on.
fn ends_after(time: Duration) -> impl Fn() -> bool + Clone + 'static {
    let begun = processor_time();
    move || processor_time().saturating_sub(begun) > time
}

/// What this thread has taken of the processor.
fn processor_time() -> Duration {
    clock_gettime(ClockId::ThreadCPUTime).try_into().unwrap_or_default()
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
        .map(|found| (found.of.name.clone(), rules.get(found.name()).unwrap_or(&plain).apply(found, None, warnings)))
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
pub fn write_down(totals: &Totals, decoder: &Decoder, message: &mut Message, called: Result<Decoded, Failed>) -> Found {
    let (Body::Uplink(uplink), Some(device)) = (&mut message.body, &message.device) else { return Found::default() };
    let decoded = match called {
        Ok(decoded) => decoded,
        Err(Failed::Stopped(why) | Failed::Wrong(why)) => {
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
        let reading = rule.apply(found, totals.map(|_| &mut counted), &mut uplink.decode_warnings);
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
}

impl Pace {
    /// A decoder that takes no longer holds nobody up.
    const QUICK_US: u32 = 500;
    /// Part of the mean that is the latest call's. The first one on a thread makes a world for the script, which
    /// must not count for all.
    const LATEST: u32 = 16;

    pub fn quick(&self) -> bool {
        self.mean_us.load(Ordering::Relaxed) <= Self::QUICK_US
    }

    fn took(&self, time: Duration) {
        let us = u32::try_from(time.as_micros()).unwrap_or(u32::MAX);
        let mean_us = self.mean_us.load(Ordering::Relaxed);
        self.mean_us.store(mean_us - mean_us / Self::LATEST + us / Self::LATEST, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_decoder_is_slow_once_its_calls_are_and_quick_again_once_they_are() {
        let pace = Pace::default();
        pace.took(Duration::from_millis(7));
        assert!(pace.quick(), "one call says little");
        (0..3).for_each(|_| pace.took(Duration::from_millis(2)));
        assert!(!pace.quick());
        pace.took(Duration::from_secs(10_000));
        (0..300).for_each(|_| pace.took(Duration::from_micros(90)));
        assert!(pace.quick());
    }
}
