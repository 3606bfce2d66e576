//! What must hold whatever happens: in a busy network with failing gateways, and over a crash at any
//! moment.

use std::collections::{BTreeMap, BTreeSet};

use engine::*;
use lorawan::Eui64;
use lorawan::region::Region;
use lorawan::wire::{DataView, Frame, JoinAccept, UplinkFlags};
use proptest::prelude::*;

use crate::world::*;

/// One thing that happens.
#[derive(Debug, Clone)]
enum Step {
    Join,
    Uplink { confirmed: bool, ack: bool, sf: u8, near: bool, far: bool },
    Enqueue { len: usize, confirmed: bool },
    Report { oldest: bool, good: bool },
    Pass { ms: i64 },
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        1 => Just(Step::Join),
        6 => (any::<bool>(), any::<bool>(), 7u8..=12, any::<bool>(), any::<bool>())
            .prop_map(|(confirmed, ack, sf, near, far)| Step::Uplink { confirmed, ack, sf, near, far }),
        4 => (0usize..120, any::<bool>()).prop_map(|(len, confirmed)| Step::Enqueue { len, confirmed }),
        5 => (any::<bool>(), any::<bool>()).prop_map(|(oldest, good)| Step::Report { oldest, good }),
        4 => (0i64..20_000).prop_map(|ms| Step::Pass { ms }),
    ]
}

/// Drives a world through steps and keeps all effects.
struct Drive {
    world: World,
    session: Option<Joined>,
    nonce: u16,
    next_item: u128,
    unreported: Vec<TransmissionId>,
    all: Vec<Effect>,
}

impl Drive {
    fn new() -> Self {
        let mut world = World::new();
        world.effects.clear();
        Self { world, session: None, nonce: 0, next_item: 1, unreported: vec![], all: vec![] }
    }

    /// Moves what has come out to the whole list.
    fn collect(&mut self) {
        for effect in std::mem::take(&mut self.world.effects) {
            if let Effect::Transmit(transmission) = &effect {
                self.unreported.push(transmission.id);
                if let (Ok(Frame::JoinAccept(bytes)), None) = (Frame::parse(&transmission.phy_payload), &self.session) {
                    let accept = JoinAccept::open(bytes, &KEY).unwrap();
                    self.session = Some(Joined::from_accept(&accept, self.nonce));
                }
            }
            self.all.push(effect);
        }
    }

    fn take(&mut self, step: &Step) {
        match step {
            Step::Join => {
                self.nonce += 1;
                self.session = None;
                self.world.send(&World::join_request(self.nonce));
            }
            Step::Uplink { confirmed, ack, sf, near, far } => {
                let Some(session) = self.session.as_mut() else { return };
                let flags = UplinkFlags { ack: *ack, ..UplinkFlags::default() };
                let frame = session.uplink(&[1, 2, 3], flags, *confirmed);
                self.world.sf = *sf;
                for (heard, gateway) in [(near, NEAR), (far, FAR)] {
                    if *heard {
                        self.world.hear(&frame, gateway, 5.0);
                    }
                }
                self.world.pass(SECOND / 4);
                self.world.sf = 7;
            }
            Step::Enqueue { len, confirmed } => {
                let item = item(self.next_item, &vec![7; *len], *confirmed);
                self.next_item += 1;
                self.world.command(Command::Enqueue { dev_eui: DEV, item });
            }
            Step::Report { oldest, good } => {
                if self.unreported.is_empty() {
                    return;
                }
                let at = if *oldest { 0 } else { self.unreported.len() - 1 };
                let id = self.unreported.remove(at);
                let result = if *good { Ok(()) } else { Err(TxFailure::CollisionPacket) };
                self.world.report(id, result);
            }
            Step::Pass { ms } => self.world.pass(ms * 1000),
        }
        self.collect();
    }
}

/// What a database holds after these changes, as the engine gets it back.
fn stored(changes: &[Effect]) -> DeviceRecord {
    let mut record = DeviceRecord::new(device(DEV));
    let mut outbox: BTreeMap<u128, (OutboxState, u8)> = BTreeMap::new();
    for effect in changes {
        let Effect::Persist(change) = effect else { continue };
        match change.clone() {
            Change::Session { session, begun: false, .. } => record.next_session = Some(*session),
            Change::Session { session, begun: true, .. } => record.session = Some(*session),
            Change::Nonces { nonces, .. } => record.nonces = nonces,
            Change::Began { counters, .. } => {
                record.session = record.next_session.take();
                record.session.as_mut().expect("what begins was agreed upon").counters = counters;
            }
            Change::Ended { nonces, .. } => {
                (record.session, record.next_session) = (None, None);
                if nonces {
                    record.nonces.used_dev_nonces.clear();
                }
            }
            Change::Counters { counters, .. } => {
                record.session.as_mut().expect("counters follow a session").counters = counters;
            }
            Change::Settings { settings, .. } => {
                record.session.as_mut().expect("settings are a session's").settings = *settings;
            }
            Change::Outbox { id, state, attempts, .. } => {
                outbox.insert(id.0, (state, attempts));
            }
            Change::Near { class, near, .. } => (record.class, record.near) = (Some(class), near),
            Change::GroupCounter { .. } | Change::Airtime { .. } => {}
        }
    }
    let open = outbox.into_iter().filter(|(_, (state, _))| !state.is_final());
    record.outbox =
        open.map(|(id, (state, attempts))| OutboxItem { attempts, state, ..item(id, &[7], false) }).collect();
    record
}

/// Address and low counter of every data frame that left, and what it was.
fn sent_frames(effects: &[Effect]) -> Vec<((u32, u16), Vec<u8>)> {
    let frames = effects.iter().filter_map(|e| match e {
        Effect::Transmit(t) => Some(&t.phy_payload),
        _ => None,
    });
    frames
        .filter_map(|bytes| {
            let view = DataView::new_checked(bytes).ok()?;
            Some(((view.dev_addr().0, view.counter_low()), bytes.clone()))
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// A counter belongs to one frame for ever: trying another window sends the same bytes again,
    /// anything else would give the key stream away.
    #[test]
    fn a_counter_is_used_for_one_frame_only(steps in proptest::collection::vec(step(), 1..60)) {
        let mut drive = Drive::new();
        steps.iter().for_each(|s| drive.take(s));
        let mut seen = BTreeMap::new();
        for (counter, bytes) in sent_frames(&drive.all) {
            prop_assert!(seen.entry(counter).or_insert_with(|| bytes.clone()) == &bytes, "{:?}", counter);
        }
    }

    /// The process dies after any effect; what was durable by then is put into a new engine. Nothing
    /// it sends may repeat a counter that had left before.
    #[test]
    fn a_crash_at_any_moment_repeats_nothing(steps in proptest::collection::vec(step(), 1..40), cut in 0.0f64..1.0) {
        let mut drive = Drive::new();
        steps.iter().for_each(|s| drive.take(s));
        let cut = (drive.all.len() as f64 * cut) as usize;
        let before = &drive.all[..cut];
        let left: BTreeSet<_> = sent_frames(before).into_iter().map(|(counter, _)| counter).collect();

        let record = stored(before);
        let mut after = World::new();
        after.now = drive.world.now;
        let session = record.session.clone();
        after.command(Command::RestoreDevice(Box::new(record)));
        after.effects.clear();
        if let Some(session) = session {
            let mut mine = Joined::from_session(&session);
            for _ in 0..3 {
                after.send(&mine.uplink(&[9], UplinkFlags::default(), true));
                after.pass(5 * SECOND);
            }
            let again: Vec<_> = sent_frames(&after.effects).into_iter().map(|(counter, _)| counter).collect();
            prop_assert_eq!(again.len(), 3, "the session goes on");
            prop_assert!(again.iter().all(|counter| !left.contains(counter)), "{:?} in {:?}", again, left);
        }
    }

    /// No gateway goes beyond a sub-band's allowance, and none sends two frames at once.
    #[test]
    fn gateways_stay_within_the_law(steps in proptest::collection::vec(step(), 1..80)) {
        let mut drive = Drive::new();
        steps.iter().for_each(|s| drive.take(s));
        let plan = Region::Eu868.plan();
        for gateway in [NEAR, FAR] {
            let status = drive.world.engine.gateway_status(gateway, drive.world.now).unwrap();
            for band in status.airtime {
                prop_assert!(band.airtime_us <= band.sub_band.hourly_allowance_us());
            }
        }
        for effect in &drive.all {
            let Effect::Transmit(t) = effect else { continue };
            let band = plan.sub_band(t.frequency_hz).expect("a lawful frequency");
            prop_assert!(t.power_dbm as f32 + 2.0 <= band.gateway_eirp_dbm);
        }
    }

    /// Every downlink added is either still there or has ended in exactly one way.
    #[test]
    fn no_downlink_is_lost_or_ends_twice(steps in proptest::collection::vec(step(), 1..80)) {
        let mut drive = Drive::new();
        steps.iter().for_each(|s| drive.take(s));
        let mut ends: BTreeMap<u128, usize> = BTreeMap::new();
        let mut known = BTreeSet::new();
        for effect in &drive.all {
            if let Effect::Persist(Change::Outbox { id, state, attempts, .. }) = effect {
                known.insert(id.0);
                prop_assert!(*attempts <= MAX_ATTEMPTS);
                prop_assert!(!ends.contains_key(&id.0), "{:?} moved on after its end", id);
                if state.is_final() {
                    *ends.entry(id.0).or_default() += 1;
                }
            }
        }
        prop_assert_eq!(known.len() as u128, drive.next_item - 1);
    }
}

/// A day of a busy sluice: every uplink is answered as long as the gateway may speak, and not longer.
#[test]
fn a_day_in_a_second_keeps_the_duty_cycle() {
    let mut world = World::empty(3);
    world.command(Command::PutGateway(GatewayConfig::new(NEAR, Region::Eu868, 2.0)));
    world.command(Command::PutDevice(Box::new(device(DEV))));
    let mut session = world.join(1);
    world.sf = 10;
    let (mut sent_us, mut frames) = (BTreeMap::<(Eui64, &str, i64), u64>::new(), 0);
    for _ in 0..24 * 360 {
        world.hear(&session.uplink(&[1], UplinkFlags::default(), true), NEAR, 1.0);
        world.pass(10 * SECOND);
        for t in world.transmissions() {
            let band = Region::Eu868.plan().sub_band(t.frequency_hz).unwrap();
            let hour = t.at.minute() / 60;
            *sent_us.entry((t.gateway, band.name, hour)).or_default() += t.airtime_us;
            frames += 1;
            world.report(t.id, Ok(()));
        }
        world.effects.clear();
    }
    // SF10 acknowledgements of 12 bytes take 247.808 ms: 145 an hour in sub-band M, then sub-band P at
    // SF12 takes over with 0.991 s each.
    assert_eq!(frames, 24 * 360, "every one of them was acknowledged, in one window or the other");
    for ((_, band, _), us) in &sent_us {
        let limit = if *band == "M" { 36_000_000 } else { 360_000_000 };
        assert!(*us <= limit, "{band}: {us} µs in an hour");
    }
    assert!(sent_us.keys().any(|(_, band, _)| *band == "P"), "the allowance of M was used up");
}
