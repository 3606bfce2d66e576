//! Decoding stored uplinks again: one job at a time, beside everything else, and no result is visible until all are
//! done.

use std::sync::Arc;
use std::time::Duration;

use api::job::{Job, JobState};
use api::message::{Body, Message, ReadingValue};
use api::reading::{ReadingKind, ReadingRule};
use domain::reading::rule::Counted;
use domain::reading::{rule, timing};
use lorawan::Eui64;
use store::{DecodeFailure, EstateId, Store, StoreError, StoredReading, first_name_at};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

use crate::decoding::decoder;
use crate::decoding::totals::Totals;
use crate::decoding::workers::Lane;
use crate::pipeline::directory::Directory;

/// Uplinks decoded at a time.
const PAGE: u32 = 200;
/// Tries to store a result. A deadlock passes; what is refused this often stays refused.
const REFUSALS: u32 = 4;
/// The pause before the next try.
const PAUSE: Duration = Duration::from_millis(200);
/// How often jobs are looked for when no notice of one comes.
const LOOK_EVERY: Duration = Duration::from_secs(30);

/// The one who works on jobs.
pub(crate) struct Worker {
    pub store: Store,
    pub directory: Arc<Directory>,
    pub news: Arc<Notify>,
    pub stopping: CancellationToken,
}

/// How a job ended.
enum End {
    Done,
    /// Somebody has stopped it.
    Stopped,
}

impl Worker {
    /// Works until the service stops. An unfinished job begins again at the next start.
    pub(crate) async fn run(self) {
        loop {
            let worked = tokio::select! {
                worked = self.work() => worked,
                () = self.stopping.cancelled() => return,
            };
            match worked {
                Ok(true) => continue,
                Ok(false) => {}
                Err(error) => tracing::error!("a job could not be worked on: {error}"),
            }
            tokio::select! {
                () = self.news.notified() => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
                () = self.stopping.cancelled() => return,
            }
        }
    }

    /// Works on the oldest job; whether there was one.
    async fn work(&self) -> Result<bool, StoreError> {
        let Some((estate, job)) = self.store.next_job().await? else { return Ok(false) };
        let id = job.id.clone();
        self.store.begin_again(&id).await?;
        match self.decode_again(estate, job).await {
            Ok(End::Done | End::Stopped) => {}
            Err(error) if error.is_refusal() => {
                // It would be refused again and again.
                tracing::error!("job {id}: {error}");
                let note = "the database refused the results; nothing has changed";
                self.store.end_job(estate, &id, JobState::Failed, note).await?;
            }
            Err(error) => return Err(error),
        }
        Ok(true)
    }

    async fn decode_again(&self, estate: EstateId, mut job: Job) -> Result<End, StoreError> {
        (job.done, job.failed) = (0, 0);
        let wanted = job.wanted.clone();
        let (from, until) = (wanted.from, wanted.until.unwrap_or(job.begun_at));
        let mut devices = self.directory.devices_of(estate, &wanted.model, None);
        if let Some(only) = wanted.device.as_deref().and_then(|text| text.parse::<Eui64>().ok()) {
            devices.retain(|device| *device == only);
        }
        let (first, last) = (first_name_at(from), first_name_at(until));
        for device in &devices {
            let totals = Arc::new(Totals::default());
            let before = self.store.uplink_before(estate, *device, &first).await?;
            if let Some(before) = before {
                seed(&self.directory, estate, &totals, &before);
            }
            let mut after = first.clone();
            loop {
                let mut page = self.store.uplinks_of(estate, *device, &after, &last, PAGE).await?;
                let Some(newest) = page.last() else { break };
                after.clone_from(&newest.id);
                let (directory, of_device) = (Arc::clone(&self.directory), Arc::clone(&totals));
                let model = wanted.model.clone();
                let work = move || {
                    page.retain_mut(|message| decode_one(&directory, estate, &model, &of_device, message));
                    page
                };
                let Ok(page) = tokio::task::spawn_blocking(work).await else { continue };
                job.done += u32::try_from(page.len()).unwrap_or(0);
                job.failed += u32::try_from(page.iter().filter(|message| failed(message)).count()).unwrap_or(0);
                if !self.store.put_aside(&job.id, &page, &job).await? {
                    return Ok(End::Stopped);
                }
            }
        }
        let note = match job.failed {
            0 => format!("{} uplinks were decoded again", job.done),
            failed => format!("{} uplinks were decoded again, {failed} of them could not be read", job.done),
        };
        let found = |message: &Message| found_in(&self.directory, estate, message);
        let mut refused = 0;
        loop {
            match self.store.swap_in_results(&job.id, &devices, (from, until), &note, &found).await {
                Ok(true) => break,
                Ok(false) => return Ok(End::Stopped),
                // Two that wait for each other's rows: one of them has to begin again.
                Err(error) if error.is_refusal() && refused < REFUSALS => refused += 1,
                Err(error) => return Err(error),
            }
            tokio::time::sleep(PAUSE).await;
        }
        self.directory.totals.reload(&self.store, &devices).await?;
        Ok(End::Done)
    }
}

fn failed(message: &Message) -> bool {
    matches!(&message.body, Body::Uplink(uplink) if uplink.decode_error.is_some())
}

/// Decodes a stored uplink with the current decoder; whether it is one that is decoded at all.
fn decode_one(directory: &Directory, estate: EstateId, model: &str, totals: &Totals, message: &mut Message) -> bool {
    let for_decoder = matches!(&message.body, Body::Uplink(uplink) if uplink.frame.port.is_some_and(|port| port > 0));
    // A device may have been of another model then.
    if let Some(device) = &mut message.device {
        device.model = Some(model.to_owned());
    }
    let Some(decoder) = decoder::decoder_of(directory, estate, message).filter(|_| for_decoder) else { return false };
    decoder::undo(message);
    let called = decoder::payload_of(message).and_then(|payload| decoder::call(&decoder, payload, Lane::Later));
    decoder::write_down(totals, &decoder, message, called);
    true
}

fn rule_of(directory: &Directory, estate: EstateId, message: &Message, name: &str) -> Option<ReadingRule> {
    directory.rule(estate, message.device.as_ref()?, name)
}

/// What a total had reached, as last stored.
fn counted(rule: &ReadingRule, reading: &api::message::Reading) -> Option<Counted> {
    let ReadingValue::Number(total) = reading.value else { return None };
    let counter = reading.raw.map_or(total, |raw| rule::scaled(rule, raw));
    (rule.kind == Some(ReadingKind::Total)).then_some(Counted { counter, carried: total - counter })
}

/// Lets totals go on from an uplink.
fn seed(directory: &Directory, estate: EstateId, totals: &Totals, message: &Message) {
    let (Body::Uplink(uplink), Some(device)) = (&message.body, &message.device) else { return };
    for (name, reading) in &uplink.readings {
        let counted = rule_of(directory, estate, message, name).and_then(|rule| counted(&rule, reading));
        if let Some(counted) = counted {
            totals.put(device.eui, name, message.time, counted);
        }
    }
}

/// What to store of a decoded uplink.
fn found_in(directory: &Directory, estate: EstateId, message: &Message) -> (Vec<StoredReading>, Option<DecodeFailure>) {
    let (Body::Uplink(uplink), Some(device)) = (&message.body, &message.device) else { return (Vec::new(), None) };
    let values = uplink.readings.iter().flat_map(|(name, reading)| timing::apart(name, reading));
    let readings = values.map(|(name, reading)| StoredReading {
        dev_eui: device.eui,
        name: name.clone(),
        time: reading.time.unwrap_or(message.time),
        counted: rule_of(directory, estate, message, name).and_then(|rule| counted(&rule, &reading)),
        reading,
    });
    let failure = uplink.decode_error.as_ref().map(|why| DecodeFailure {
        dev_eui: device.eui,
        model: device.model.clone().unwrap_or_default(),
        message_id: message.id.clone(),
        at: message.time,
        why: why.clone(),
    });
    (readings.collect(), failure)
}
