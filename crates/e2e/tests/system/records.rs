//! The store on a real database: what is written is what comes back, however often it is written.

use domain::Check;
use domain::device::register;
use domain::device::state::{StateEvidence, device_state};
use std::collections::BTreeMap;
use std::sync::Arc;

use api::device::DeviceState;
use api::device::register::NewDevice;
use api::gateway::{GatewayAbout, NewGateway};
use api::message::{Body, Evidence, Message, Reading, ReadingValue, RefusalNote};
use api::model::PutModel;
use api::reading::ReadingRule;
use chrono::{DateTime, TimeDelta, Utc};
use domain::device::change::DevicePatch;
use domain::device::register::{EstateDefaults, RegistrationContext};
use e2e::mariadb::MariaDb;
use engine::{
    Activation, AdrAck, Change, Command, Counters, DeviceRecord, Nonces, OutboxId, OutboxItem, OutboxState, Policy,
    RadioProfile, RejoinTimes, Session, Settings, Timestamp, Transmitter, Wait,
};
use lorawan::crypto::SessionKeys;
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64};
use store::{
    Activity, Batch, Claim, Decoding, DeviceCursor, DeviceOrder, DeviceQuery, MOST_SERIES, Mark, MessageQuery, Saved,
    Secrets, Store, StoreError, StoredMessage, StoredReading, Vault, Writer, WrittenMessage,
};
use tokio::sync::Mutex;

const DEV: Eui64 = Eui64(0x02b0_0900_0000_0001);
const GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_0001);

/// Records, and the one who commits to them.
struct Records {
    store: Store,
    writer: Mutex<Writer>,
}

impl std::ops::Deref for Records {
    type Target = Store;

    fn deref(&self) -> &Store {
        &self.store
    }
}

impl Records {
    async fn commit(&self, batch: &Batch) -> Result<(), StoreError> {
        self.writer.lock().await.commit(batch).await
    }
}

fn claim(process: u32) -> Claim {
    Claim { holder: format!("test {process}"), machine: "here".into(), process, started: 1 }
}

/// A database with one estate, fleet, model, gateway and device.
async fn records() -> (Records, u32) {
    records_in(&format!("heron_{:016x}", rand::random::<u64>())).await
}

async fn records_in(database: &str) -> (Records, u32) {
    let url = MariaDb::shared().url(database);
    let store = Store::open(&url, Vault::from_key([5; 32])).await.unwrap();
    assert!(store.nobody_yet().await.unwrap());
    store.found_first("tarnsey", "Tarnsey", "owner", "$hash").await.unwrap();
    let (owner, _) = store.person("owner").await.unwrap().unwrap();
    let estate = store.memberships(owner.id, None).await.unwrap().remove(0).estate_id;
    store.add_fleet(estate, "tide", "Tide", Policy::default()).await.unwrap();
    let readings = BTreeMap::from([("level".to_owned(), ReadingRule::of_unit("m"))]);
    let model = PutModel { maker: "M".into(), name: "N".into(), readings, ..PutModel::default() };
    store.put_model(estate, "probe", &model, None, Saved { by: "ada", note: "" }).await.unwrap();
    store.add_gateways(estate, &[&gateway("chapel-rise", GATEWAY)]).await.unwrap();
    store.add_devices(estate, &[&device("tide-01", DEV)]).await.unwrap();
    let lease = store.take_lease(&claim(1), None).await.unwrap();
    (Records { writer: Mutex::new(Writer::new(store.clone(), lease)), store }, estate)
}

fn gateway(name: &str, eui: Eui64) -> domain::gateway::check::CheckedGateway {
    let about = GatewayAbout {
        name: name.into(),
        latitude_deg: Some(54.712),
        antenna_gain_dbi: Some(4.0),
        ..GatewayAbout::default()
    };
    let new = NewGateway { eui: eui.to_string(), about };
    new.check().unwrap()
}

fn device(name: &str, dev_eui: Eui64) -> domain::device::register::CheckedDevice {
    let new = NewDevice {
        dev_eui: dev_eui.to_string(),
        join_eui: "02aa000000000001".into(),
        app_key: Some("7d14b209e65a813cf0279b4ed8631ac5".into()),
        name: name.into(),
        fleet: "tide".into(),
        model: Some("probe".into()),
        ..NewDevice::default()
    };
    let defaults = EstateDefaults {
        fleets: [("tide".into(), None)].into(),
        models: [("probe".to_owned(), Default::default())].into(),
        ..EstateDefaults::default()
    };
    let mut random = || [0; 16];
    let mut estate = RegistrationContext {
        defaults: &defaults,
        net_id: lorawan::NetId::new(0),
        taken: &|_| false,
        preview: false,
        random: &mut random,
    };
    register::check(&new, &mut estate).unwrap()
}

fn session(next_down: u32) -> Session {
    Session {
        dev_addr: DevAddr(0x0012_3456),
        keys: SessionKeys { nwk_s_key: AesKey([1; 16]), app_s_key: AesKey([2; 16]) }.into(),
        speaks_1_1: false,
        counters: Counters { next_down, ..Counters::default() },
        settings: Settings::assumed(&RadioProfile::of(Region::Eu868)),
        joined_at: Timestamp(1_790_000_000_000_000),
    }
}

/// A join with this nonce: the session is agreed upon, and has not begun.
fn joined(dev_nonce: u16) -> Vec<Change> {
    let nonces =
        Nonces { used_dev_nonces: vec![dev_nonce], next_join_nonce: u32::from(dev_nonce) + 1, rj_count_1: Some(3) };
    vec![
        Change::Nonces { dev_eui: DEV, dev_nonce: Some(dev_nonce), nonces },
        Change::Session { dev_eui: DEV, session: Box::new(session(0)), begun: false },
    ]
}

fn began() -> Change {
    Change::Began { dev_eui: DEV, counters: Counters::default() }
}

fn counted(up: u32, next_down: u32) -> Counters {
    Counters { up: Some(up), last_mic: [9; 4], next_down, confirmed_down: Some(4), ..Counters::default() }
}

fn counters(up: u32, next_down: u32) -> Change {
    Change::Counters { dev_eui: DEV, counters: counted(up, next_down) }
}

async fn restored(store: &Store) -> DeviceRecord {
    let state = store.engine_state(Timestamp(1_790_000_000_000_000)).await.unwrap();
    let mut records = state.into_iter().filter_map(|c| match c {
        Command::RestoreDevice(record) => Some(*record),
        _ => None,
    });
    records.next().unwrap()
}

#[tokio::test]
async fn the_engine_gets_back_what_was_committed() {
    let (store, _) = records().await;
    let fresh = restored(&store).await;
    assert_eq!((fresh.session, fresh.nonces), (None, Nonces::default()));
    let Activation::OverTheAir(root) = fresh.config.activation else { panic!("a device that joins") };
    assert_eq!(root.app_key.to_hex(), "7d14b209e65a813cf0279b4ed8631ac5", "sealed and opened again");

    let minute = Timestamp(1_790_000_000_000_000).minute();
    let airtime = |airtime_us, frames| Change::Airtime {
        transmitter: Transmitter::Gateway(GATEWAY),
        sub_band: "M",
        minute,
        airtime_us,
        frames,
    };
    let mut changes = joined(7);
    changes.extend([began(), counters(3, 1), airtime(50_000, 1), counters(4, 2), airtime(90_000, 2)]);
    let batch = Batch { changes, ..Batch::default() };
    // A commit whose answer was lost is tried again: twice must be as good as once.
    store.commit(&batch).await.unwrap();
    store.commit(&batch).await.unwrap();
    let record = restored(&store).await;
    assert_eq!(record.session, Some(Session { counters: counted(4, 2), ..session(0) }));
    assert_eq!(record.next_session, None, "it has begun");
    let nonces = Nonces { used_dev_nonces: vec![7], next_join_nonce: 8, rj_count_1: Some(3) };
    assert_eq!(record.nonces, nonces);
    let state = store.engine_state(Timestamp(1_790_000_000_000_000)).await.unwrap();
    let account = state.iter().find_map(|c| match c {
        Command::RestoreAirtime { used, sub_band, .. } => Some((used.airtime_us, used.frames, sub_band.as_str())),
        _ => None,
    });
    assert_eq!(account, Some((90_000, 2, "M")), "the last word on a minute counts");
    let later = store.engine_state(Timestamp((minute + 25 * 60) * 60_000_000)).await.unwrap();
    assert!(
        !later.iter().any(|c| matches!(c, Command::RestoreAirtime { .. })),
        "what is older than a day is not asked for"
    );
}

#[tokio::test]
async fn a_new_session_is_not_overwritten_by_the_counters_of_the_old_one() {
    let (store, _) = records().await;
    let commit = async |changes| store.commit(&Batch { changes, ..Batch::default() }).await.unwrap();
    commit([joined(1), vec![began(), counters(500, 40)], joined(2)].concat()).await;
    let record = restored(&store).await;
    assert_eq!(record.session, Some(Session { counters: counted(500, 40), ..session(0) }), "the old one goes on");
    assert_eq!(record.next_session, Some(session(0)));
    assert_eq!(record.nonces.used_dev_nonces, [1, 2]);
    commit(vec![counters(501, 41), began()]).await;
    let record = restored(&store).await;
    assert_eq!((record.session, record.next_session), (Some(session(0)), None));
    commit(vec![began(), counters(0, 1)]).await;
    assert_eq!(restored(&store).await.session.unwrap().counters.next_down, 1, "to begin twice changes nothing");

    let faster = Settings { rx_delay_s: 5, ..session(0).settings };
    commit(vec![Change::Settings { dev_eui: DEV, settings: Box::new(faster) }]).await;
    assert_eq!(restored(&store).await.session.unwrap().settings, faster);
}

#[tokio::test]
async fn outbox_items_come_back_as_they_stood() {
    let (store, _) = records().await;
    let put = async |id: u128, confirmed: bool| {
        let item = OutboxItem {
            id: OutboxId(id),
            port: 10,
            payload: vec![id as u8, 0xff],
            confirmed,
            attempts: 0,
            max_attempts: Some(7),
            expires_at: Some(Timestamp(1_790_000_100_000_000)),
            place: id as i64 * 10,
            reference: Some(format!("tide-{id}")),
            state: OutboxState::Waiting(Wait::Join),
        };
        store.add_outbox_item(DEV, &item).await.unwrap();
    };
    let placed =
        |id: u128, state, attempts, place| Change::Outbox { dev_eui: DEV, id: OutboxId(id), state, attempts, place };
    let moved = |id: u128, state, attempts| placed(id, state, attempts, id as i64 * 10);
    for (id, confirmed) in [(1, false), (2, true), (3, false), (4, false)] {
        put(id, confirmed).await;
    }
    let again = Wait::Again("the gateway refused: TOO_LATE; tried again".into());
    let mut changes = joined(1);
    changes.extend([
        moved(1, OutboxState::UnderWay, 1),
        moved(1, OutboxState::Waiting(again.clone()), 1),
        moved(2, OutboxState::AwaitingAck(17), 1),
        moved(3, OutboxState::Sent, 1),
    ]);
    store.commit(&Batch { changes, ..Batch::default() }).await.unwrap();
    let states: Vec<_> = restored(&store).await.outbox.into_iter().map(|i| (i.id.0, i.attempts, i.state)).collect();
    assert_eq!(
        states,
        [
            (1, 1, OutboxState::Waiting(again)),
            (2, 1, OutboxState::AwaitingAck(17)),
            (4, 0, OutboxState::Waiting(Wait::NextUplink)),
        ],
        "what is done stays behind"
    );
    assert_eq!(store.outbox_open(DEV).await.unwrap(), 3);
    let page = store.outbox(DEV, None, 2).await.unwrap();
    assert_eq!(page.iter().map(|i| i.payload.as_str()).collect::<Vec<_>>(), ["04ff", "03ff"], "newest first");
    let changes = vec![placed(4, OutboxState::Waiting(Wait::NextUplink), 0, 15)];
    store.commit(&Batch { changes, ..Batch::default() }).await.unwrap();
    let line: Vec<_> = restored(&store).await.outbox.into_iter().map(|i| i.id.0).collect();
    assert_eq!(line, [1, 4, 2], "in the order of their places");
    let (waiting, next) = store.next_in_outbox(DEV).await.unwrap().unwrap();
    assert_eq!((waiting, next.payload.as_str(), next.attempts), (2, "01ff", 1));
    assert!(next.note.unwrap().contains("TOO_LATE"), "it says what it waits for itself");
    assert_eq!(store.next_in_outbox(Eui64(1)).await.unwrap(), None);
}

fn message(id: u64, body: Body) -> Message {
    Message {
        id: format!("{id:026}"),
        time: DateTime::from_timestamp_millis(1_790_000_000_000).unwrap(),
        estate: "tarnsey".into(),
        fleet: Some("tide".into()),
        device: Some(api::message::DeviceRef { eui: DEV, name: "tide-01".into(), model: None }),
        body,
    }
}

fn uplink(id: u64) -> Message {
    let json = serde_json::json!({
        "type": "uplink", "frame": { "counter": id, "port": 2, "confirmed": false, "payload": "00" },
        "readings": {}, "radio": { "region": "EU868", "data_rate": 5, "frequency_mhz": 868.1, "airtime_ms": 46.3 },
        "heard_by": [], "warnings": []
    });
    message(id, serde_json::from_value(json).unwrap())
}

fn stored(estate_id: store::EstateId, message: Message, decoding: Decoding) -> StoredMessage {
    StoredMessage { written: Arc::new(WrittenMessage::new(estate_id, message).unwrap()), decoding }
}

#[tokio::test]
async fn the_history_is_paged_filtered_and_decoded_later() {
    let (store, estate) = records().await;
    let stored = |m: &Message, decoding| stored(estate, m.clone(), decoding);
    let messages: Vec<_> = (1..=2500)
        .map(|id| stored(&uplink(id), if id % 2 == 0 { Decoding::Pending } else { Decoding::None }))
        .collect();
    store.commit(&Batch { messages, ..Batch::default() }).await.unwrap();
    let all = MessageQuery::default();
    let first = store.messages(estate, &all, 3).await.unwrap();
    assert_eq!(first, [uplink(2500), uplink(2499), uplink(2498)]);
    let next = store
        .messages(
            estate,
            &MessageQuery {
                device: Some(DEV),
                kinds: vec!["uplink".into()],
                after: Some(first[2].id.clone()),
                ..all.clone()
            },
            1,
        )
        .await
        .unwrap();
    assert_eq!(next, [uplink(2497)]);
    assert_eq!(
        store.messages(estate, &MessageQuery { kinds: vec!["join".into()], ..all.clone() }, 10).await.unwrap(),
        []
    );
    assert_eq!(store.messages(estate, &MessageQuery { device: Some(Eui64(1)), ..all.clone() }, 10).await.unwrap(), []);
    assert_eq!(store.messages_since(estate, &uplink(2499).id, 10).await.unwrap(), [uplink(2500)]);

    let left = store.undecoded(2000).await.unwrap();
    assert_eq!((left.len(), &left[0].message), (1250, &uplink(2)), "oldest first");
    let mut decoded = uplink(2);
    let level = Reading { unit: Some("m".into()), ..Reading::of(ReadingValue::Number(2.4)) };
    let Body::Uplink(body) = &mut decoded.body else { unreachable!() };
    body.readings.insert("level".into(), level.clone());
    let at = decoded.time;
    let reading = |value: f64, time| StoredReading {
        dev_eui: DEV,
        name: "level".into(),
        reading: Reading { value: ReadingValue::Number(value), ..level.clone() },
        time,
        counted: None,
    };
    // The older uplink is decoded after the newer one.
    let readings = vec![reading(2.5, at + TimeDelta::seconds(60)), reading(2.4, at)];
    let batch = Batch { messages: vec![stored(&decoded, Decoding::Done)], readings, ..Batch::default() };
    store.commit(&batch).await.unwrap();
    assert_eq!(store.undecoded(1).await.unwrap()[0].message, uplink(4));
    assert_eq!(store.messages_since(estate, &uplink(1).id, 1).await.unwrap(), [decoded]);
    let last = store.last_readings(DEV).await.unwrap();
    assert_eq!(last["level"].reading.value, ReadingValue::Number(2.5));
}

#[tokio::test]
async fn messages_that_a_kill_parted_from_their_state_are_taken_back_and_no_others() {
    let database = format!("heron_{:016x}", rand::random::<u64>());
    let (store, estate) = records_in(&database).await;
    let newest = || async { store.messages(estate, &MessageQuery::default(), 1).await.unwrap().remove(0) };
    // A mark without a message takes nothing back.
    let marked = |until, messages| {
        let mark = Mark { position: 7, processed_until: Timestamp(until) };
        Batch { mark: Some(mark), messages, ..Batch::default() }
    };
    let written = |ids: std::ops::RangeInclusive<u64>| -> Vec<_> {
        ids.map(|id| stored(estate, uplink(id), Decoding::Pending)).collect()
    };
    store.commit(&marked(1, vec![])).await.unwrap();
    assert_eq!(store.take_back_untold().await.unwrap(), 0);
    // A small group and a large one, which is written beside its state.
    store.commit(&marked(2, written(1..=3))).await.unwrap();
    store.commit(&marked(3, written(4..=1500))).await.unwrap();
    store.commit(&marked(4, vec![])).await.unwrap();
    assert_eq!((store.take_back_untold().await.unwrap(), newest().await), (0, uplink(1500)));

    // A group whose state did not follow; what was written by a clock that was ahead is older and stays.
    let beyond = format!(
        "INSERT INTO messages (id, estate_id, dev_eui, kind, body) SELECT '{0}', estate_id, dev_eui, kind, body FROM messages LIMIT 1;
         INSERT INTO messages (id, estate_id, dev_eui, kind, body) SELECT '{1}', estate_id, dev_eui, kind, body FROM messages LIMIT 1;
         INSERT INTO undecoded (message_id) VALUES ('{0}');
         REPLACE INTO message_group SELECT 1, commits + 1, '{0}', '{0}' FROM instance",
        uplink(1501).id,
        uplink(9000).id,
    );
    MariaDb::shared().query(&database, &beyond);
    assert_eq!(store.take_back_untold().await.unwrap(), 1);
    let ahead = MariaDb::shared().query(&database, "SELECT id FROM messages ORDER BY id DESC LIMIT 2");
    assert_eq!(ahead.lines().collect::<Vec<_>>(), [uplink(9000).id, uplink(1500).id]);
    assert_eq!(store.undecoded(5000).await.unwrap().len(), 1500);
    assert_eq!(store.mark().await.unwrap(), Some((Some(7), Timestamp(4))));
}

#[tokio::test]
async fn signs_of_life_are_the_last_ones() {
    let (store, estate) = records().await;
    let now = DateTime::from_timestamp_millis(Utc::now().timestamp_millis()).unwrap();
    let note = RefusalNote {
        code: "x".into(),
        join: true,
        why: "why".into(),
        evidence: vec![Evidence { name: "a".into(), value: "1".into() }],
        next_step: "next".into(),
        time: now,
    };
    let heard = |usual_interval_s| Activity::Heard { last_heard: now, usual_interval_s };
    let write =
        async |activity| store.commit(&Batch { activity: vec![(DEV, activity)], ..Batch::default() }).await.unwrap();
    write(Activity::Refused(note.clone())).await;
    let row = store.device(estate, DEV).await.unwrap().unwrap();
    assert_eq!((row.refusal, row.last_heard, row.refused_since), (Some(note.clone()), None, Some(now)));
    // Refused again: for the same reason since then, for another one since now.
    let later = now + TimeDelta::minutes(7);
    write(Activity::Refused(RefusalNote { time: later, ..note.clone() })).await;
    assert_eq!(store.device(estate, DEV).await.unwrap().unwrap().refused_since, Some(now));
    write(Activity::Refused(RefusalNote { code: "y".into(), time: later, ..note })).await;
    assert_eq!(store.device(estate, DEV).await.unwrap().unwrap().refused_since, Some(later));
    write(heard(Some(20.0))).await;
    let row = store.device(estate, DEV).await.unwrap().unwrap();
    assert_eq!((row.refusal, row.refused_since, row.last_heard), (None, None, Some(now)));
    assert_eq!(row.usual_interval_s, Some(20.0));
}

#[tokio::test]
async fn lists_are_paged_by_name_and_names_are_taken_once() {
    let (store, estate) = records().await;
    for n in 2..=5u64 {
        store.add_devices(estate, &[&device(&format!("tide-0{n}"), Eui64(DEV.0 + n))]).await.unwrap();
    }
    let names = |rows: Vec<store::DeviceRow>| rows.into_iter().map(|r| r.name).collect::<Vec<_>>();
    let list = async |which: &DeviceQuery, limit| names(store.devices(estate, which, limit).await.unwrap());
    assert_eq!(list(&DeviceQuery::default(), 2).await, ["tide-01", "tide-02"]);
    let after = Some(DeviceCursor::Name("tide-03".into()));
    let of_fleet = DeviceQuery { fleet: Some("tide".into()), after, ..DeviceQuery::default() };
    assert_eq!(list(&of_fleet, 9).await, ["tide-04", "tide-05"]);
    assert_eq!(names(store.devices(estate + 1, &DeviceQuery::default(), 9).await.unwrap()), Vec::<String>::new());
    let taken = store.add_devices(estate, &[&device("tide-06", Eui64(76)), &device("tide-01", Eui64(77))]).await;
    assert!(matches!(taken, Err(StoreError::Exists(_))));
    let no_fleet = domain::device::register::CheckedDevice { fleet: "none".into(), ..device("x", Eui64(77)) };
    assert!(matches!(store.add_devices(estate, &[&no_fleet]).await, Err(StoreError::Gone("the fleet"))));
    assert_eq!(list(&DeviceQuery::default(), 9).await.len(), 5, "all or none");
    assert!(matches!(
        store.add_gateways(estate, &[&gateway("chapel-rise", Eui64(78))]).await,
        Err(StoreError::Exists(_))
    ));
    assert!(matches!(store.remove_fleet(estate, "tide").await, Err(StoreError::InUse(_))));
}

#[tokio::test]
async fn lists_are_searched_filtered_and_ordered() {
    let (store, estate) = records().await;
    for n in 2..=4u64 {
        let tags = if n > 2 { vec!["pier".to_owned()] } else { Vec::new() };
        let device =
            domain::device::register::CheckedDevice { tags, ..device(&format!("tide-0{n}"), Eui64(DEV.0 + n)) };
        store.add_devices(estate, &[&device]).await.unwrap();
    }
    let now = Utc::now();
    let heard = |n: u64, ago_s| {
        (
            Eui64(DEV.0 + n),
            Activity::Heard { last_heard: now - TimeDelta::seconds(ago_s), usual_interval_s: Some(100.0) },
        )
    };
    let activity = vec![heard(2, 300), heard(3, 500), heard(4, 10)];
    store.commit(&Batch { activity, ..Batch::default() }).await.unwrap();
    let disabled = DevicePatch { disabled: Some(true), ..DevicePatch::default() };
    store.edit_devices(estate, &[(Eui64(DEV.0 + 4), disabled)]).await.unwrap();
    let list = async |which: DeviceQuery| -> Vec<String> {
        let rows = store.devices(estate, &which, 9).await.unwrap();
        // What the database says of a state is what is shown of it.
        let shown = |row: &store::DeviceRow| {
            let evidence = StateEvidence {
                personalized: row.personalized,
                joined_at: row.joined_at,
                last_heard: row.last_heard,
                interval_s: row.usual_interval_s,
                refused_at: row.refusal.as_ref().map(|refusal| refusal.time),
            };
            match row.disabled {
                true => DeviceState::Disabled,
                false => device_state(Utc::now(), evidence),
            }
        };
        assert!(rows.iter().all(|row| which.state.is_none_or(|state| shown(row) == state)), "{which:?}");
        rows.into_iter().map(|row| row.name).collect()
    };
    let find = |text: &str| DeviceQuery { find: Some(text.into()), ..DeviceQuery::default() };
    assert_eq!(list(find("DE-03")).await, ["tide-03"]);
    assert_eq!(list(find("pie")).await, ["tide-03", "tide-04"], "by tag");
    let eui = Eui64(DEV.0 + 2).to_string();
    assert_eq!(list(find(&format!("{}:{}", &eui[8..12], &eui[12..]))).await, ["tide-02"], "by a part of its EUI");
    assert_eq!(list(find("%")).await, Vec::<String>::new(), "no wildcard");
    let tagged = DeviceQuery { tag: Some("pier".into()), ..DeviceQuery::default() };
    assert_eq!(list(tagged).await, ["tide-03", "tide-04"]);
    let state = |state| DeviceQuery { state: Some(state), ..DeviceQuery::default() };
    assert_eq!(list(state(DeviceState::NeverJoined)).await, ["tide-01"]);
    assert_eq!(list(state(DeviceState::NeverHeard)).await, Vec::<String>::new());
    assert_eq!(list(state(DeviceState::Active)).await, ["tide-02"]);
    assert_eq!(list(state(DeviceState::Silent)).await, ["tide-03"]);
    assert_eq!(list(state(DeviceState::Disabled)).await, ["tide-04"]);
    assert_eq!(list(state(DeviceState::Refused)).await, Vec::<String>::new());
    let mut latest = DeviceQuery { order: DeviceOrder::LastHeard, backwards: true, ..DeviceQuery::default() };
    assert_eq!(list(latest.clone()).await, ["tide-04", "tide-02", "tide-03", "tide-01"]);
    let second = store.devices(estate, &latest, 2).await.unwrap().pop().unwrap();
    latest.after = Some(DeviceCursor::Time(second.last_heard.unwrap(), second.dev_eui));
    assert_eq!(list(latest).await, ["tide-03", "tide-01"]);
}

#[tokio::test]
async fn a_removed_device_leaves_nothing_for_the_next_of_its_name() {
    let (store, estate) = records().await;
    let changes = [joined(7), vec![began(), counters(3, 1)]].concat();
    let batch = Batch { changes, ..Batch::default() };
    store.commit(&batch).await.unwrap();
    assert_eq!(store.remove_devices(estate, &[DEV]).await.unwrap(), 1);
    assert_eq!(store.remove_devices(estate, &[DEV]).await.unwrap(), 0);
    // Its last frame is committed after it is gone.
    store.commit(&batch).await.unwrap();
    store.add_devices(estate, &[&device("tide-01", DEV)]).await.unwrap();
    let record = restored(&store).await;
    assert_eq!((record.session, record.next_session, record.nonces), (None, None, Nonces::default()));
}

#[tokio::test]
async fn another_master_key_opens_nothing() {
    let url = MariaDb::shared().url(&format!("heron_{:016x}", rand::random::<u64>()));
    let store = Store::open(&url, Vault::from_key([5; 32])).await.unwrap();
    store.found_first("tarnsey", "Tarnsey", "owner", "$hash").await.unwrap();
    store.add_fleet(1, "tide", "Tide", Policy::default()).await.unwrap();
    let plain = domain::device::register::CheckedDevice { model: None, ..device("tide-01", DEV) };
    store.add_devices(1, &[&plain]).await.unwrap();
    assert!(store.activation_of(1, DEV).await.unwrap().is_some());
    let other = Store::open(&url, Vault::from_key([6; 32])).await.unwrap();
    assert!(matches!(other.activation_of(1, DEV).await, Err(StoreError::Vault(_))));
    // Said at the start, not at the first join.
    assert_eq!(other.secrets().await.unwrap(), Secrets { tried: 1, open: 0 });
    assert_eq!(store.secrets().await.unwrap(), Secrets { tried: 1, open: 1 });
    // One row that does not open is named, and keeps nothing else from being read.
    other.engine_state(Timestamp(0)).await.unwrap();
    let damaged = other.take_damaged();
    assert_eq!((damaged.len(), damaged[0].eui), (1, Some(DEV)), "{damaged:?}");
}

#[tokio::test]
async fn a_decoder_that_makes_names_up_does_not_fill_the_tables() {
    let database = format!("heron_{:016x}", rand::random::<u64>());
    let (store, _) = records_in(&database).await;
    let at = Utc::now();
    let reading = |n: usize, second: i64| StoredReading {
        dev_eui: DEV,
        name: format!("made_up_{n}"),
        reading: Reading::of(ReadingValue::Number(n as f64)),
        time: at + TimeDelta::seconds(second),
        counted: None,
    };
    for part in 0..5 {
        let readings = (0..256).map(|n| reading(part * 256 + n, 0)).collect();
        store.commit(&Batch { readings, ..Batch::default() }).await.unwrap();
    }
    assert_eq!(store.series_of(&[DEV]).await.unwrap().len(), MOST_SERIES);
    assert_eq!(store.readings_of(DEV).await.unwrap().len(), MOST_SERIES);
    // Those that are known go on, and others' are their own.
    let other = StoredReading { dev_eui: Eui64(DEV.0 + 1), ..reading(5000, 0) };
    let readings = vec![reading(7, 60), reading(9999, 60), other];
    store.commit(&Batch { readings, ..Batch::default() }).await.unwrap();
    let known = store.readings_of(DEV).await.unwrap();
    let seven = known.iter().find(|row| row.name == "made_up_7").unwrap();
    assert_eq!((known.len(), seven.interval_s), (MOST_SERIES, Some(60.0)));
    assert_eq!(store.points(seven.series.unwrap(), 0, i64::MAX, 10).await.unwrap().len(), 2);
    assert_eq!(store.series_of(&[Eui64(DEV.0 + 1)]).await.unwrap().len(), 1);
}

#[tokio::test]
async fn what_an_eui_sent_as_another_estates_is_not_shown() {
    let database = format!("heron_{:016x}", rand::random::<u64>());
    let (store, estate) = records_in(&database).await;
    let messages = (1..=4).map(|id| stored(estate, uplink(id), Decoding::None)).collect();
    store.commit(&Batch { messages, ..Batch::default() }).await.unwrap();
    let (own, other, end) = (estate, estate + 1, "Z");
    assert_eq!(store.last_uplinks(own, &[DEV], 3).await.unwrap().len(), 3);
    assert_eq!(store.last_uplinks(other, &[DEV], 3).await.unwrap(), []);
    assert_eq!(store.uplinks_of(own, DEV, "", end, 10).await.unwrap().len(), 4);
    assert_eq!(store.uplinks_of(other, DEV, "", end, 10).await.unwrap(), []);
    assert_eq!(store.count_uplinks(own, &[DEV], "", end).await.unwrap(), 4);
    assert_eq!(store.count_uplinks(other, &[DEV], "", end).await.unwrap(), 0);
    assert_eq!(store.message(own, &uplink(1).id).await.unwrap(), Some(uplink(1)));
    assert_eq!(store.message(other, &uplink(1).id).await.unwrap(), None);
}

/// The longest and largest that the types allow, for a device of a region and version.
fn extremes(dev_eui: Eui64, region: Region, version: lorawan::MacVersion) -> Vec<Change> {
    let profile = RadioProfile { version, ..RadioProfile::of(region) };
    let plain = Settings::of_region(&profile);
    let settings = Settings {
        extra_hz: plain.extra_hz.map(|_| u32::MAX),
        rx2_frequency_hz: u32::MAX,
        ping_periodicity: Some(u8::MAX),
        ping_frequency_hz: Some(u32::MAX),
        beacon_hz: Some(u32::MAX),
        rx1_hz: plain.rx1_hz.map(|_| u32::MAX),
        adr_ack: Some(AdrAck { limit_exp: 15, delay_exp: 15 }),
        rejoin: Some(RejoinTimes { max_time_n: 15, max_count_n: 15 }),
        class_b_first_hz: Some(u32::MAX),
        rx_delay_s: u8::MAX,
        ..plain
    };
    let counters = Counters {
        up: Some(u32::MAX),
        last_mic: [0xff; 4],
        next_down: u32::MAX,
        next_app_down: u32::MAX,
        confirmed_down: Some(u32::MAX),
        rj_count_0: Some(u16::MAX),
    };
    let session = Session { settings, counters, dev_addr: DevAddr(u32::MAX), ..session(0) };
    let nonces = Nonces { used_dev_nonces: vec![], next_join_nonce: u32::MAX, rj_count_1: Some(u16::MAX) };
    let mut changes = vec![
        Change::Session { dev_eui, session: Box::new(session.clone()), begun: false },
        Change::Session { dev_eui, session: Box::new(session), begun: true },
        Change::Nonces { dev_eui, dev_nonce: Some(u16::MAX), nonces },
        Change::Counters { dev_eui, counters },
        Change::Settings { dev_eui, settings: Box::new(settings) },
        Change::GroupCounter { group: dev_eui, next_down: u32::MAX },
    ];
    for class in engine::Class::ALL {
        let near = (0..32).map(|n| (Eui64(u64::MAX - n), f32::MIN)).collect();
        changes.push(Change::Near { dev_eui, class, near });
    }
    let long = "ß".repeat(2000);
    for (n, state) in
        [OutboxState::Failed(long.clone()), OutboxState::Waiting(Wait::Again(long))].into_iter().enumerate()
    {
        let id = OutboxId(u128::MAX - n as u128);
        changes.push(Change::Outbox { dev_eui, id, state, attempts: u8::MAX, place: i64::MIN });
    }
    for band in region.plan().sub_bands {
        for transmitter in [Transmitter::Gateway(dev_eui), Transmitter::Device(dev_eui), Transmitter::Towards(dev_eui)]
        {
            let (minute, airtime_us) = (i64::from(u32::MAX), u64::MAX);
            changes.push(Change::Airtime { transmitter, sub_band: band.name, minute, airtime_us, frames: u32::MAX });
        }
    }
    changes
}

#[tokio::test]
async fn state_of_every_region_and_version_is_stored_with_the_longest_values() {
    let (store, _) = records().await;
    for (n, region) in Region::ALL.into_iter().enumerate() {
        for (m, version) in lorawan::MacVersion::ALL.into_iter().enumerate() {
            let dev_eui = Eui64(DEV.0 + 0x1000 * (n as u64 + 1) + m as u64);
            let changes = extremes(dev_eui, region, version);
            let written = store.commit(&Batch { changes, ..Batch::default() }).await;
            written.unwrap_or_else(|why| panic!("{} {}: {why}", region.name(), version.name()));
        }
    }
}

#[tokio::test]
async fn a_commit_whose_answer_was_lost_is_found_to_be_made_and_one_of_another_instance_is_refused() {
    let (store, _) = records().await;
    let lease = store.writer.lock().await.lease().clone();
    let counted_at = |next_down| Batch { changes: joined(next_down), ..Batch::default() };
    store.commit(&counted_at(7)).await.unwrap();
    // As if nobody had heard that it was made: it is not made twice, and the next one goes on from it.
    let mut again = Writer::new(store.store.clone(), lease.clone());
    again.commit(&counted_at(7)).await.unwrap();
    assert_eq!(again.lease().commits, lease.commits + 1);
    again.commit(&counted_at(8)).await.unwrap();
    let taken = store.take_lease(&claim(2), Some(&lease)).await.unwrap();
    assert_eq!((taken.epoch, taken.commits), (lease.epoch + 1, lease.commits + 2));
    let refused = again.commit(&counted_at(9)).await.unwrap_err();
    assert!(matches!(&refused, StoreError::TakenOver(who) if who == "test 2"), "{refused}");
    assert!(matches!(store.take_lease(&claim(3), Some(&lease)).await, Err(StoreError::Held { .. })), "too late");
    Writer::new(store.store.clone(), taken).commit(&counted_at(9)).await.unwrap();
}
