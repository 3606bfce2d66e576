//! Registered devices, and what is shown of them.

use std::collections::BTreeMap;

use api::device::{CheckedDevice, LastReading};
use api::message::RefusalNote;
use api::radio::RadioSettings;
use chrono::{DateTime, Utc};
use engine::{Activation, DeviceConfig};
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::rows::{eui, eui_bytes, json, region, to_json};
use crate::state::Profiles;
use crate::vault::Purpose;
use crate::{EstateId, Store, StoreError, constraint};

/// A device as its list shows it.
#[derive(Debug, Clone)]
pub struct DeviceRow {
    pub dev_eui: Eui64,
    pub join_eui: Eui64,
    pub name: String,
    pub fleet: String,
    pub model: Option<String>,
    pub region: Region,
    pub radio: RadioSettings,
    pub personalized: bool,
    pub added_at: DateTime<Utc>,
    pub joined_at: Option<DateTime<Utc>>,
    pub last_heard: Option<DateTime<Utc>>,
    pub rhythm_s: Option<f64>,
    pub refusal: Option<RefusalNote>,
}

/// What a message about a device says of it, and what is needed to go on with its rhythm.
#[derive(Debug, Clone)]
pub struct DeviceContext {
    pub dev_eui: Eui64,
    pub estate_id: EstateId,
    pub fleet: String,
    pub name: String,
    pub model: Option<String>,
    pub region: Region,
    pub last_heard: Option<DateTime<Utc>>,
    pub rhythm_s: Option<f64>,
}

const SELECT: &str = "SELECT d.dev_eui, d.join_eui, d.name, d.region, d.radio, d.personal_addr, d.added_at, f.slug AS fleet, m.slug AS model,
    (SELECT MAX(s.joined_at) FROM sessions s WHERE s.dev_eui = d.dev_eui) AS joined_at, a.last_heard, a.rhythm_s, a.refusal
    FROM devices d JOIN fleets f ON f.id = d.fleet_id LEFT JOIN models m ON m.id = d.model_id
    LEFT JOIN activity a ON a.dev_eui = d.dev_eui
    WHERE d.estate_id = ";

fn read(row: &MySqlRow) -> Result<DeviceRow, StoreError> {
    let refusal: Option<String> = row.try_get("refusal")?;
    Ok(DeviceRow {
        dev_eui: eui(row, "dev_eui")?,
        join_eui: eui(row, "join_eui")?,
        name: row.try_get("name")?,
        fleet: row.try_get("fleet")?,
        model: row.try_get("model")?,
        region: region(row)?,
        radio: json("radio settings", &row.try_get::<String, _>("radio")?)?,
        personalized: row.try_get::<Option<u32>, _>("personal_addr")?.is_some(),
        added_at: row.try_get("added_at")?,
        joined_at: row.try_get("joined_at")?,
        last_heard: row.try_get("last_heard")?,
        rhythm_s: row.try_get("rhythm_s")?,
        refusal: refusal.map(|text| json("refusal", &text)).transpose()?,
    })
}

impl Store {
    /// Registers a device. `Ok(Err(field))` names the fleet or model that does not exist.
    pub async fn add_device(
        &self,
        estate_id: EstateId,
        device: &CheckedDevice,
    ) -> Result<Result<(), &'static str>, StoreError> {
        let Some(fleet_id) = self.fleet_id(estate_id, &device.fleet).await? else { return Ok(Err("fleet")) };
        let model_id = match &device.model {
            None => None,
            Some(slug) => match self.model_id(estate_id, slug).await? {
                Some(id) => Some(id),
                None => return Ok(Err("model")),
            },
        };
        let keys = self.sealed_keys(device.dev_eui, &device.activation)?;
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO devices (dev_eui, estate_id, fleet_id, model_id, join_eui, app_key_sealed, nwk_key_sealed,
             personal_addr, personal_keys_sealed, name, region, radio, added_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(eui_bytes(device.dev_eui))
        .bind(estate_id)
        .bind(fleet_id)
        .bind(model_id)
        .bind(eui_bytes(device.join_eui))
        .bind(keys.app_key)
        .bind(keys.nwk_key)
        .bind(keys.personal.as_ref().map(|(dev_addr, _)| *dev_addr))
        .bind(keys.personal.map(|(_, sealed)| sealed))
        .bind(&device.name)
        .bind(device.region.name())
        .bind(to_json("radio settings", &device.radio)?)
        .bind(Utc::now())
        .execute(&mut *tx)
        .await
        .map_err(|e| constraint(e, "a device with that DevEUI or name"))?;
        // A frame of an earlier registration may have been written after its removal.
        forget(&mut tx, device.dev_eui).await?;
        tx.commit().await?;
        Ok(Ok(()))
    }

    /// A page of an estate's devices by name.
    pub async fn devices(
        &self,
        estate_id: EstateId,
        fleet: Option<&str>,
        after: &str,
        limit: u32,
    ) -> Result<Vec<DeviceRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push_bind(estate_id).push(" AND d.name > ").push_bind(after);
        if let Some(fleet) = fleet {
            query.push(" AND f.slug = ").push_bind(fleet);
        }
        query.push(" ORDER BY d.name LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(read).collect()
    }

    pub async fn device(&self, estate_id: EstateId, dev_eui: Eui64) -> Result<Option<DeviceRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push_bind(estate_id).push(" AND d.dev_eui = ").push_bind(eui_bytes(dev_eui));
        let row = query.build().fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    pub async fn last_readings(&self, dev_eui: Eui64) -> Result<BTreeMap<String, LastReading>, StoreError> {
        let rows = sqlx::query("SELECT name, reading, time FROM last_readings WHERE dev_eui = ?")
            .bind(eui_bytes(dev_eui))
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|row| {
                let reading = json("reading", &row.try_get::<String, _>("reading")?)?;
                Ok((row.try_get("name")?, LastReading { reading, time: row.try_get("time")? }))
            })
            .collect()
    }

    /// A device's keys, for one who may see them.
    pub async fn activation_of(&self, estate_id: EstateId, dev_eui: Eui64) -> Result<Option<Activation>, StoreError> {
        let row = sqlx::query("SELECT * FROM devices WHERE estate_id = ? AND dev_eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(dev_eui))
            .fetch_optional(&self.pool)
            .await?;
        row.map(|row| self.activation(dev_eui, &row)).transpose()
    }

    /// A device as the engine wants it.
    pub async fn device_config_of(&self, dev_eui: Eui64) -> Result<Option<DeviceConfig>, StoreError> {
        let row = sqlx::query(
            "SELECT d.*, f.airtime_a_day_us, f.downlinks_a_day FROM devices d JOIN fleets f ON f.id = d.fleet_id
             WHERE d.dev_eui = ?",
        )
        .bind(eui_bytes(dev_eui))
        .fetch_optional(&self.pool)
        .await?;
        row.map(|row| self.device_config(&row, &mut Profiles::default())).transpose()
    }

    /// Changes a device's radio settings; says whether there is such a device.
    pub async fn set_radio(
        &self,
        estate_id: EstateId,
        dev_eui: Eui64,
        radio: &RadioSettings,
    ) -> Result<bool, StoreError> {
        sqlx::query("UPDATE devices SET radio = ? WHERE estate_id = ? AND dev_eui = ?")
            .bind(to_json("radio settings", radio)?)
            .bind(estate_id)
            .bind(eui_bytes(dev_eui))
            .execute(&self.pool)
            .await?;
        Ok(self.device(estate_id, dev_eui).await?.is_some())
    }

    fn sealed_keys(&self, dev_eui: Eui64, activation: &Activation) -> Result<SealedKeys, StoreError> {
        Ok(match activation {
            Activation::OverTheAir(root) => SealedKeys {
                app_key: Some(self.vault.seal(Purpose::AppKey, dev_eui, &root.app_key.0)?),
                nwk_key: root.nwk_key.map(|key| self.vault.seal(Purpose::NwkKey, dev_eui, &key.0)).transpose()?,
                personal: None,
            },
            Activation::Personalized { dev_addr, keys } => {
                let sealed = self.sealed_session_keys(Purpose::PersonalKeys, dev_eui, keys)?;
                SealedKeys { app_key: None, nwk_key: None, personal: Some((dev_addr.0, sealed)) }
            }
        })
    }

    /// Removes a device and what the engine kept for it; its messages stay in the history. Says
    /// whether there was one.
    pub async fn remove_device(&self, estate_id: EstateId, dev_eui: Eui64) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query("DELETE FROM devices WHERE estate_id = ? AND dev_eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(dev_eui))
            .execute(&mut *tx)
            .await?;
        if done.rows_affected() > 0 {
            forget(&mut tx, dev_eui).await?;
        }
        tx.commit().await?;
        Ok(done.rows_affected() > 0)
    }

    /// What messages say of every device, for the start of the service.
    pub async fn device_contexts(&self) -> Result<Vec<DeviceContext>, StoreError> {
        let rows = sqlx::query(
            "SELECT d.dev_eui, d.estate_id, f.slug AS fleet, d.name, m.slug AS model, d.region,
             a.last_heard, a.rhythm_s FROM devices d JOIN fleets f ON f.id = d.fleet_id LEFT JOIN models m ON m.id = d.model_id
             LEFT JOIN activity a ON a.dev_eui = d.dev_eui",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(DeviceContext {
                    dev_eui: eui(row, "dev_eui")?,
                    estate_id: row.try_get("estate_id")?,
                    fleet: row.try_get("fleet")?,
                    name: row.try_get("name")?,
                    model: row.try_get("model")?,
                    region: region(row)?,
                    last_heard: row.try_get("last_heard")?,
                    rhythm_s: row.try_get("rhythm_s")?,
                })
            })
            .collect()
    }
}

/// A device's keys as they are stored.
struct SealedKeys {
    app_key: Option<Vec<u8>>,
    nwk_key: Option<Vec<u8>>,
    personal: Option<(u32, Vec<u8>)>,
}

/// Removes what the engine keeps for a device.
async fn forget(tx: &mut sqlx::Transaction<'_, MySql>, dev_eui: Eui64) -> Result<(), StoreError> {
    for table in [
        "DELETE FROM sessions WHERE dev_eui = ?",
        "DELETE FROM counters WHERE dev_eui = ?",
        "DELETE FROM dev_nonces WHERE dev_eui = ?",
        "DELETE FROM nonces WHERE dev_eui = ?",
        "DELETE FROM near_gateways WHERE dev_eui = ?",
        "DELETE FROM outbox WHERE dev_eui = ?",
        "DELETE FROM activity WHERE dev_eui = ?",
        "DELETE FROM last_readings WHERE dev_eui = ?",
        "DELETE FROM airtime WHERE transmitter IN ('device', 'towards') AND eui = ?",
    ] {
        sqlx::query(table).bind(eui_bytes(dev_eui)).execute(&mut **tx).await?;
    }
    Ok(())
}
