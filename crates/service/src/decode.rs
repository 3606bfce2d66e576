//! Running decoders: uplinks in, uplinks with readings out.
//!
//! Scripts run on threads of their own kind, a few at a time, each within its limits; a script that
//! loops holds up one of them for its time, and nothing else.

use std::cell::RefCell;
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::message::{Body, Message, Reading, ReadingValue};
use chrono::{TimeDelta, Utc};
use payload::{DecodeError, Decoded, Interpreter};
use store::{Decoding, EstateId, Store, StoredMessage, StoredReading};
use tokio::sync::{Semaphore, mpsc};
use tokio_util::sync::CancellationToken;

use crate::committer;
use crate::directory::{Decoder, Directory};

/// Scripts take one in so many of the processor's cores at most: frames and their answers must not wait for them.
const OF_CORES: usize = 2;
/// Time a script may take, besides its other limits.
const TIME: Duration = Duration::from_millis(250);
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
    message: Message,
) {
    let decoder =
        message.device.as_ref().and_then(|d| d.model.as_deref()).and_then(|m| directory.decoder(estate_id, m));
    let Ok(permit) = Arc::clone(permits).acquire_owned().await else { return };
    let done = done.clone();
    tokio::spawn(async move {
        let decoded = tokio::task::spawn_blocking(move || decode(decoder.as_deref(), message)).await;
        if let Ok((message, readings)) = decoded {
            let stored = StoredMessage { estate_id, message, decoding: Decoding::Done };
            let _ = done.send(committer::Decoded { stored, readings }).await;
        }
        drop(permit);
    });
}

fn decode(decoder: Option<&Decoder>, mut message: Message) -> (Message, Vec<StoredReading>) {
    let (Body::Uplink(uplink), Some(device)) = (&mut message.body, &message.device) else { return (message, vec![]) };
    let Some(decoder) = decoder else {
        uplink.warnings.push("the model's decoder was taken away before this uplink was decoded".into());
        return (message, vec![]);
    };
    let mut stored = Vec::new();
    match call(decoder, &uplink.frame.payload, uplink.frame.port.unwrap_or(0), message.time.timestamp_millis()) {
        Ok(decoded) => {
            uplink.warnings.extend(decoded.warnings);
            for found in decoded.readings {
                let value = match found.value {
                    payload::ReadingValue::Boolean(b) => ReadingValue::Boolean(b),
                    payload::ReadingValue::Number(n) => ReadingValue::Number(n),
                    payload::ReadingValue::Text(t) => ReadingValue::Text(t),
                };
                let reading = Reading { value, unit: decoder.units.get(&found.name).cloned() };
                uplink.readings.insert(found.name.clone(), reading.clone());
                stored.push(StoredReading { dev_eui: device.eui, name: found.name, reading, time: message.time });
            }
        }
        Err(why) => uplink.decode_error = Some(why),
    }
    (message, stored)
}

fn call(decoder: &Decoder, payload_hex: &str, port: u8, recv_time_ms: i64) -> Result<Decoded, String> {
    let script = decoder.script.as_ref().map_err(Clone::clone)?;
    let bytes = hex::decode(payload_hex).map_err(|why| why.to_string())?;
    let until = Instant::now() + TIME;
    INTERPRETER
        .with_borrow_mut(|it| script.decode_uplink(it, &bytes, port, recv_time_ms, move || Instant::now() > until))
        .map_err(|error: DecodeError| format!("port {port}, {} bytes: {error}", bytes.len()))
}
