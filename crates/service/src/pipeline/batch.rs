//! From the engine's effects to the rows of one transaction. All this happens while the transaction before is under
//! way.
//!
//! Uplinks whose scripts are quick are decoded in that time as well ([`ahead`](crate::pipeline::ahead)); no commit
//! waits for a script.

use std::collections::VecDeque;
use std::sync::Arc;

use engine::{Effect, Event, FrameHeard, Reception, RefusedEvent, Timestamp, Transmission};
use store::{Batch, Decoding, Mark, StoreError, StoredMessage, WrittenMessage};

use crate::clock;
use crate::decoding::decoder::{DecodeJob, Found, ReadUplink};
use crate::decoding::outstanding::Outstanding;
use crate::gateways::registry::GatewayRegistry;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::ingest::stats::IngestStats;
use crate::ingest::strangers::Strangers;
use crate::pipeline::ahead;
use crate::pipeline::ahead::{Ahead, AheadReader, PendingMessage, Taken, Undecoded};
use crate::pipeline::directory::Directory;
use crate::pipeline::ids::Ids;
use crate::pipeline::mailbox::{Coalesce, EngineOutput, Mailbox};
use crate::pipeline::message::{BuiltMessage, MessageBuilder};

/// Rows and frames that wait for the database before nothing more is prepared.
const ROOM: usize = 20_000;

/// With fewer rows a commit waits a moment for more.
const FEW: usize = 500;

/// Messages that are only shown, and wait for what is before them to be durable.
const LIVE_ONLY: usize = 2_000;

/// What waits for the next commit: parts in their order. Only a part with uplinks for scripts stands by itself, so that
/// there are no more than [`ROOM`] allows while the database is away.
#[derive(Default)]
pub(crate) struct PendingBatch(VecDeque<Part>);

#[derive(Default)]
struct Part {
    /// All rows but those of messages.
    batch: Batch,
    /// When the first copies of the uplinks in it were heard.
    heard: Vec<Timestamp>,
    transmissions: Vec<Transmission>,
    messages: Vec<PendingMessage>,
    /// What goes to the live stream and is stored nowhere, such as frames of unknown devices.
    live_only: Vec<Arc<WrittenMessage>>,
    /// Whether it has uplinks for scripts.
    for_scripts: bool,
    /// A commit has left it for the next one, which takes it as it is.
    left: bool,
}

/// The rows of one transaction, and the effects once it is durable.
#[derive(Default)]
pub(crate) struct FinishedBatch {
    pub batch: Batch,
    /// When the first copies of the uplinks in it were heard.
    pub heard: Vec<Timestamp>,
    /// How many of the uplinks have been decoded.
    pub decoded: usize,
    pub transmissions: Vec<Transmission>,
    pub to_decode: Vec<DecodeJob>,
    /// Each with its place among the messages of the batch.
    pub to_publish: Vec<(usize, Arc<WrittenMessage>)>,
    /// What goes to the live stream and is stored nowhere.
    pub live_only: Vec<Arc<WrittenMessage>>,
    outstanding: Arc<Outstanding>,
}

impl Coalesce for PendingBatch {
    fn coalesce(&mut self, later: Self) {
        let mut live_only: usize = self.0.iter().map(|part| part.live_only.len()).sum();
        for mut part in later.0 {
            // Listeners miss some of them: live messages are not promised.
            part.live_only.truncate(LIVE_ONLY.saturating_sub(live_only));
            live_only += part.live_only.len();
            match self.0.back_mut() {
                Some(last) if !last.for_scripts && !part.for_scripts => last.append(part),
                _ => self.0.push_back(part),
            }
        }
    }

    fn full(&self) -> bool {
        self.0.iter().map(Part::rows).sum::<usize>() >= ROOM
    }
}

impl PendingBatch {
    /// Whether it is small and nothing is to be sent in it, so that it can wait a moment for more to commit with it.
    pub(crate) fn may_gather(&self) -> bool {
        let rows: usize = self.0.iter().map(Part::rows).sum();
        rows < FEW && self.0.iter().all(|part| part.transmissions.is_empty())
    }

    /// Leaves the last parts for the next commit if scripts have not decoded them yet and nothing is to be sent in
    /// them. Each part is left once at most, and never if nothing else is there to commit: a script holds up nothing.
    pub(crate) fn leave_undecoded(&mut self) -> Option<Self> {
        let may_wait = |part: &Part| !part.left && part.transmissions.is_empty() && part.waits();
        let last_needed = self.0.iter().rposition(|part| !may_wait(part))?;
        let mut later = self.0.split_off(last_needed + 1);
        later.iter_mut().for_each(|part| part.left = true);
        (!later.is_empty()).then_some(Self(later))
    }

    /// Makes the transaction's rows, with the readings that are there now, behind those of `finished`.
    pub(crate) fn finish(self, mut finished: FinishedBatch) -> FinishedBatch {
        for part in self.0 {
            let Part { batch, mut heard, mut transmissions, messages, mut live_only, .. } = part;
            finished.batch.append(batch);
            finished.heard.append(&mut heard);
            finished.transmissions.append(&mut transmissions);
            finished.live_only.append(&mut live_only);
            for message in messages {
                if let Err(error) = finished.take(message) {
                    tracing::error!("a message cannot be written down: {error}");
                }
            }
        }
        finished
    }
}

impl Part {
    fn append(&mut self, mut later: Self) {
        self.batch.append(later.batch);
        self.heard.append(&mut later.heard);
        self.transmissions.append(&mut later.transmissions);
        self.messages.append(&mut later.messages);
        self.live_only.append(&mut later.live_only);
    }

    fn rows(&self) -> usize {
        self.batch.changes.len() + self.messages.len()
    }

    /// Whether a script is yet to decode one of its uplinks.
    fn waits(&self) -> bool {
        self.messages.iter().any(|message| matches!(message, PendingMessage::Ahead(ahead) if ahead.waits()))
    }

    /// Takes a message; the uplink, if a script is to decode it while the batch waits.
    fn take(&mut self, built: BuiltMessage, directory: &Directory) -> Result<Option<Arc<Ahead>>, StoreError> {
        let BuiltMessage { estate_id, message, to_read, activity, keep } = built;
        self.batch.activity.extend(activity);
        let Some(to_read) = to_read else {
            let written = Arc::new(WrittenMessage::new(estate_id, message)?);
            if keep {
                let stored = StoredMessage { written, decoding: Decoding::None };
                self.messages.push(PendingMessage::Written { stored, found: None, job: None });
            } else {
                self.live_only.push(written);
            }
            return Ok(None);
        };
        let uplink = Undecoded { estate_id, message, to_read };
        if let Some(called) = uplink.to_read.read_here() {
            let ReadUplink { stored, found } = uplink.decoded(directory, called)?;
            self.messages.push(PendingMessage::Written { stored, found, job: None });
            return Ok(None);
        }
        if uplink.to_read.quick_script().is_none() {
            let (stored, job) = uplink.stored(None)?;
            self.messages.push(PendingMessage::Written { stored, found: None, job: Some(job) });
            return Ok(None);
        }
        let ahead = Ahead::new(uplink);
        self.for_scripts = true;
        self.messages.push(PendingMessage::Ahead(Arc::clone(&ahead)));
        Ok(Some(ahead))
    }
}

impl FinishedBatch {
    /// Nothing yet; `outstanding` are the devices with uplinks that are still to be decoded.
    pub(crate) fn new(outstanding: Arc<Outstanding>) -> Self {
        Self { outstanding, ..Self::default() }
    }

    fn take(&mut self, message: PendingMessage) -> Result<(), StoreError> {
        match message {
            PendingMessage::Written { stored, found, job } => self.add(stored, found, job),
            PendingMessage::Ahead(ahead) => match ahead.take() {
                Some(Taken::Read(read)) => self.add_read(*read),
                Some(Taken::Undecoded(uplink)) => {
                    let (stored, job) = uplink.stored(Some(ahead))?;
                    self.add(stored, None, Some(job));
                }
                None => {}
            },
        }
        Ok(())
    }

    /// Adds an uplink with its readings.
    pub(crate) fn add_read(&mut self, read: ReadUplink) {
        self.add(read.stored, read.found, None);
    }

    /// Adds a message; one that is still to be decoded is published with its readings, and what its device has after it comes
    /// after it: uplinks, joins, downlinks and notices.
    fn add(&mut self, mut stored: StoredMessage, found: Option<Found>, mut job: Option<DecodeJob>) {
        if let Some(device) = &stored.written.message.device {
            let eui = device.eui;
            match stored.decoding {
                Decoding::Done => self.outstanding.done(eui),
                Decoding::None if self.outstanding.has(eui) => {
                    job = Some(DecodeJob::waiting(Arc::clone(&stored.written)));
                    stored.decoding = Decoding::Pending;
                    self.outstanding.add(eui);
                }
                Decoding::Pending => self.outstanding.add(eui),
                Decoding::None => {}
            }
        }
        if job.is_none() {
            self.to_publish.push((self.batch.messages.len(), Arc::clone(&stored.written)));
        }
        self.to_decode.extend(job);
        self.batch.messages.push(stored);
        if let Some(found) = found {
            self.decoded += 1;
            self.batch.readings.extend(found.readings);
            self.batch.failures.extend(found.failure);
        }
    }
}

/// Between engine and committer.
pub(crate) struct Batcher {
    pub directory: Arc<Directory>,
    pub presence: Arc<GatewayRegistry>,
    pub strangers: Arc<Strangers>,
    pub ingest: Arc<IngestStats>,
    pub quarantined: QuarantinedFrames,
    pub ids: Ids,
    pub reader: AheadReader,
}

impl Batcher {
    /// Works until the engine has ended.
    ///
    /// # Panics
    /// If preparing does: what the engine wants done must not be lost silently.
    pub(crate) async fn run(mut self, from_engine: Arc<Mailbox<EngineOutput>>, ready: Arc<Mailbox<PendingBatch>>) {
        while let Some(output) = from_engine.take().await {
            // It may keep a processor busy for a while.
            let work = tokio::task::spawn_blocking(move || {
                let pending = self.prepare(output);
                (self, pending)
            });
            let pending;
            (self, pending) = match work.await {
                Ok(done) => done,
                Err(failed) => std::panic::resume_unwind(failed.into_panic()),
            };
            if !ready.put(pending) {
                ready.room().await;
            }
        }
        ready.close();
    }

    fn prepare(&mut self, output: EngineOutput) -> PendingBatch {
        let mut builder = MessageBuilder {
            directory: &self.directory,
            presence: &self.presence,
            strangers: &self.strangers,
            ids: &mut self.ids,
            now: clock::utc(),
        };
        let mut part = Part::default();
        part.batch.mark = Some(output.mark);
        let ahead = part.add(output.effects, &mut builder, (&self.ingest, &self.quarantined));
        self.reader.put(ahead);
        PendingBatch([part].into())
    }
}

/// Where it is noted what came of frames that are in no message.
type Noted<'a> = (&'a IngestStats, &'a QuarantinedFrames);

impl Part {
    /// Takes effects in their order; gives the uplinks that a quick script is to decode.
    fn add(&mut self, effects: Vec<Effect>, builder: &mut MessageBuilder<'_>, noted: Noted<'_>) -> Vec<Arc<Ahead>> {
        let (ingest, quarantined) = noted;
        let mut ahead: Vec<Arc<Ahead>> = Vec::new();
        for effect in effects {
            match effect {
                Effect::Persist(change) => self.batch.changes.push(change),
                Effect::Transmit(transmission) => self.transmissions.push(transmission),
                Effect::Publish(event) => {
                    if let Event::Uplink(uplink) = &event {
                        self.heard.extend(uplink.frame.heard_by.iter().map(|copy| copy.heard_at).min());
                    }
                    count(&event, ingest, quarantined);
                    let Some(built) = builder.tell(event) else { continue };
                    if !built.keep && self.live_only.len() >= LIVE_ONLY {
                        ingest.not_shown();
                        continue;
                    }
                    match self.take(built, builder.directory) {
                        Ok(uplink) => ahead.extend(uplink),
                        Err(error) => tracing::error!("a message cannot be written down: {error}"),
                    }
                }
            }
        }
        ahead
    }
}

/// Uplinks of the past that are decoded in one go.
const DECODED_TOGETHER: usize = 512;

/// A batch of what happened at several moments of the past.
#[derive(Default)]
pub(crate) struct PastBatch {
    part: Part,
    ahead: Vec<Arc<Ahead>>,
}

impl PastBatch {
    /// Adds what the engine wants done at the builder's moment, without what is to be sent.
    pub(crate) fn add(&mut self, effects: Vec<Effect>, mark: Mark, builder: &mut MessageBuilder<'_>, noted: Noted<'_>) {
        self.part.batch.mark = Some(mark);
        self.ahead.append(&mut self.part.add(effects, builder, noted));
    }

    /// How many messages and changes are in it.
    pub(crate) fn rows(&self) -> usize {
        self.part.rows()
    }

    /// Decodes it as far as that is quick, and makes its rows. Blocks.
    pub(crate) fn finish(self, directory: &Directory) -> FinishedBatch {
        self.ahead.chunks(DECODED_TOGETHER).for_each(|some| ahead::read(directory, some));
        PendingBatch([self.part].into()).finish(FinishedBatch::default())
    }
}

/// Counts lost and foreign frames, and keeps the frames of quarantined devices.
fn count(event: &Event, ingest: &IngestStats, quarantined: &QuarantinedFrames) {
    match event {
        Event::Discarded { copies } => ingest.foreign(*copies),
        Event::Dropped { why, gateway } => ingest.dropped(why.code(), why.to_string(), gateway),
        Event::Refused(refused) => {
            if matches!(refused.reason, engine::Refusal::Downlink { .. }) {
                let by = refused.frame.heard_by.first().map(|copy| copy.gateway.to_string());
                ingest.dropped(refused.reason.code(), refused.reason.why(), by.unwrap_or_default());
            }
            quarantine(quarantined, ingest, refused);
        }
        Event::Uplink(_) | Event::Joined(_) | Event::Downlink(_) | Event::Notice { .. } => {}
    }
}

/// Keeps the frames of a device that is not served because its state cannot be stored.
fn quarantine(quarantined: &QuarantinedFrames, ingest: &IngestStats, refused: &RefusedEvent) {
    let (Some(dev_eui), engine::Refusal::Quarantined { .. }) = (refused.dev_eui, &refused.reason) else { return };
    let heard = &refused.frame;
    let copy =
        |reception: &Reception| FrameHeard { phy_payload: heard.phy_payload.clone(), reception: reception.clone() };
    let frames: Vec<FrameHeard> = heard.heard_by.iter().map(copy).collect();
    if let Err(why) = quarantined.put(dev_eui, &frames) {
        ingest.dropped("quarantine_full", format!("a frame of {dev_eui}: {why}"), "the air");
    }
}

#[cfg(test)]
mod tests {
    use api::message::{Body, ReadingValue};
    use api::model::PutModel;
    use api::reading::ReadingRule;
    use engine::{Change, Counters, HeardFrame, Radio, UplinkEvent};
    use lorawan::region::Region;
    use lorawan::{DevAddr, Eui64, Modulation};
    use store::DeviceContext;

    use std::time::{Duration, Instant};

    use super::*;
    use crate::decoding::decoder::{self, Work};
    use crate::decoding::ready::Ready;
    use crate::decoding::workers::Lane;

    const DEV: Eui64 = Eui64(0x02b0_0900_0000_0001);

    /// With one device, whose model has this decoder.
    fn preparer(script: &str) -> Batcher {
        let directory = Directory::default();
        directory.put_device(DeviceContext {
            dev_eui: DEV,
            estate_id: 1,
            fleet: "tide".into(),
            name: "tide-01".into(),
            model: Some("probe".into()),
            hardware: None,
            firmware: None,
            region: Region::Eu868,
            last_heard: None,
            usual_interval_s: None,
        });
        let readings = [("level".to_owned(), ReadingRule::of_unit("m"))].into();
        let about = PutModel { decoder: Some(script.into()), readings, ..PutModel::default() };
        directory.put_model(1, "probe", crate::decoding::catalogue::loaded(&about, None));
        let directory = Arc::new(directory);
        Batcher {
            directory: Arc::clone(&directory),
            presence: Arc::new(GatewayRegistry::new(&[], crate::gateways::event_log::GatewayLog::new().0)),
            strangers: Arc::default(),
            ingest: Arc::default(),
            quarantined: QuarantinedFrames::beside(std::path::Path::new("/nonexistent")),
            ids: Ids::default(),
            reader: AheadReader::start(directory),
        }
    }

    /// The batch once scripts have decoded all that they were given. On a busy machine, or when a worker has ended,
    /// they are given it again.
    fn finished_when_read(preparer: &Batcher, pending: PendingBatch) -> FinishedBatch {
        let decoder = preparer.directory.decoder(1, "probe", DEV).unwrap();
        let begun = Instant::now();
        while pending.0.iter().any(Part::waits) {
            assert!(begun.elapsed() < Duration::from_secs(60), "scripts are not done");
            (0..300).for_each(|_| decoder.pace.took(Duration::from_micros(50)));
            let ahead = |message: &PendingMessage| match message {
                PendingMessage::Ahead(ahead) => Some(Arc::clone(ahead)),
                PendingMessage::Written { .. } => None,
            };
            preparer.reader.put(pending.0.iter().flat_map(|part| part.messages.iter().filter_map(ahead)).collect());
            std::thread::sleep(Duration::from_millis(20));
        }
        pending.finish(FinishedBatch::default())
    }

    /// An uplink with its counter, as the engine wants it done.
    fn uplink(counter: u32, port: u8) -> [Effect; 2] {
        let modulation = Modulation::lora(7, 125).unwrap();
        let reception = Reception {
            gateway: Eui64(1),
            heard_at: Timestamp(1_790_000_000_000_000 + i64::from(counter)),
            clock_us: 0,
            has_gps: false,
            frequency_hz: 868_100_000,
            modulation,
            rssi_dbm: -90.0,
            snr_db: Some(7.0),
        };
        let event = UplinkEvent {
            dev_eui: DEV,
            dev_addr: DevAddr(7),
            counter,
            port: Some(port),
            confirmed: false,
            adr: false,
            payload: vec![24],
            mac_commands: vec![],
            frame: HeardFrame {
                phy_payload: vec![0x40],
                radio: Radio { frequency_hz: 868_100_000, modulation },
                airtime_us: 46_336,
                heard_by: vec![reception],
            },
            data_rate: Some(5),
            power_dbm: Some(14.0),
            warnings: vec![],
        };
        let counters = Counters { up: Some(counter), ..Counters::default() };
        [Effect::Persist(Change::Counters { dev_eui: DEV, counters }), Effect::Publish(Event::Uplink(Box::new(event)))]
    }

    fn transmission() -> Transmission {
        Transmission {
            id: engine::TransmissionId(1),
            towards: Some(DEV),
            gateway: Eui64(1),
            when: engine::When::AtOnce,
            at: Timestamp(0),
            window: engine::Window::Rx1,
            frequency_hz: 868_100_000,
            modulation: Modulation::lora(7, 125).unwrap(),
            power_dbm: 14,
            airtime_us: 46_336,
            phy_payload: vec![0x60],
        }
    }

    fn output(effects: impl IntoIterator<Item = Effect>, until: i64) -> EngineOutput {
        let mark = Mark { position: 0, processed_until: Timestamp(until) };
        EngineOutput { effects: effects.into_iter().collect(), mark }
    }

    /// Its decoder is known to be quick.
    fn known_to_be_quick(preparer: &Batcher) -> std::sync::MutexGuard<'static, ()> {
        let decoder = preparer.directory.decoder(1, "probe", DEV).unwrap();
        (0..2).for_each(|_| decoder.pace.took(Duration::from_micros(50)));
        let Ok(Ready::Script(script)) = &decoder.ready else { panic!("a script") };
        crate::decoding::workers::quick_for_test(script)
    }

    #[test]
    fn what_is_quickly_decoded_is_stored_and_told_with_its_readings() {
        let mut preparer = preparer("function decodeUplink(i) { return { data: { level: i.bytes[0] / 10 } }; }");
        let _alone = known_to_be_quick(&preparer);
        // Port 0 carries MAC commands.
        let mut pending = preparer.prepare(output(uplink(1, 2).into_iter().chain(uplink(2, 0)), 5));
        pending.coalesce(preparer.prepare(output(uplink(3, 2), 6)));
        let pending = finished_when_read(&preparer, pending);
        assert_eq!((pending.decoded, pending.heard.len(), pending.to_decode.len()), (2, 3, 0));
        let batch = &pending.batch;
        assert_eq!((batch.changes.len(), batch.messages.len(), batch.readings.len()), (3, 3, 2));
        assert_eq!(batch.mark.map(|mark| mark.processed_until), Some(Timestamp(6)));
        let levels: Vec<_> = pending
            .to_publish
            .iter()
            .map(|(_, news)| match &news.message.body {
                Body::Uplink(built) => {
                    built.readings.get("level").map(|level| (level.value.clone(), level.unit.clone()))
                }
                other => panic!("{other:?}"),
            })
            .collect();
        let level = Some((ReadingValue::Number(2.4), Some("m".to_owned())));
        assert_eq!(levels, [level.clone(), None, level]);
    }

    #[test]
    fn a_decoder_of_which_nothing_is_known_is_left_to_others() {
        let mut preparer = preparer("function decodeUplink() { for (;;) {} }");
        let pending = preparer.prepare(output((0..30).flat_map(|n| uplink(n, 2)), 1)).finish(FinishedBatch::default());
        assert_eq!((pending.decoded, pending.to_decode.len(), pending.to_publish.len()), (0, 30, 0));
        assert_eq!(pending.batch.messages.len(), 30, "they are stored all the same");
    }

    #[test]
    fn frames_that_are_only_shown_are_bounded_while_the_database_is_away() {
        let mut preparer = preparer("function decodeUplink() { return { data: {} }; }");
        let mut some = || preparer.prepare(output(uplink(1, 2), 1));
        let one = Arc::clone(&some().finish(FinishedBatch::default()).to_decode[0].written);
        let mut waiting = some();
        for _ in 0..10 {
            let mut more = some();
            more.0[0].live_only = vec![Arc::clone(&one); LIVE_ONLY / 2];
            waiting.coalesce(more);
        }
        let finished = waiting.finish(FinishedBatch::default());
        assert_eq!(finished.live_only.len(), LIVE_ONLY);
        assert_eq!(finished.batch.messages.len(), 11, "what is stored is kept");
    }

    #[test]
    fn a_decoder_that_throws_has_done_its_work() {
        let mut preparer = preparer("function decodeUplink(i) { throw new Error('port ' + i.fPort); }");
        let _alone = known_to_be_quick(&preparer);
        let pending = preparer.prepare(output(uplink(1, 9), 1));
        let pending = finished_when_read(&preparer, pending);
        assert_eq!((pending.decoded, pending.to_decode.len(), pending.batch.readings.len()), (1, 0, 0));
        let Body::Uplink(built) = &pending.to_publish[0].1.message.body else { panic!("no uplink") };
        assert!(built.decode_error.as_deref().is_some_and(|why| why.contains("port 9")), "{:?}", built.decode_error);
    }

    #[test]
    fn a_commit_begins_without_what_a_script_has_not_decoded() {
        let mut preparer =
            preparer("function decodeUplink(i) { if (i.bytes.length) for (;;) {} return { data: {} }; }");
        let _alone = known_to_be_quick(&preparer);
        let decoder = preparer.directory.decoder(1, "probe", DEV).unwrap();
        let pending = preparer.prepare(output((0..30).flat_map(|n| uplink(n, 2)), 1));
        let PendingMessage::Ahead(late) = &pending.0[0].messages[0] else { panic!("not decoded ahead") };
        let late = Arc::clone(late);
        let finished = pending.finish(FinishedBatch::default());
        assert_eq!((finished.decoded, finished.batch.messages.len(), finished.to_decode.len()), (0, 30, 30));
        assert!(finished.batch.messages.iter().all(|stored| stored.decoding == Decoding::Pending));
        // A result that comes after the commit has begun is for the job that decodes the uplink afterwards.
        let Work::Decode { payload, ahead } = &finished.to_decode[0].work else { panic!("it is to be decoded") };
        late.put(&preparer.directory, decoder::call(&decoder, payload.clone(), Lane::Later));
        assert!(late.take().is_none());
        assert!(ahead.as_ref().is_some_and(|ahead| ahead.late().is_some()));
    }

    #[test]
    fn a_commit_leaves_undecoded_uplinks_once_if_there_is_more_to_commit() {
        let mut preparer =
            preparer("function decodeUplink(i) { if (i.bytes.length) for (;;) {} return { data: {} }; }");
        let _alone = known_to_be_quick(&preparer);
        let mut undecoded = |n: u32| preparer.prepare(output(uplink(n, 2), i64::from(n)));
        let (mut pending, second, third) = (undecoded(1), undecoded(2), undecoded(3));
        assert!(pending.leave_undecoded().is_none(), "nothing else is there to commit");
        let mac_only = preparer.prepare(output(uplink(4, 0), 4));
        pending.coalesce(mac_only);
        pending.coalesce(second);
        let mut left = pending.leave_undecoded().expect("the second is undecoded");
        let finished = pending.finish(FinishedBatch::default());
        // The one without a payload is told after the one before it, of the same device.
        assert_eq!((finished.batch.messages.len(), finished.to_decode.len()), (2, 2));
        assert_eq!(finished.batch.mark.map(|mark| mark.processed_until), Some(Timestamp(4)));
        left.coalesce(third);
        let third = left.leave_undecoded().expect("the second has been left once; the third is left now");
        assert_eq!((left.0.len(), third.0.len()), (1, 1));
        assert_eq!(
            left.finish(FinishedBatch::default()).batch.mark.map(|mark| mark.processed_until),
            Some(Timestamp(2))
        );
    }

    #[test]
    fn what_follows_an_undecoded_uplink_of_its_device_is_told_after_it() {
        let mut preparer = preparer("function decodeUplink(i) { return { data: { n: i.bytes[0] } }; }");
        let directory = Arc::clone(&preparer.directory);
        let batch = || FinishedBatch::new(Arc::clone(&directory.outstanding));
        let counter = |written: &WrittenMessage| match &written.message.body {
            Body::Uplink(uplink) => uplink.frame.counter,
            other => panic!("{other:?}"),
        };
        // Nothing is known of the script, so the first is decoded after its commit.
        let mut first = preparer.prepare(output(uplink(1, 2), 1)).finish(batch());
        let mut second = preparer.prepare(output(uplink(2, 0), 2)).finish(batch());
        assert!(first.to_publish.is_empty() && second.to_publish.is_empty());
        let jobs: Vec<DecodeJob> = first.to_decode.drain(..).chain(second.to_decode.drain(..)).collect();
        let mut told = batch();
        jobs.into_iter().for_each(|job| told.add_read(job.read(&directory).unwrap()));
        let told = preparer.prepare(output(uplink(3, 0), 3)).finish(told);
        let counters: Vec<u32> = told.to_publish.iter().map(|(_, written)| counter(written)).collect();
        assert_eq!(counters, [1, 2, 3], "nothing is outstanding any more");
        assert!(told.to_publish.iter().enumerate().all(|(place, (told, _))| place == *told));
    }

    #[test]
    fn only_a_few_rows_with_nothing_to_send_wait_for_more() {
        let mut preparer = preparer("function decodeUplink() { return { data: {} }; }");
        let mut pending = preparer.prepare(output(uplink(1, 0), 1));
        assert!(pending.may_gather());
        pending.coalesce(preparer.prepare(output((0..FEW as u32).flat_map(|n| uplink(n, 0)), 2)));
        assert!(!pending.may_gather(), "they are many");
        let mut answered = preparer.prepare(output(uplink(1, 0), 3));
        answered.0[0].transmissions.push(transmission());
        assert!(!answered.may_gather() && answered.leave_undecoded().is_none(), "an answer does not wait");
    }

    #[test]
    fn outputs_without_uplinks_for_scripts_stay_one_part_while_the_database_is_away() {
        let mut preparer = preparer("function decodeUplink() { return { data: {} }; }");
        let _alone = known_to_be_quick(&preparer);
        let mut waiting = PendingBatch::default();
        for n in 0..1000 {
            waiting.coalesce(preparer.prepare(output([], n)));
        }
        assert_eq!(waiting.0.len(), 1, "an output with nothing but a mark adds no part");
        waiting.coalesce(preparer.prepare(output(uplink(1, 2), 1000)));
        for n in 1001..2000 {
            waiting.coalesce(preparer.prepare(output(uplink(2, 0), n)));
        }
        assert_eq!(waiting.0.len(), 3);
        let finished = waiting.finish(FinishedBatch::default());
        assert_eq!(finished.batch.messages.len(), 1000);
        assert_eq!(finished.batch.mark.map(|mark| mark.processed_until), Some(Timestamp(1999)));
    }
}
