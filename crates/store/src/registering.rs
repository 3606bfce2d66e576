//! Storing devices: new ones, many at once, and changes.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use domain::device::change::DevicePatch;
use domain::device::register::{CheckedDevice, EstateDefaults, ModelBase, ProfileBase, RunningSession};
use engine::{Activation, Change, Session};
use lorawan::{AesKey, Eui64};
use sqlx::{MySql, QueryBuilder, Row as _, Transaction};

use crate::commit::parts;
use crate::rows::{AMONG, among, eui, eui_bytes, json, region, timestamp_of, to_json};
use crate::vault::Purpose;
use crate::{EstateId, Store, StoreError, constraint};

/// An estate's short names with their row numbers.
struct Ids {
    fleets: HashMap<String, u32>,
    models: HashMap<String, u32>,
    profiles: HashMap<String, u32>,
}

/// A device's keys as they are stored.
struct SealedKeys {
    app_key: Option<Vec<u8>>,
    nwk_key: Option<Vec<u8>>,
    personal: Option<(u32, Vec<u8>)>,
}

/// A session that goes on here, as the engine would have it stored.
fn changes_of(dev_eui: Eui64, running: &RunningSession, now: DateTime<Utc>) -> [Change; 2] {
    let session = Session { joined_at: timestamp_of(now), ..running.session.clone() };
    let (dev_nonce, nonces) = (running.dev_nonce, running.nonces.clone());
    [
        Change::Session { dev_eui, session: Box::new(session), begun: true },
        Change::Nonces { dev_eui, dev_nonce, nonces },
    ]
}

impl Store {
    /// What registrations in an estate can refer to.
    pub async fn defaults(&self, estate_id: EstateId) -> Result<EstateDefaults, StoreError> {
        let mut defaults = EstateDefaults::default();
        let fleets = sqlx::query("SELECT id, slug, default_app_key_sealed FROM fleets WHERE estate_id = ?");
        for row in fleets.bind(estate_id).fetch_all(&self.pool).await? {
            let sealed: Option<Vec<u8>> = row.try_get("default_app_key_sealed")?;
            let owner = fleet_owner(row.try_get("id")?);
            let key = sealed.map(|sealed| self.vault.open(Purpose::FleetKey, owner, &sealed));
            defaults.fleets.insert(row.try_get("slug")?, key.transpose()?.map(AesKey));
        }
        let models = sqlx::query("SELECT slug, radio, profile_id, flaw FROM models WHERE estate_id = ?");
        for row in models.bind(estate_id).fetch_all(&self.pool).await? {
            let radio = json("radio settings", &row.try_get::<String, _>("radio")?)?;
            let base = ModelBase { radio, profile_id: row.try_get("profile_id")?, flaw: row.try_get("flaw")? };
            defaults.models.insert(row.try_get("slug")?, base);
        }
        let profiles = sqlx::query("SELECT slug, region, radio FROM radio_profiles WHERE estate_id = ?");
        for row in profiles.bind(estate_id).fetch_all(&self.pool).await? {
            let radio = json("radio settings", &row.try_get::<String, _>("radio")?)?;
            defaults.profiles.insert(row.try_get("slug")?, ProfileBase { region: region(&row)?, radio });
        }
        Ok(defaults)
    }

    async fn ids(&self, estate_id: EstateId) -> Result<Ids, StoreError> {
        let of = async |statement: &'static str| -> Result<HashMap<String, u32>, StoreError> {
            let rows: Vec<(String, u32)> = sqlx::query_as(statement).bind(estate_id).fetch_all(&self.pool).await?;
            Ok(rows.into_iter().collect())
        };
        Ok(Ids {
            fleets: of("SELECT slug, id FROM fleets WHERE estate_id = ?").await?,
            models: of("SELECT slug, id FROM models WHERE estate_id = ?").await?,
            profiles: of("SELECT slug, id FROM radio_profiles WHERE estate_id = ?").await?,
        })
    }

    /// Names that devices of an estate have.
    pub async fn device_names(&self, estate_id: EstateId) -> Result<HashSet<String>, StoreError> {
        let names = sqlx::query_scalar("SELECT name FROM devices WHERE estate_id = ?").bind(estate_id);
        Ok(names.fetch_all(&self.pool).await?.into_iter().collect())
    }

    /// Registers devices: all of them or none. What they refer to must be there.
    pub async fn add_devices(&self, estate_id: EstateId, devices: &[&CheckedDevice]) -> Result<(), StoreError> {
        self.add_devices_telling(estate_id, devices, &|_| ()).await
    }

    /// The same; `progress` is told how many are written. If one fails, none stays.
    pub async fn add_devices_telling(
        &self,
        estate_id: EstateId,
        devices: &[&CheckedDevice],
        progress: &(dyn Fn(usize) + Sync),
    ) -> Result<(), StoreError> {
        let Ids { fleets, models, profiles } = self.ids(estate_id).await?;
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let mut written = 0;
        for part in parts(devices) {
            let mut sealed = Vec::with_capacity(part.len());
            for device in part {
                let radio = to_json("radio settings", &device.radio)?;
                let attributes = to_json("attributes", &device.attributes)?;
                let fleet = *fleets.get(&device.fleet).ok_or(StoreError::Gone("the fleet"))?;
                let keys = self.sealed_keys(device.dev_eui, &device.activation)?;
                sealed.push((device, fleet, (radio, attributes), keys));
            }
            let mut insert = QueryBuilder::<MySql>::new(
                "INSERT INTO devices (dev_eui, estate_id, fleet_id, model_id, profile_id, join_eui, app_key_sealed,
                 nwk_key_sealed, personal_addr, personal_keys_sealed, name, description, hardware, firmware, latitude_deg,
                 longitude_deg, height_m, indoor, antenna_gain_dbi, penetration_loss_db, attributes, region, radio, added_at) ",
            );
            insert.push_values(sealed, |mut row, (device, fleet, (radio, attributes), keys)| {
                let personal = keys.personal;
                row.push_bind(eui_bytes(device.dev_eui))
                    .push_bind(estate_id)
                    .push_bind(fleet)
                    .push_bind(device.model.as_ref().and_then(|slug| models.get(slug).copied()))
                    .push_bind(device.profile.as_ref().and_then(|slug| profiles.get(slug).copied()))
                    .push_bind(device.join_eui.map(eui_bytes))
                    .push_bind(keys.app_key)
                    .push_bind(keys.nwk_key)
                    .push_bind(personal.as_ref().map(|(dev_addr, _)| *dev_addr))
                    .push_bind(personal.map(|(_, sealed)| sealed))
                    .push_bind(device.name.clone())
                    .push_bind(device.description.clone())
                    .push_bind(device.hardware.clone())
                    .push_bind(device.firmware.clone())
                    .push_bind(device.place.map(|place| place.latitude_deg))
                    .push_bind(device.place.map(|place| place.longitude_deg))
                    .push_bind(device.place.and_then(|place| place.height_m))
                    .push_bind(device.place.and_then(|place| place.indoor))
                    .push_bind(device.place.and_then(|place| place.antenna_gain_dbi))
                    .push_bind(device.place.and_then(|place| place.penetration_loss_db))
                    .push_bind(attributes)
                    .push_bind(device.region.name())
                    .push_bind(radio)
                    .push_bind(now);
            });
            let done = insert.build().execute(&mut *tx).await;
            done.map_err(|e| constraint(e, "a device with that DevEUI or name"))?;
            let euis: Vec<Eui64> = part.iter().map(|device| device.dev_eui).collect();
            // A frame of an earlier registration may have been written after its removal.
            forget(&mut tx, &euis).await?;
            let tags: Vec<(Eui64, &String)> =
                part.iter().flat_map(|device| device.tags.iter().map(|tag| (device.dev_eui, tag))).collect();
            write_tags(&mut tx, &tags).await?;
            for device in part {
                if let Some(running) = &device.running {
                    self.write_changes(&mut tx, &changes_of(device.dev_eui, running, now)).await?;
                }
            }
            written += part.len();
            progress(written);
        }
        tx.commit().await?;
        let euis: Vec<Eui64> = devices.iter().map(|device| device.dev_eui).collect();
        self.known.forget(&euis);
        Ok(())
    }

    /// Makes the same change to devices: to all of them or none.
    pub async fn edit_devices(&self, estate_id: EstateId, edits: &[(Eui64, DevicePatch)]) -> Result<(), StoreError> {
        let Ids { fleets, models, profiles } = self.ids(estate_id).await?;
        let mut tx = self.pool.begin().await?;
        for (dev_eui, edit) in edits {
            let mut update = QueryBuilder::<MySql>::new("UPDATE devices SET estate_id = estate_id");
            if let Some(name) = &edit.name {
                update.push(", name = ").push_bind(name);
            }
            if let Some(fleet) = &edit.fleet {
                let id = *fleets.get(fleet).ok_or(StoreError::Gone("the fleet"))?;
                update.push(", fleet_id = ").push_bind(id);
            }
            if let Some(model) = &edit.model {
                update.push(", model_id = ").push_bind(model.as_ref().and_then(|slug| models.get(slug).copied()));
            }
            if let Some(profile) = &edit.profile {
                let id = profile.as_ref().and_then(|slug| profiles.get(slug).copied());
                update.push(", profile_id = ").push_bind(id);
            }
            if let Some(region) = edit.region {
                update.push(", region = ").push_bind(region.name());
            }
            if let Some(description) = &edit.description {
                update.push(", description = ").push_bind(description);
            }
            if let Some(hardware) = &edit.hardware {
                update.push(", hardware = ").push_bind(hardware);
            }
            if let Some(firmware) = &edit.firmware {
                update.push(", firmware = ").push_bind(firmware);
            }
            if let Some(place) = edit.place {
                update.push(", latitude_deg = ").push_bind(place.map(|place| place.latitude_deg));
                update.push(", longitude_deg = ").push_bind(place.map(|place| place.longitude_deg));
                update.push(", height_m = ").push_bind(place.and_then(|place| place.height_m));
                update.push(", indoor = ").push_bind(place.and_then(|place| place.indoor));
                update.push(", antenna_gain_dbi = ").push_bind(place.and_then(|place| place.antenna_gain_dbi));
                update.push(", penetration_loss_db = ").push_bind(place.and_then(|place| place.penetration_loss_db));
            }
            if let Some(attributes) = &edit.attributes {
                update.push(", attributes = ").push_bind(to_json("attributes", attributes)?);
            }
            if let Some(disabled) = edit.disabled {
                update.push(", disabled = ").push_bind(disabled);
            }
            if let Some(radio) = &edit.radio {
                update.push(", radio = ").push_bind(to_json("radio settings", radio)?);
            }
            update
                .push(" WHERE estate_id = ")
                .push_bind(estate_id)
                .push(" AND dev_eui = ")
                .push_bind(eui_bytes(*dev_eui));
            let done = update.build().execute(&mut *tx).await;
            done.map_err(|e| constraint(e, "a device with that name"))?;
            if let Some(tags) = &edit.tags {
                let clear = sqlx::query("DELETE FROM device_tags WHERE dev_eui = ?").bind(eui_bytes(*dev_eui));
                clear.execute(&mut *tx).await?;
                let tags: Vec<(Eui64, &String)> = tags.iter().map(|tag| (*dev_eui, tag)).collect();
                write_tags(&mut tx, &tags).await?;
            }
        }
        tx.commit().await?;
        Ok(())
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

    /// Removes devices and their state; their messages stay in the history. Returns how many there were.
    pub async fn remove_devices(&self, estate_id: EstateId, euis: &[Eui64]) -> Result<u64, StoreError> {
        let mut tx = self.pool.begin().await?;
        let mut removed = 0;
        for part in euis.chunks(AMONG) {
            let mut delete = QueryBuilder::<MySql>::new("DELETE FROM devices WHERE estate_id = ");
            delete.push_bind(estate_id);
            // State of other estates' devices stays.
            let mut own = QueryBuilder::<MySql>::new("SELECT dev_eui FROM devices WHERE estate_id = ");
            own.push_bind(estate_id);
            let rows = among(&mut own, " AND dev_eui", part, eui_bytes).build().fetch_all(&mut *tx).await?;
            let part: Vec<Eui64> = rows.iter().map(|row| eui(row, "dev_eui")).collect::<Result<_, _>>()?;
            if part.is_empty() {
                continue;
            }
            removed +=
                among(&mut delete, " AND dev_eui", &part, eui_bytes).build().execute(&mut *tx).await?.rows_affected();
            forget(&mut tx, &part).await?;
        }
        tx.commit().await?;
        self.known.forget(euis);
        Ok(removed)
    }

    /// Sets or removes the key that a fleet's devices ship with; returns whether the fleet exists.
    pub async fn set_fleet_key(
        &self,
        estate_id: EstateId,
        slug: &str,
        key: Option<&AesKey>,
    ) -> Result<bool, StoreError> {
        let Some(id) = self.fleet_id(estate_id, slug).await? else { return Ok(false) };
        let sealed = key.map(|key| self.vault.seal(Purpose::FleetKey, fleet_owner(id), &key.0)).transpose()?;
        let update = sqlx::query("UPDATE fleets SET default_app_key_sealed = ? WHERE id = ?");
        update.bind(sealed).bind(id).execute(&self.pool).await?;
        Ok(true)
    }
}

/// The owner that a fleet's key is sealed for.
fn fleet_owner(id: u32) -> Eui64 {
    Eui64(id.into())
}

async fn write_tags(tx: &mut Transaction<'_, MySql>, tags: &[(Eui64, &String)]) -> Result<(), StoreError> {
    for part in parts(tags) {
        let mut insert = QueryBuilder::<MySql>::new("INSERT INTO device_tags (dev_eui, tag) ");
        insert.push_values(part, |mut row, (dev_eui, tag)| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind((*tag).clone());
        });
        insert.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// Removes the state of devices.
async fn forget(tx: &mut Transaction<'_, MySql>, euis: &[Eui64]) -> Result<(), StoreError> {
    for (table, column) in [
        ("DELETE FROM sessions WHERE ", "dev_eui"),
        ("DELETE FROM counters WHERE ", "dev_eui"),
        ("DELETE FROM dev_nonces WHERE ", "dev_eui"),
        ("DELETE FROM nonces WHERE ", "dev_eui"),
        ("DELETE FROM near_gateways WHERE ", "dev_eui"),
        ("DELETE FROM outbox WHERE ", "dev_eui"),
        ("DELETE FROM activity WHERE ", "dev_eui"),
        ("DELETE FROM last_readings WHERE ", "dev_eui"),
        ("DELETE FROM decode_failures WHERE ", "dev_eui"),
        ("INSERT IGNORE INTO ended_series (id) SELECT id FROM series WHERE ", "dev_eui"),
        ("DELETE FROM series WHERE ", "dev_eui"),
        ("DELETE FROM airtime WHERE transmitter IN ('device', 'towards') AND ", "eui"),
    ] {
        let mut delete = QueryBuilder::<MySql>::new(table);
        among(&mut delete, column, euis, eui_bytes).build().execute(&mut **tx).await?;
    }
    Ok(())
}
