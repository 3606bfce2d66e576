//! What the engine is given back when the service starts.

use std::collections::HashMap;

use engine::{Change, Command, DeviceConfig, DeviceRecord, GatewayConfig, OutboxItem, Session, Timestamp, Transmitter};
use lorawan::crypto::SessionKeys;
use lorawan::{AesKey, DevAddr, Eui64};
use sqlx::Row as _;

use crate::rows::{eui, eui_bytes, region, timestamp_of};
use crate::vault::Purpose;
use crate::{Store, StoreError, outbox};

impl Store {
    /// Everything an engine needs, as the commands that put it back.
    pub async fn engine_state(&self, now: Timestamp) -> Result<Vec<Command>, StoreError> {
        let mut commands: Vec<Command> = self
            .all_gateways()
            .await?
            .into_iter()
            .map(|row| {
                let g = row.gateway;
                Command::PutGateway(GatewayConfig {
                    eui: g.eui,
                    region: g.region,
                    antenna_gain_dbi: g.antenna_gain_dbi,
                })
            })
            .collect();
        commands.extend(self.device_records().await?.into_iter().map(|r| Command::RestoreDevice(Box::new(r))));
        commands.extend(self.airtime_since(now.minute() - 60).await?);
        Ok(commands)
    }

    async fn device_records(&self) -> Result<Vec<DeviceRecord>, StoreError> {
        let mut nonces: HashMap<Eui64, Vec<u16>> = HashMap::new();
        for row in sqlx::query("SELECT dev_eui, dev_nonce FROM dev_nonces").fetch_all(&self.pool).await? {
            nonces.entry(eui(&row, "dev_eui")?).or_default().push(row.try_get("dev_nonce")?);
        }
        let mut outboxes: HashMap<Eui64, Vec<OutboxItem>> = HashMap::new();
        let open =
            sqlx::query("SELECT * FROM outbox WHERE state IN ('waiting', 'under_way', 'awaiting_ack') ORDER BY id");
        for row in open.fetch_all(&self.pool).await? {
            outboxes.entry(eui(&row, "dev_eui")?).or_default().push(outbox::for_engine(&row)?);
        }
        let rows = sqlx::query(
            "SELECT d.dev_eui, d.join_eui, d.app_key_sealed, d.region, s.dev_addr, s.keys_sealed, s.next_join_nonce,
             s.joined_at, c.up, c.last_mic, c.next_down
             FROM devices d LEFT JOIN sessions s ON s.dev_eui = d.dev_eui LEFT JOIN counters c ON c.dev_eui = d.dev_eui",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let dev_eui = eui(row, "dev_eui")?;
                let app_key =
                    self.vault.open(Purpose::AppKey, dev_eui, &row.try_get::<Vec<u8>, _>("app_key_sealed")?)?;
                let keys_sealed: Option<Vec<u8>> = row.try_get("keys_sealed")?;
                let session = match keys_sealed {
                    None => None,
                    Some(sealed) => Some(self.session(dev_eui, &sealed, row)?),
                };
                Ok(DeviceRecord {
                    config: DeviceConfig {
                        dev_eui,
                        join_eui: eui(row, "join_eui")?,
                        app_key: AesKey(app_key),
                        region: region(row)?,
                    },
                    session,
                    used_dev_nonces: nonces.remove(&dev_eui).unwrap_or_default(),
                    next_join_nonce: row.try_get::<Option<u32>, _>("next_join_nonce")?.unwrap_or(1),
                    outbox: outboxes.remove(&dev_eui).unwrap_or_default(),
                })
            })
            .collect()
    }

    fn session(&self, dev_eui: Eui64, sealed: &[u8], row: &sqlx::mysql::MySqlRow) -> Result<Session, StoreError> {
        let keys: [u8; 32] = self.vault.open(Purpose::SessionKeys, dev_eui, sealed)?;
        let (nwk, app) = keys.split_at(16);
        let key = |half: &[u8]| AesKey(std::array::from_fn(|i| half[i]));
        let last_mic: Option<Vec<u8>> = row.try_get("last_mic")?;
        Ok(Session {
            dev_addr: DevAddr(row.try_get("dev_addr")?),
            keys: SessionKeys { nwk_s_key: key(nwk), app_s_key: key(app) },
            up: row.try_get("up")?,
            last_mic: last_mic.and_then(|mic| mic.try_into().ok()).unwrap_or_default(),
            // A session is written together with its counters, so they are there.
            next_down: row
                .try_get::<Option<u32>, _>("next_down")?
                .ok_or(StoreError::unreadable("session", "no counters"))?,
            joined_at: timestamp_of(row.try_get("joined_at")?),
        })
    }

    pub(crate) fn sealed_session_keys(&self, dev_eui: Eui64, keys: &SessionKeys) -> Result<Vec<u8>, StoreError> {
        let both = [keys.nwk_s_key.0, keys.app_s_key.0].concat();
        Ok(self.vault.seal(Purpose::SessionKeys, dev_eui, &both)?)
    }

    async fn airtime_since(&self, minute: i64) -> Result<Vec<Command>, StoreError> {
        let rows = sqlx::query("SELECT * FROM airtime WHERE minute >= ?").bind(minute).fetch_all(&self.pool).await?;
        rows.iter()
            .map(|row| {
                let whose = eui(row, "eui")?;
                let transmitter = match row.try_get::<String, _>("transmitter")?.as_str() {
                    "gateway" => Transmitter::Gateway(whose),
                    _ => Transmitter::Device(whose),
                };
                Ok(Command::RestoreAirtime {
                    transmitter,
                    sub_band: row.try_get("sub_band")?,
                    minute: i64::from(row.try_get::<u32, _>("minute")?),
                    airtime_us: row.try_get("airtime_us")?,
                    frames: row.try_get("frames")?,
                })
            })
            .collect()
    }
}

/// The columns of an airtime change that name whose it is.
pub(crate) fn transmitter_columns(transmitter: Transmitter) -> (&'static str, Vec<u8>) {
    match transmitter {
        Transmitter::Gateway(eui) => ("gateway", eui_bytes(eui)),
        Transmitter::Device(eui) => ("device", eui_bytes(eui)),
    }
}

/// Of several changes of one thing only the last needs writing; this names the thing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Thing {
    Counters(Eui64),
    Outbox(u128),
    Airtime(Transmitter, &'static str, i64),
}

pub(crate) fn thing(change: &Change) -> Option<Thing> {
    match change {
        Change::Joined { .. } => None,
        Change::Counters { dev_eui, .. } => Some(Thing::Counters(*dev_eui)),
        Change::Outbox { id, .. } => Some(Thing::Outbox(id.0)),
        Change::Airtime { transmitter, sub_band, minute, .. } => Some(Thing::Airtime(*transmitter, sub_band, *minute)),
    }
}
