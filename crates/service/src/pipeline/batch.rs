//! From what the engine wants done to what one transaction writes: messages are told, made into rows, and
//! decoded if that is quickly done. All this happens while the transaction before is under way.
//!
//! A reading that is there when its uplink is stored costs the database next to nothing; one that comes later
//! makes it write the whole uplink again. So decoders that are known to be quick are run here. The others
//! have threads of their own: nobody's answers wait for them.

use std::sync::Arc;
use std::time::Duration;

use engine::{Effect, Event, FrameHeard, Reception, RefusedEvent, Timestamp, Transmission};
use payload::Decoded;
use store::{Batch, Decoding, StoreError, StoredMessage, WrittenMessage};
use ulid::Generator;

use crate::clock;
use crate::decoding::decoder;
use crate::decoding::decoder::DecodeJob;
use crate::decoding::totals::Totals;
use crate::gateways::registry::GatewayRegistry;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::ingest::stats::IngestStats;
use crate::ingest::strangers::Strangers;
use crate::pipeline::directory::Directory;
use crate::pipeline::mailbox::{Coalesce, EngineOutput, Mailbox};
use crate::pipeline::message::{BuiltMessage, MessageBuilder};

/// The time for decoders in one batch of any size; uplinks left over are decoded later.
const DECODING: Duration = Duration::from_millis(20);
/// And this for each of its effects: a large batch takes its time anyway.
const DECODING_EACH: Duration = Duration::from_micros(10);
/// Rows and frames that wait for the database before nothing more is prepared.
const ROOM: usize = 20_000;

/// Messages that are only shown, and wait for what is before them to be durable.
const LIVE_ONLY: usize = 2_000;

/// The rows of one transaction, and the effects once it is durable.
#[derive(Default)]
pub(crate) struct PendingBatch {
    pub batch: Batch,
    /// When the first copies of the uplinks in it were heard.
    pub heard: Vec<Timestamp>,
    /// How many of the uplinks have been decoded.
    pub decoded: usize,
    pub transmissions: Vec<Transmission>,
    pub to_decode: Vec<DecodeJob>,
    pub to_publish: Vec<Arc<WrittenMessage>>,
    /// What goes to the live stream and is stored nowhere, such as frames of unknown devices.
    pub live_only: Vec<Arc<WrittenMessage>>,
}

impl Coalesce for PendingBatch {
    fn coalesce(&mut self, mut later: Self) {
        self.batch.append(later.batch);
        self.heard.append(&mut later.heard);
        self.decoded += later.decoded;
        self.transmissions.append(&mut later.transmissions);
        self.to_decode.append(&mut later.to_decode);
        self.to_publish.append(&mut later.to_publish);
        self.live_only.append(&mut later.live_only);
        // Listeners miss some of them: live messages are not promised.
        self.live_only.truncate(LIVE_ONLY);
    }

    fn full(&self) -> bool {
        self.batch.changes.len() + self.batch.messages.len() >= ROOM
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
            ids: self.ids.now(),
        };
        let mut pending = PendingBatch::default();
        pending.batch.mark = Some(output.mark);
        let decoding = DECODING + DECODING_EACH * u32::try_from(output.effects.len()).unwrap_or(u32::MAX);
        let (mut all_built, mut shown): (Vec<BuiltMessage>, usize) = (Vec::new(), 0);
        for effect in output.effects {
            match effect {
                Effect::Persist(change) => pending.batch.changes.push(change),
                Effect::Transmit(transmission) => pending.transmissions.push(transmission),
                Effect::Publish(event) => {
                    if let Event::Uplink(uplink) = &event {
                        pending.heard.extend(uplink.frame.heard_by.iter().map(|copy| copy.heard_at).min());
                    }
                    count(&event, &self.ingest, &self.quarantined);
                    let Some(built) = builder.tell(event) else { continue };
                    shown += usize::from(!built.keep);
                    if !built.keep && shown > LIVE_ONLY {
                        self.ingest.not_shown();
                        continue;
                    }
                    all_built.push(built);
                }
            }
        }
        let to_read: Vec<_> = all_built.iter().map(|built| built.to_read.as_ref()).collect();
        let read = decoder::read_quickly(&to_read, decoding);
        for (built, read) in all_built.into_iter().zip(read) {
            if let Err(error) = pending.take(built, &self.directory.totals, read) {
                tracing::error!("a message cannot be written down: {error}");
            }
        }
        pending
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

/// Makes message identifiers, which sort by time. After the clock was set back they do not stay in the future.
#[derive(Default)]
pub(crate) struct Ids {
    generator: Generator,
    newest_ms: u64,
}

/// The generator keeps its identifiers in order across this.
const SMALL_STEP_MS: u64 = 2_000;

impl Ids {
    fn now(&mut self) -> &mut Generator {
        let now_ms = u64::try_from(clock::utc().timestamp_millis()).unwrap_or(0);
        if now_ms + SMALL_STEP_MS < self.newest_ms {
            self.generator = Generator::new();
            self.newest_ms = 0;
        }
        self.newest_ms = self.newest_ms.max(now_ms);
        &mut self.generator
    }
}

impl PendingBatch {
    /// Takes a message, with its decoder's result if that is known already.
    fn take(
        &mut self,
        built: BuiltMessage,
        totals: &Totals,
        read: Option<Result<Decoded, String>>,
    ) -> Result<(), StoreError> {
        let BuiltMessage { estate_id, mut message, to_read, activity, keep } = built;
        self.batch.activity.extend(activity);
        let (left, decoding) = match (to_read, read) {
            (Some(uplink), Some(read)) => {
                let found = decoder::write_down(totals, &uplink.decoder, &mut message, read);
                self.batch.readings.extend(found.readings);
                self.batch.failures.extend(found.failure);
                self.decoded += 1;
                (None, Decoding::None)
            }
            (Some(uplink), None) => (Some(uplink.payload), Decoding::Pending),
            (None, _) => (None, Decoding::None),
        };
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        if keep {
            self.batch.messages.push(StoredMessage { written: Arc::clone(&written), decoding });
        }
        match left {
            Some(payload) => self.to_decode.push(DecodeJob { written, payload }),
            None if keep => self.to_publish.push(written),
            None => self.live_only.push(written),
        }
        Ok(())
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
    use store::{DeviceContext, Mark};

    use super::*;
    use crate::decoding::ready::Ready;

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
        Batcher {
            directory: Arc::new(directory),
            presence: Arc::new(GatewayRegistry::new(&[], crate::gateways::event_log::GatewayLog::new().0)),
            strangers: Arc::default(),
            ingest: Arc::default(),
            quarantined: QuarantinedFrames::beside(std::path::Path::new("/nonexistent")),
            ids: Ids::default(),
        }
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
            warnings: vec![],
        };
        let counters = Counters { up: Some(counter), ..Counters::default() };
        [Effect::Persist(Change::Counters { dev_eui: DEV, counters }), Effect::Publish(Event::Uplink(Box::new(event)))]
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
        assert_eq!((pending.decoded, pending.heard.len(), pending.to_decode.len()), (2, 3, 0));
        let batch = &pending.batch;
        assert_eq!((batch.changes.len(), batch.messages.len(), batch.readings.len()), (3, 3, 2));
        assert_eq!(batch.mark.map(|mark| mark.processed_until), Some(Timestamp(6)));
        let levels: Vec<_> = pending
            .to_publish
            .iter()
            .map(|news| match &news.message.body {
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
        let pending = preparer.prepare(output((0..30).flat_map(|n| uplink(n, 2)), 1));
        assert_eq!((pending.decoded, pending.to_decode.len(), pending.to_publish.len()), (0, 30, 0));
        assert_eq!(pending.batch.messages.len(), 30, "they are stored all the same");
    }

    #[test]
    fn frames_that_are_only_shown_are_bounded_while_the_database_is_away() {
        let mut preparer = preparer("function decodeUplink() { return { data: {} }; }");
        let some = |preparer: &mut Batcher| preparer.prepare(output(uplink(1, 2), 1));
        let mut waiting = some(&mut preparer);
        for _ in 0..10 {
            let mut more = some(&mut preparer);
            let one = more.to_publish.first().cloned().unwrap_or_else(|| Arc::clone(&more.to_decode[0].written));
            more.live_only = vec![one; LIVE_ONLY / 2];
            waiting.coalesce(more);
        }
        assert_eq!(waiting.live_only.len(), LIVE_ONLY);
        assert_eq!(waiting.batch.messages.len(), 11, "what is stored is kept");
    }

    #[test]
    fn a_decoder_that_throws_has_done_its_work() {
        let mut preparer = preparer("function decodeUplink(i) { throw new Error('port ' + i.fPort); }");
        let _alone = known_to_be_quick(&preparer);
        let pending = preparer.prepare(output(uplink(1, 9), 1));
        assert_eq!((pending.decoded, pending.to_decode.len(), pending.batch.readings.len()), (1, 0, 0));
        let Body::Uplink(built) = &pending.to_publish[0].message.body else { panic!("no uplink") };
        assert!(built.decode_error.as_deref().is_some_and(|why| why.contains("port 9")), "{:?}", built.decode_error);
    }
}
