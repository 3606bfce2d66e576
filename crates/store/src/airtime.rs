//! Accounts of airtime, as they were written minute by minute.

use engine::{Transmitter, Used};
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{eui, region};
use crate::{EstateId, Store, StoreError};

/// A part of a day, in minutes.
const QUARTER: i64 = 15;

/// One sub-band's account over some time.
#[derive(Debug, Clone)]
pub struct AirtimeRow {
    pub transmitter: Transmitter,
    pub region: Region,
    pub name: String,
    pub fleet: Option<String>,
    pub sub_band: String,
    pub used: Used,
}

/// One sub-band's account of a gateway in a quarter of an hour.
#[derive(Debug, Clone)]
pub struct QuarterRow {
    pub gateway: Eui64,
    pub sub_band: String,
    /// Counted from 1970.
    pub quarter: i64,
    pub used: Used,
}

fn used(row: &MySqlRow) -> Result<Used, StoreError> {
    // Sums are decimals in MariaDB; these fit whole numbers.
    Ok(Used {
        airtime_us: row.try_get::<i64, _>("airtime_us")?.unsigned_abs(),
        frames: u32::try_from(row.try_get::<i64, _>("frames")?).unwrap_or(u32::MAX),
    })
}

impl Store {
    /// What an estate's gateways sent since a minute, by quarter of an hour.
    pub async fn gateway_quarters(&self, estate_id: EstateId, since: i64) -> Result<Vec<QuarterRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT a.eui, a.sub_band, CAST(a.minute DIV ? AS SIGNED) AS quarter, CAST(SUM(a.airtime_us) AS SIGNED) AS airtime_us,
             CAST(SUM(a.frames) AS SIGNED) AS frames
             FROM airtime a JOIN gateways g ON g.eui = a.eui
             WHERE a.transmitter = 'gateway' AND g.estate_id = ? AND a.minute >= ?
             GROUP BY a.eui, a.sub_band, quarter",
        )
        .bind(QUARTER)
        .bind(estate_id)
        .bind(since)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(QuarterRow {
                    gateway: eui(row, "eui")?,
                    sub_band: row.try_get("sub_band")?,
                    quarter: row.try_get::<i64, _>("quarter")?,
                    used: used(row)?,
                })
            })
            .collect()
    }

    /// What an estate's devices sent, or (`towards`) were sent, since a minute, by device and sub-band; those
    /// with most airtime first.
    pub async fn device_airtime(
        &self,
        estate_id: EstateId,
        towards: bool,
        since: i64,
        limit: u32,
    ) -> Result<Vec<AirtimeRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT a.eui, d.name, d.region, f.slug AS fleet, a.sub_band,
             CAST(SUM(a.airtime_us) AS SIGNED) AS airtime_us, CAST(SUM(a.frames) AS SIGNED) AS frames
             FROM airtime a JOIN devices d ON d.dev_eui = a.eui JOIN fleets f ON f.id = d.fleet_id
             WHERE a.transmitter = ? AND d.estate_id = ? AND a.minute >= ?
             GROUP BY a.eui, a.sub_band HAVING frames > 0 ORDER BY airtime_us DESC LIMIT ?",
        )
        .bind(if towards { "towards" } else { "device" })
        .bind(estate_id)
        .bind(since)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let whose = eui(row, "eui")?;
                Ok(AirtimeRow {
                    transmitter: if towards { Transmitter::Towards(whose) } else { Transmitter::Device(whose) },
                    region: region(row)?,
                    name: row.try_get("name")?,
                    fleet: row.try_get("fleet")?,
                    sub_band: row.try_get("sub_band")?,
                    used: used(row)?,
                })
            })
            .collect()
    }

    /// What an estate's devices sent since a minute, by region and sub-band.
    pub async fn band_airtime(
        &self,
        estate_id: EstateId,
        since: i64,
    ) -> Result<Vec<(Region, String, Used)>, StoreError> {
        let rows = sqlx::query(
            "SELECT d.region, a.sub_band, CAST(SUM(a.airtime_us) AS SIGNED) AS airtime_us,
             CAST(SUM(a.frames) AS SIGNED) AS frames
             FROM airtime a JOIN devices d ON d.dev_eui = a.eui
             WHERE a.transmitter = 'device' AND d.estate_id = ? AND a.minute >= ? GROUP BY d.region, a.sub_band",
        )
        .bind(estate_id)
        .bind(since)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| Ok((region(row)?, row.try_get("sub_band")?, used(row)?))).collect()
    }
}
