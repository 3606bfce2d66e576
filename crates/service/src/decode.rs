//! Running decoders: uplinks in, uplinks with readings out.
//!
//! Scripts run on threads of their own kind, a few at a time, each within its limits; a script that
//! loops holds up one of them for its time, and nothing else.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use api::message::{Body, Message, Reading, ReadingValue};
use api::outbox::Values;
use chrono::{TimeDelta, Utc};
use payload::{DecodeError, Decoded, Encoded, Interpreter};
use rustix::time::{ClockId, clock_gettime};
use store::{EstateId, Store, StoredReading};
use tokio::sync::{Semaphore, mpsc};
use tokio_util::sync::CancellationToken;

use crate::committer;
use crate::directory::{Decoder, Directory};

/// Scripts take one in so many of the processor's cores at most: frames and their answers must not wait for them.
const OF_CORES: usize = 2;
/// Processor time a script may take, besides its other limits. By the clock on the wall, a busy machine would
/// stop scripts that did nothing wrong.
const TIME: Duration = Duration::from_millis(250);
/// The same on the spot, where others wait for it.
const HURRY: Duration = Duration::from_millis(5);
/// Uplinks left undecoded that are taken up at once.
const LEFT_OVER: u32 = 500;
/// How often the database is asked for such uplinks.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Younger ones may still be on their way through the queue, or their readings to the database.
const UNDER_WAY: TimeDelta = TimeDelta::seconds(5);

thread_local! {
    static INTERPRETER: RefCell<Interpreter> = const { RefCell::new(Interpreter::new()) };
}

/// Decodes until the service stops. What has been taken in is finished; the rest stays marked.
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
    loop {
        tokio::select! {
            biased;
            () = stopping.cancelled() => break,
            job = queue.recv() => match job {
                Some((estate, message)) => start(&directory, &permits, &done, estate, message).await,
                None => break,
            },
            // Only when nothing else is to do.
            _ = look.tick() => match store.undecoded(LEFT_OVER).await {
                Ok(left) => {
                    let settled = Utc::now() - UNDER_WAY;
                    for (estate, message) in left.into_iter().filter(|(_, message)| message.time < settled) {
                        start(&directory, &permits, &done, estate, message).await;
                    }
                }
                Err(error) => tracing::warn!("uplinks left undecoded could not be read: {error}"),
            }
        }
    }
    // Whoever holds a permit still has a result to hand over.
    let _ = permits.acquire_many(at_once).await;
}

async fn start(
    directory: &Directory,
    permits: &Arc<Semaphore>,
    done: &mpsc::Sender<committer::Decoded>,
    estate_id: EstateId,
    mut message: Message,
) {
    let decoder = decoder_of(directory, estate_id, &message);
    let Ok(permit) = Arc::clone(permits).acquire_owned().await else { return };
    let done = done.clone();
    tokio::spawn(async move {
        let work = move || {
            let readings = match decoder {
                Some(decoder) => {
                    let called = call(&decoder, &message, TIME);
                    write_down(&decoder, &mut message, called)
                }
                None => {
                    if let Body::Uplink(uplink) = &mut message.body {
                        let gone = "the model's decoder was taken away before this uplink was decoded";
                        uplink.warnings.push(gone.into());
                    }
                    vec![]
                }
            };
            committer::Decoded::new(estate_id, message, readings)
        };
        match tokio::task::spawn_blocking(work).await {
            Ok(Ok(decoded)) => drop(done.send(decoded).await),
            Ok(Err(error)) => tracing::error!("a decoded uplink cannot be written down: {error}"),
            Err(_) => {}
        }
        drop(permit);
    });
}

/// Decodes an uplink on the spot, if its decoder is known to be quick; else leaves it as it is.
pub fn quickly(directory: &Directory, estate_id: EstateId, message: &mut Message) -> Option<Vec<StoredReading>> {
    let decoder = decoder_of(directory, estate_id, message)?;
    if !decoder.pace.quick() {
        return None;
    }
    match call(&decoder, message, HURRY) {
        Err(Failed::Stopped(_)) => None,
        called => Some(write_down(&decoder, message, called)),
    }
}

fn decoder_of(directory: &Directory, estate_id: EstateId, message: &Message) -> Option<Arc<Decoder>> {
    let device = message.device.as_ref()?;
    directory.decoder(estate_id, device.model.as_deref()?, device.eui)
}

/// Why there are no readings.
enum Failed {
    /// Its time was up.
    Stopped(String),
    /// Anything else.
    Wrong(String),
}

fn call(decoder: &Decoder, message: &Message, time: Duration) -> Result<Decoded, Failed> {
    let Body::Uplink(heard) = &message.body else { return Err(Failed::Wrong("there is no payload".into())) };
    let ready = decoder.ready.as_ref().map_err(|why| Failed::Wrong(why.clone()))?;
    let bytes = hex::decode(&heard.frame.payload).map_err(|why| Failed::Wrong(why.to_string()))?;
    let port = heard.frame.port.unwrap_or(0);
    let begun = processor_time();
    let decoded = INTERPRETER.with_borrow_mut(|it| {
        let over = move || processor_time().saturating_sub(begun) > time;
        ready.decode(it, &bytes, port, message.time.timestamp_millis(), over)
    });
    decoder.pace.took(processor_time().saturating_sub(begun));
    decoded.map_err(|error| {
        let why = format!("port {port}, {} bytes: {error}", bytes.len());
        if matches!(error, DecodeError::TooSlow) { Failed::Stopped(why) } else { Failed::Wrong(why) }
    })
}

/// Makes a downlink of named values. This runs a script, so it is not for a thread that serves.
///
/// # Errors
/// In words, why there is none.
pub fn encode(decoder: &Decoder, values: &Values) -> Result<Encoded, String> {
    let ready = decoder.ready.as_ref().map_err(Clone::clone)?;
    let begun = processor_time();
    let over = move || processor_time().saturating_sub(begun) > TIME;
    let encoded = INTERPRETER.with_borrow_mut(|it| ready.encode(it, values, over));
    encoded.map_err(|why| why.to_string())
}

/// What this thread has taken of the processor.
fn processor_time() -> Duration {
    clock_gettime(ClockId::ThreadCPUTime).try_into().unwrap_or_default()
}

/// Puts what a decoder returned into its uplink, and gives the readings.
fn write_down(decoder: &Decoder, message: &mut Message, called: Result<Decoded, Failed>) -> Vec<StoredReading> {
    let (Body::Uplink(uplink), Some(device)) = (&mut message.body, &message.device) else { return vec![] };
    let decoded = match called {
        Ok(decoded) => decoded,
        Err(Failed::Stopped(why) | Failed::Wrong(why)) => {
            uplink.decode_error = Some(why);
            return vec![];
        }
    };
    uplink.warnings.extend(decoded.warnings);
    let mut stored = Vec::with_capacity(decoded.readings.len());
    for found in decoded.readings {
        let value = match found.value {
            payload::ReadingValue::Boolean(b) => ReadingValue::Boolean(b),
            payload::ReadingValue::Number(n) => ReadingValue::Number(n),
            payload::ReadingValue::Text(t) => ReadingValue::Text(t),
        };
        let name = found.of.name.clone();
        // What the model says of a reading counts before what its decoder does.
        let unit = decoder.units.get(&name).cloned().or_else(|| found.of.unit.clone());
        let reading = Reading { value, unit };
        uplink.readings.insert(name.clone(), reading.clone());
        stored.push(StoredReading { dev_eui: device.eui, name, reading, time: message.time });
    }
    stored
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
