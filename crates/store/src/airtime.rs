//! Airtime accounts, stored by the minute.

use engine::Used;
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::rows::{eui, region};
use crate::{EstateId, Store, StoreError};

/// A part of a day, in minutes.
const QUARTER: i64 = 15;

/// The first minute of each of the three sums.
#[derive(Debug, Clone, Copy)]
pub struct Since {
    /// The minute before this one, for what is sent now.
    pub now: i64,
    /// The first minute of the last hour.
    pub hour: i64,
    /// The first minute of the last 24 hours.
    pub day: i64,
}

/// The three sums.
#[derive(Debug, Clone, Copy)]
pub struct Sums {
    /// Since the minute before this one.
    pub now: Used,
    /// In the last hour.
    pub hour: Used,
    /// In the last 24 hours.
    pub day: Used,
}

/// One sub-band's account of a device.
#[derive(Debug, Clone)]
pub struct AirtimeRow {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// Its region.
    pub region: Region,
    /// The device's name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The sub-band.
    pub sub_band: String,
    /// Airtime and frames.
    pub sums: Sums,
}

/// One sub-band's account of a gateway in a quarter of an hour.
#[derive(Debug, Clone)]
pub struct QuarterRow {
    /// The gateway's EUI.
    pub gateway: Eui64,
    /// The sub-band.
    pub sub_band: String,
    /// Counted from 1970.
    pub quarter: i64,
    /// Airtime and frames.
    pub used: Used,
}

// Sums are decimals in MariaDB; these fit whole numbers.
fn used(row: &MySqlRow, airtime_us: &str, frames: &str) -> Result<Used, StoreError> {
    Ok(Used {
        airtime_us: row.try_get::<i64, _>(airtime_us)?.unsigned_abs(),
        frames: u32::try_from(row.try_get::<i64, _>(frames)?).unwrap_or(u32::MAX),
    })
}

fn sums(row: &MySqlRow) -> Result<Sums, StoreError> {
    Ok(Sums {
        now: used(row, "now_us", "now_frames")?,
        hour: used(row, "hour_us", "hour_frames")?,
        day: used(row, "day_us", "day_frames")?,
    })
}

/// A query for the sums of an estate's transmitters of a kind, without its grouping. `owners` joins
/// those that have the accounts, as `o`.
fn question(
    columns: &'static str,
    owners: &'static str,
    transmitter: &'static str,
    estate_id: EstateId,
    since: Since,
) -> QueryBuilder<MySql> {
    let mut query = QueryBuilder::new("SELECT ");
    query.push(columns);
    for (from, part) in [(since.now, "now"), (since.hour, "hour")] {
        query.push(", CAST(SUM(IF(a.minute >= ").push_bind(from);
        query.push(", a.airtime_us, 0)) AS SIGNED) AS ").push(part).push("_us, CAST(SUM(IF(a.minute >= ");
        query.push_bind(from).push(", a.frames, 0)) AS SIGNED) AS ").push(part).push("_frames");
    }
    query.push(
        ", CAST(SUM(a.airtime_us) AS SIGNED) AS day_us, CAST(SUM(a.frames) AS SIGNED) AS day_frames FROM airtime a ",
    );
    query.push(owners).push(" WHERE a.transmitter = ").push_bind(transmitter);
    query.push(" AND o.estate_id = ").push_bind(estate_id).push(" AND a.minute >= ").push_bind(since.day);
    query.push(" GROUP BY ");
    query
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
                    used: used(row, "airtime_us", "frames")?,
                })
            })
            .collect()
    }

    /// What an estate's gateways sent, by gateway.
    pub async fn gateway_airtime(
        &self,
        estate_id: EstateId,
        since: Since,
    ) -> Result<Vec<(Eui64, String, Sums)>, StoreError> {
        let owners = "JOIN gateways o ON o.eui = a.eui";
        let mut query = question("a.eui, a.sub_band", owners, "gateway", estate_id, since);
        query.push("a.eui, a.sub_band");
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok((eui(row, "eui")?, row.try_get("sub_band")?, sums(row)?))).collect()
    }

    /// What an estate's devices sent, or (`towards`) were sent, by device and sub-band; those with most airtime in
    /// the last hour, or the last day, first.
    pub async fn device_airtime(
        &self,
        estate_id: EstateId,
        towards: bool,
        since: Since,
        limit: u32,
    ) -> Result<Vec<AirtimeRow>, StoreError> {
        let columns = "a.eui, o.name, o.region, f.slug AS fleet, a.sub_band";
        let owners = "JOIN devices o ON o.dev_eui = a.eui JOIN fleets f ON f.id = o.fleet_id";
        let transmitter = if towards { "towards" } else { "device" };
        let mut query = question(columns, owners, transmitter, estate_id, since);
        query.push("a.eui, a.sub_band HAVING day_frames > 0 ORDER BY ");
        query.push(if towards { "day_us" } else { "hour_us DESC, day_us" }).push(" DESC LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter()
            .map(|row| {
                Ok(AirtimeRow {
                    dev_eui: eui(row, "eui")?,
                    region: region(row)?,
                    name: row.try_get("name")?,
                    fleet: row.try_get("fleet")?,
                    sub_band: row.try_get("sub_band")?,
                    sums: sums(row)?,
                })
            })
            .collect()
    }

    /// What an estate's devices sent, by region and sub-band.
    pub async fn band_airtime(
        &self,
        estate_id: EstateId,
        since: Since,
    ) -> Result<Vec<(Region, String, Sums)>, StoreError> {
        let owners = "JOIN devices o ON o.dev_eui = a.eui";
        let mut query = question("o.region, a.sub_band", owners, "device", estate_id, since);
        query.push("o.region, a.sub_band");
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok((region(row)?, row.try_get("sub_band")?, sums(row)?))).collect()
    }
}
