//! The engine's state as it is loaded when the service starts.

use std::collections::HashMap;

use domain::gateway::check::CheckedGateway;
use engine::{
    Change, Class, Command, Counters, DeviceRecord, GatewayConfig, Nonces, OutboxItem, RadioProfile, Session, Settings,
    Timestamp, Transmitter, Used,
};
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::{DevAddr, Eui64};
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::device_config::{CONFIG, Profiles, four_keys, quarter};
use crate::rows::{eui, eui_bytes, json, timestamp_of};
use crate::vault::Purpose;
use crate::{EstateId, Store, StoreError, outbox};

/// Accounts go back a day: the law looks at an hour, a fleet's limits at a day.
const DAY_MINUTES: i64 = 24 * 60;

impl Store {
    /// Everything an engine needs, as the commands that put it back.
    pub async fn engine_state(&self, now: Timestamp) -> Result<Vec<Command>, StoreError> {
        let mut commands: Vec<Command> = self
            .all_gateways()
            .await?
            .into_iter()
            .map(|row| Command::PutGateway(gateway_config(row.estate_id, &row.gateway)))
            .collect();
        let mut outboxes: HashMap<Eui64, Vec<OutboxItem>> = HashMap::new();
        let open = sqlx::query(
            "SELECT * FROM outbox WHERE state IN ('waiting', 'under_way', 'awaiting_ack') ORDER BY place, id",
        );
        let open = open.fetch_all(&self.pool).await?;
        let read = |row: &MySqlRow| Ok((eui(row, "dev_eui")?, outbox::for_engine(row)?));
        for (dev_eui, item) in self.readable("downlink in the outbox", "dev_eui", &open, read) {
            outboxes.entry(dev_eui).or_default().push(item);
        }
        let records = self.device_records(&mut outboxes).await?;
        commands.extend(records.into_iter().map(|r| Command::RestoreDevice(Box::new(r))));
        commands.extend(self.group_commands(&mut outboxes).await?);
        commands.extend(self.airtime_since(now.minute()).await?);
        Ok(commands)
    }

    /// Up to where received frames have been processed and made durable. Before positions were noted there was a time
    /// alone.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn mark(&self) -> Result<Option<(Option<u64>, Timestamp)>, StoreError> {
        let row =
            sqlx::query("SELECT position, processed_until_us FROM journal_mark").fetch_optional(&self.pool).await?;
        row.map(|row| Ok((row.try_get(0)?, Timestamp(row.try_get(1)?)))).transpose()
    }

    async fn device_records(
        &self,
        outboxes: &mut HashMap<Eui64, Vec<OutboxItem>>,
    ) -> Result<Vec<DeviceRecord>, StoreError> {
        let mut nonces: HashMap<Eui64, Vec<u16>> = HashMap::new();
        for row in sqlx::query("SELECT dev_eui, dev_nonce FROM dev_nonces").fetch_all(&self.pool).await? {
            nonces.entry(eui(&row, "dev_eui")?).or_default().push(row.try_get("dev_nonce")?);
        }
        let mut kept = KeptState {
            nonces,
            nonce_rows: self
                .by_device("nonces", "SELECT * FROM nonces", |row| {
                    Ok((row.try_get("next_join_nonce")?, row.try_get("rj_count_1")?))
                })
                .await?,
            counters: self.by_device("counters", "SELECT * FROM counters", read_counters).await?,
            near: self
                .by_device("near gateways", "SELECT * FROM near_gateways", |row| {
                    let class: Option<String> = row.try_get("class")?;
                    let class = class.and_then(|name| Class::ALL.into_iter().find(|class| class.name() == name));
                    Ok((class, json("near gateways", &row.try_get::<String, _>("near")?)?))
                })
                .await?,
            sessions: HashMap::new(),
        };
        for row in sqlx::query("SELECT * FROM sessions").fetch_all(&self.pool).await? {
            let running = row.try_get::<String, _>("stage")? == "running";
            kept.sessions.insert((eui(&row, "dev_eui")?, running), row);
        }
        let mut profiles = Profiles::default();
        let rows = sqlx::query(CONFIG).fetch_all(&self.pool).await?;
        // A device with one unreadable part is skipped as a whole: half of its state would use counters twice.
        Ok(self.readable("device", "dev_eui", &rows, |row| self.device_record(row, &mut profiles, &mut kept, outboxes)))
    }

    /// Rows of a table by device; one that cannot be read counts as damage of its device.
    async fn by_device<T>(
        &self,
        what: &'static str,
        select: &'static str,
        read: impl Fn(&MySqlRow) -> Result<T, StoreError>,
    ) -> Result<HashMap<Eui64, Result<T, StoreError>>, StoreError> {
        let rows = sqlx::query(select).fetch_all(&self.pool).await?;
        Ok(self.readable(what, "dev_eui", &rows, |row| Ok((eui(row, "dev_eui")?, read(row)))).into_iter().collect())
    }

    fn device_record(
        &self,
        row: &MySqlRow,
        profiles: &mut Profiles,
        kept: &mut KeptState,
        outboxes: &mut HashMap<Eui64, Vec<OutboxItem>>,
    ) -> Result<DeviceRecord, StoreError> {
        let dev_eui = eui(row, "dev_eui")?;
        let config = self.device_config(row, profiles)?;
        let session = |running, counters| match kept.sessions.get(&(dev_eui, running)) {
            Some(row) => self.session(dev_eui, row, &config.profile, counters).map(Some),
            None => Ok(None),
        };
        let counters = kept.counters.remove(&dev_eui).transpose()?.unwrap_or_default();
        let (session, next_session) = (session(true, counters)?, session(false, Counters::default())?);
        let (class, near) = kept.near.remove(&dev_eui).transpose()?.unwrap_or_default();
        let (next_join_nonce, rj_count_1) = kept.nonce_rows.remove(&dev_eui).transpose()?.unwrap_or((1, None));
        let used_dev_nonces = kept.nonces.remove(&dev_eui).unwrap_or_default();
        Ok(DeviceRecord {
            session,
            next_session,
            nonces: Nonces { used_dev_nonces, next_join_nonce, rj_count_1 },
            class,
            near,
            outbox: outboxes.remove(&dev_eui).unwrap_or_default(),
            config,
        })
    }

    fn session(
        &self,
        dev_eui: Eui64,
        row: &MySqlRow,
        profile: &RadioProfile,
        counters: Counters,
    ) -> Result<Session, StoreError> {
        let sealed: Vec<u8> = row.try_get("keys_sealed")?;
        // Sessions from before 1.1 was spoken have two keys.
        let keys = match self.vault.open::<64>(Purpose::SessionKeys, dev_eui, &sealed) {
            Ok(four) => four_keys(four),
            Err(_) => {
                let two: [u8; 32] = self.vault.open(Purpose::SessionKeys, dev_eui, &sealed)?;
                SessionKeys { nwk_s_key: quarter(&two, 0), app_s_key: quarter(&two, 1) }.into()
            }
        };
        let settings: Option<String> = row.try_get("settings")?;
        Ok(Session {
            dev_addr: DevAddr(row.try_get("dev_addr")?),
            keys,
            speaks_1_1: row.try_get("speaks_1_1")?,
            counters,
            settings: match settings {
                Some(text) => json("session's settings", &text)?,
                None => Settings::assumed(profile),
            },
            joined_at: timestamp_of(row.try_get("joined_at")?),
        })
    }

    pub(crate) fn sealed_session_keys(
        &self,
        purpose: Purpose,
        dev_eui: Eui64,
        keys: &SessionKeys11,
    ) -> Result<Vec<u8>, StoreError> {
        let all = [keys.f_nwk_s_int_key.0, keys.s_nwk_s_int_key.0, keys.nwk_s_enc_key.0, keys.app_s_key.0].concat();
        Ok(self.vault.seal(purpose, dev_eui, &all)?)
    }

    /// What was sent in the day before `now`. Later entries were written by a wrong clock.
    async fn airtime_since(&self, now: i64) -> Result<Vec<Command>, StoreError> {
        let rows =
            sqlx::query("SELECT * FROM airtime WHERE minute BETWEEN ? AND ?").bind(now - DAY_MINUTES).bind(now + 1);
        let rows = rows.fetch_all(&self.pool).await?;
        Ok(self.readable("account of airtime", "eui", &rows, airtime_command))
    }

    /// A gateway's airtime account. What it sent before it was removed and registered again still counts for the law.
    pub async fn gateway_account(&self, gateway: Eui64, now: Timestamp) -> Result<Vec<Command>, StoreError> {
        let rows = sqlx::query("SELECT * FROM airtime WHERE transmitter = 'gateway' AND eui = ? AND minute >= ?")
            .bind(eui_bytes(gateway))
            .bind(now.minute() - DAY_MINUTES)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(airtime_command).collect()
    }
}

/// A minute of a transmitter's account, as the command that puts it back.
fn airtime_command(row: &MySqlRow) -> Result<Command, StoreError> {
    let whose = eui(row, "eui")?;
    let transmitter = match row.try_get::<String, _>("transmitter")?.as_str() {
        "gateway" => Transmitter::Gateway(whose),
        "towards" => Transmitter::Towards(whose),
        _ => Transmitter::Device(whose),
    };
    Ok(Command::RestoreAirtime {
        transmitter,
        sub_band: row.try_get("sub_band")?,
        minute: i64::from(row.try_get::<u32, _>("minute")?),
        used: Used { airtime_us: row.try_get("airtime_us")?, frames: row.try_get("frames")? },
    })
}

/// The stored state of devices, by device.
struct KeptState {
    nonces: HashMap<Eui64, Vec<u16>>,
    nonce_rows: HashMap<Eui64, Result<(u32, Option<u16>), StoreError>>,
    counters: HashMap<Eui64, Result<Counters, StoreError>>,
    sessions: HashMap<(Eui64, bool), MySqlRow>,
    near: HashMap<Eui64, Result<WayTo, StoreError>>,
}

/// A device's class as it last reported it, and the gateways that heard it, best first.
type WayTo = (Option<Class>, Vec<(Eui64, f32)>);

/// The columns of an airtime change that name the transmitter.
pub(crate) fn transmitter_columns(transmitter: Transmitter) -> (&'static str, Vec<u8>) {
    match transmitter {
        Transmitter::Gateway(eui) => ("gateway", eui_bytes(eui)),
        Transmitter::Device(eui) => ("device", eui_bytes(eui)),
        Transmitter::Towards(eui) => ("towards", eui_bytes(eui)),
    }
}

/// Of several changes with the same key only the last is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Thing {
    Counters(Eui64),
    Settings(Eui64),
    Near(Eui64),
    Group(Eui64),
    Outbox(u128),
    Airtime(Transmitter, &'static str, i64),
}

pub(crate) fn thing(change: &Change) -> Option<Thing> {
    match change {
        Change::Session { .. } | Change::Nonces { .. } | Change::Began { .. } | Change::Ended { .. } => None,
        Change::Counters { dev_eui, .. } => Some(Thing::Counters(*dev_eui)),
        Change::Settings { dev_eui, .. } => Some(Thing::Settings(*dev_eui)),
        Change::Near { dev_eui, .. } => Some(Thing::Near(*dev_eui)),
        Change::GroupCounter { group, .. } => Some(Thing::Group(*group)),
        Change::Outbox { id, .. } => Some(Thing::Outbox(id.0)),
        Change::Airtime { transmitter, sub_band, minute, .. } => Some(Thing::Airtime(*transmitter, sub_band, *minute)),
    }
}

/// A gateway as the engine wants it.
pub fn gateway_config(estate: EstateId, gateway: &CheckedGateway) -> GatewayConfig {
    GatewayConfig {
        estate,
        open: gateway.open_to_others,
        position_deg: gateway.latitude_deg.zip(gateway.longitude_deg),
        beacons: gateway.beacons,
        ..GatewayConfig::new(gateway.eui, gateway.region, gateway.antenna_gain_dbi - gateway.cable_loss_db)
    }
}

fn read_counters(row: &MySqlRow) -> Result<Counters, StoreError> {
    let last_mic: Vec<u8> = row.try_get("last_mic")?;
    Ok(Counters {
        up: row.try_get("up")?,
        last_mic: last_mic.try_into().unwrap_or_default(),
        next_down: row.try_get("next_down")?,
        next_app_down: row.try_get("next_app_down")?,
        confirmed_down: row.try_get("confirmed_down")?,
        rj_count_0: row.try_get("rj_count_0")?,
    })
}
