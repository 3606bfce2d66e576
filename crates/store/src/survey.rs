//! The survey: uplinks as evidence of coverage, compact, and kept for longer than messages.

use api::coverage::survey::SurveyImport;
use chrono::{DateTime, Utc};
use futures::TryStreamExt as _;
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _, Transaction};
use ulid::Ulid;

use crate::rows::{eui, eui_bytes, json, region, to_json};
use crate::{EstateId, Store, StoreError, WrittenMessage, constraint};

/// Rows of one statement.
const PART: usize = 500;
/// Rows that are deleted at a time: others write in between.
const DELETED: u32 = 20_000;
/// Gateways of one row.
const MOST_GATEWAYS: usize = 40;
const GATEWAY_BYTES: usize = 12;

/// A gateway that heard an uplink.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HeardRow {
    /// Its EUI.
    pub gateway: Eui64,
    /// Signal strength, in dBm.
    pub rssi_dbm: f32,
    /// Signal over noise, in dB.
    pub snr_db: f32,
}

/// An uplink as it is kept for the survey.
#[derive(Debug, Clone, PartialEq)]
pub struct ObservationRow {
    /// Its estate.
    pub estate_id: EstateId,
    /// Its name, which begins with its time.
    pub id: Ulid,
    /// The device.
    pub dev_eui: Eui64,
    /// The import that it came with; none if the network heard it.
    pub import_id: Option<u32>,
    /// Latitude and longitude as the device told them.
    pub told_place: Option<(f64, f64)>,
    /// The index of its data rate.
    pub data_rate: u8,
    /// The SNR that the data rate needs, in dB.
    pub needed_snr_db: f32,
    /// What the device was told to transmit with, in dBm.
    pub power_dbm: Option<f32>,
    /// How many uplinks it stands for.
    pub uplinks: u16,
    /// How many were lost since the one before.
    pub lost: u16,
    /// Who heard it: the first 40.
    pub heard: Vec<HeardRow>,
}

/// What the survey needs to know of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct SurveyedDevice {
    /// Its DevEUI.
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// Its region.
    pub region: Region,
    /// Its latitude and longitude, if they are known.
    pub place: Option<(f64, f64)>,
}

fn heard_bytes(heard: &[HeardRow]) -> Vec<u8> {
    let tenths = |value: f32| ((value * 10.0).round() as i16).to_be_bytes();
    let one = |one: &HeardRow| [&one.gateway.to_bytes()[..], &tenths(one.rssi_dbm), &tenths(one.snr_db)].concat();
    heard.iter().take(MOST_GATEWAYS).flat_map(one).collect()
}

fn heard_of(bytes: &[u8]) -> Vec<HeardRow> {
    let (parts, _) = bytes.as_chunks::<GATEWAY_BYTES>();
    let tenths = |high: u8, low: u8| f32::from(i16::from_be_bytes([high, low])) / 10.0;
    let one = |&[a, b, c, d, e, f, g, h, r, s, n, m]: &[u8; GATEWAY_BYTES]| HeardRow {
        gateway: Eui64(u64::from_be_bytes([a, b, c, d, e, f, g, h])),
        rssi_dbm: tenths(r, s),
        snr_db: tenths(n, m),
    };
    parts.iter().map(one).collect()
}

fn read(row: &MySqlRow, estate_id: EstateId) -> Result<ObservationRow, StoreError> {
    let id: Vec<u8> = row.try_get("id")?;
    let id = <[u8; 16]>::try_from(id.as_slice()).map_err(|_| StoreError::unreadable("id", "not 16 bytes"))?;
    let place: (Option<f64>, Option<f64>) = (row.try_get("latitude_deg")?, row.try_get("longitude_deg")?);
    Ok(ObservationRow {
        estate_id,
        id: Ulid::from_bytes(id),
        dev_eui: eui(row, "dev_eui")?,
        import_id: row.try_get("import_id")?,
        told_place: place.0.zip(place.1),
        data_rate: row.try_get("data_rate")?,
        needed_snr_db: row.try_get("needed_snr_db")?,
        power_dbm: row.try_get("power_dbm")?,
        uplinks: row.try_get("uplinks")?,
        lost: row.try_get("lost")?,
        heard: heard_of(&row.try_get::<Vec<u8>, _>("heard")?),
    })
}

/// The name of the first row that a moment can have.
fn first_at(at: DateTime<Utc>) -> Vec<u8> {
    Ulid::from_parts(at.timestamp_millis().unsigned_abs(), 0).to_bytes().to_vec()
}

/// Adds rows; one that is there already stays.
async fn insert(tx: &mut Transaction<'_, MySql>, rows: &[ObservationRow]) -> Result<(), StoreError> {
    for part in rows.chunks(PART) {
        let mut query = QueryBuilder::<MySql>::new(
            "INSERT IGNORE INTO observations (estate_id, id, dev_eui, import_id, latitude_deg, longitude_deg, data_rate,
             needed_snr_db, power_dbm, uplinks, lost, heard) ",
        );
        query.push_values(part, |mut values, row| {
            values.push_bind(row.estate_id).push_bind(row.id.to_bytes().to_vec()).push_bind(eui_bytes(row.dev_eui));
            values.push_bind(row.import_id).push_bind(row.told_place.map(|place| place.0));
            values.push_bind(row.told_place.map(|place| place.1)).push_bind(row.data_rate);
            values.push_bind(row.needed_snr_db).push_bind(row.power_dbm).push_bind(row.uplinks).push_bind(row.lost);
            values.push_bind(heard_bytes(&row.heard));
        });
        query.build().persistent(part.len() == PART).execute(&mut **tx).await?;
    }
    Ok(())
}

impl Store {
    /// Adds observations; one that is there already stays. `mark` is the last message that they are of.
    ///
    /// # Errors
    /// If the database does not answer; then none is added.
    pub async fn add_observations(&self, rows: &[ObservationRow], mark: Option<&str>) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        insert(&mut tx, rows).await?;
        if let Some(mark) = mark {
            sqlx::query("INSERT INTO survey_mark (id, message_id) VALUES (0, ?) ON DUPLICATE KEY UPDATE message_id = VALUES(message_id)")
                .bind(mark)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// The last message that the survey has taken in.
    pub async fn survey_mark(&self) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT message_id FROM survey_mark WHERE id = 0").fetch_optional(&self.pool).await?)
    }

    /// Uplinks after a message, of all estates, oldest first.
    pub async fn uplinks_after(&self, after: &str, limit: u32) -> Result<Vec<WrittenMessage>, StoreError> {
        let rows =
            sqlx::query("SELECT estate_id, body FROM messages WHERE id > ? AND kind = 'uplink' ORDER BY id LIMIT ?")
                .bind(after)
                .bind(limit)
                .fetch_all(&self.pool)
                .await?;
        let written = |row: &MySqlRow| {
            let text: String = row.try_get("body")?;
            Ok(WrittenMessage { estate_id: row.try_get("estate_id")?, message: json("message", &text)?, json: text })
        };
        rows.iter().map(written).collect()
    }

    /// Gives the latest observations of an estate to `take`, oldest first; at most `most`. Returns whether there are more.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn observations(
        &self,
        estate_id: EstateId,
        most: u32,
        mut take: impl FnMut(ObservationRow) + Send,
    ) -> Result<bool, StoreError> {
        let first: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT id FROM observations WHERE estate_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?")
                .bind(estate_id)
                .bind(most)
                .fetch_optional(&self.pool)
                .await?;
        let statement = sqlx::query("SELECT * FROM observations WHERE estate_id = ? AND id > ? ORDER BY id");
        let mut rows = statement.bind(estate_id).bind(first.clone().unwrap_or_default()).fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            take(read(&row, estate_id)?);
        }
        Ok(first.is_some())
    }

    /// The devices of an estate, as far as the survey needs them.
    pub async fn surveyed_devices(&self, estate_id: EstateId) -> Result<Vec<SurveyedDevice>, StoreError> {
        let rows = sqlx::query(
            "SELECT d.dev_eui, d.name, f.slug AS fleet, d.region, d.latitude_deg, d.longitude_deg FROM devices d
             JOIN fleets f ON f.id = d.fleet_id WHERE d.estate_id = ? ORDER BY d.dev_eui",
        )
        .bind(estate_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(self.readable("device", "dev_eui", &rows, |row| {
            let place: (Option<f64>, Option<f64>) = (row.try_get("latitude_deg")?, row.try_get("longitude_deg")?);
            Ok(SurveyedDevice {
                dev_eui: eui(row, "dev_eui")?,
                name: row.try_get("name")?,
                fleet: row.try_get("fleet")?,
                region: region(row)?,
                place: place.0.zip(place.1),
            })
        }))
    }

    /// The drive tests that were imported into an estate, by name, each with its number.
    pub async fn survey_imports(&self, estate_id: EstateId) -> Result<Vec<(u32, SurveyImport)>, StoreError> {
        let rows = sqlx::query("SELECT id, about FROM survey_imports WHERE estate_id = ? ORDER BY name")
            .bind(estate_id)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(|row| Ok((row.try_get("id")?, json("import", &row.try_get::<String, _>("about")?)?))).collect()
    }

    /// Adds a drive test with its observations, whole or not at all; `rows` are made for its number.
    ///
    /// # Errors
    /// If there is one of that name, or the database does not answer.
    pub async fn add_survey_import(
        &self,
        estate_id: EstateId,
        about: &SurveyImport,
        rows: impl FnOnce(u32) -> Vec<ObservationRow> + Send,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query("INSERT INTO survey_imports (estate_id, name, about) VALUES (?, ?, ?)")
            .bind(estate_id)
            .bind(&about.name)
            .bind(to_json("import", about)?)
            .execute(&mut *tx)
            .await
            .map_err(|why| constraint(why, "import"))?;
        let id = u32::try_from(done.last_insert_id()).map_err(|why| StoreError::unreadable("id", why))?;
        insert(&mut tx, &rows(id)).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a drive test with its observations; whether there was one.
    ///
    /// # Errors
    /// If the database does not answer; then it stays.
    pub async fn remove_survey_import(&self, estate_id: EstateId, name: &str) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "DELETE o FROM observations o JOIN survey_imports i ON i.id = o.import_id WHERE i.estate_id = ? AND i.name = ?",
        )
        .bind(estate_id)
        .bind(name)
        .execute(&mut *tx)
        .await?;
        let done = sqlx::query("DELETE FROM survey_imports WHERE estate_id = ? AND name = ?");
        let removed = done.bind(estate_id).bind(name).execute(&mut *tx).await?.rows_affected() > 0;
        tx.commit().await?;
        Ok(removed)
    }

    /// Estates that have observations of the network.
    pub async fn surveyed_estates(&self) -> Result<Vec<EstateId>, StoreError> {
        Ok(sqlx::query_scalar("SELECT DISTINCT estate_id FROM observations").fetch_all(&self.pool).await?)
    }

    /// Deletes a part of the observations from before a time, of all estates; how many.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn prune_observations(&self, before: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut deleted = 0;
        for estate_id in self.surveyed_estates().await? {
            let done = sqlx::query("DELETE FROM observations WHERE estate_id = ? AND id < ? LIMIT ?");
            let done = done.bind(estate_id).bind(first_at(before)).bind(DELETED).execute(&self.pool).await?;
            deleted += done.rows_affected();
        }
        Ok(deleted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gateways_are_kept_in_twelve_bytes_each() {
        let one = |n: u64| HeardRow { gateway: Eui64(n << 40 | 7), rssi_dbm: -113.5, snr_db: -7.2 };
        let all: Vec<HeardRow> = (0..3).map(one).collect();
        assert_eq!(heard_of(&heard_bytes(&all)), all);
        let many: Vec<HeardRow> = (0..90).map(one).collect();
        assert_eq!(heard_bytes(&many).len(), 480);
        assert_eq!(heard_of(&[1, 2, 3]), []);
    }
}
