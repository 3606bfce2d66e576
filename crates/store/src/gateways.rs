//! Registered gateways.

use std::collections::HashSet;

use chrono::{DateTime, SubsecRound as _, Utc};
use domain::gateway::channels;
use domain::gateway::check::CheckedGateway;
use lorawan::Eui64;
use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{MySql, Row as _};

use crate::devices::{anywhere, eui_digits};
use crate::rows::{eui, eui_bytes, region};
use crate::{EstateId, Store, StoreError, constraint};

/// A registered gateway.
#[derive(Debug, Clone)]
pub struct GatewayRow {
    /// Its estate.
    pub estate_id: EstateId,
    /// The gateway's EUI.
    pub gateway: CheckedGateway,
    /// When it was registered.
    pub added_at: DateTime<Utc>,
    /// When it was last heard.
    pub last_heard: Option<DateTime<Utc>>,
}

fn read(row: &MySqlRow) -> Result<GatewayRow, StoreError> {
    Ok(GatewayRow {
        estate_id: row.try_get("estate_id")?,
        gateway: CheckedGateway {
            eui: eui(row, "eui")?,
            name: row.try_get("name")?,
            description: row.try_get("description")?,
            region: region(row)?,
            channels: channels::channels(region(row)?.plan(), row.try_get::<Option<&str>, _>("channels")?)
                .map_err(|why| StoreError::unreadable("channels", why))?
                .0,
            protocol: row
                .try_get::<&str, _>("protocol")?
                .parse()
                .map_err(|why: String| StoreError::unreadable("protocol", why))?,
            udp_source: row
                .try_get::<Option<&str>, _>("udp_source")?
                .map(domain::gateway::check::source)
                .transpose()
                .map_err(|why| StoreError::unreadable("udp_source", why))?,
            latitude_deg: row.try_get("latitude_deg")?,
            longitude_deg: row.try_get("longitude_deg")?,
            altitude_m: row.try_get("altitude_m")?,
            antenna_gain_dbi: row.try_get("antenna_gain_dbi")?,
            cable_loss_db: row.try_get("cable_loss_db")?,
            open_to_others: row.try_get("open_to_others")?,
            beacons: row.try_get("beacons")?,
        },
        added_at: row.try_get("added_at")?,
        last_heard: row.try_get("last_heard")?,
    })
}

/// A statement that takes a gateway's settings, its estate and its EUI, in this order.
fn about<'q>(
    statement: &'static str,
    estate_id: EstateId,
    gateway: &'q CheckedGateway,
) -> Query<'q, MySql, MySqlArguments> {
    sqlx::query(statement)
        .bind(&gateway.name)
        .bind(&gateway.description)
        .bind(gateway.region.name())
        .bind(gateway.channels.to_string())
        .bind(gateway.protocol.name())
        .bind(gateway.udp_source.map(|net| net.to_string()))
        .bind(gateway.latitude_deg)
        .bind(gateway.longitude_deg)
        .bind(gateway.altitude_m)
        .bind(gateway.antenna_gain_dbi)
        .bind(gateway.cable_loss_db)
        .bind(gateway.beacons)
        .bind(gateway.open_to_others)
        .bind(estate_id)
        .bind(eui_bytes(gateway.eui))
}

impl Store {
    /// Registers gateways: all of them or none. Returns when they were registered, as the database keeps it.
    pub async fn add_gateways(
        &self,
        estate_id: EstateId,
        gateways: &[&CheckedGateway],
    ) -> Result<DateTime<Utc>, StoreError> {
        let added_at = Utc::now().trunc_subsecs(6);
        let insert = "INSERT INTO gateways (name, description, region, channels, protocol, udp_source, latitude_deg,
             longitude_deg, altitude_m, antenna_gain_dbi, cable_loss_db, beacons, open_to_others, estate_id, eui, added_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
        let mut tx = self.pool.begin().await?;
        for gateway in gateways {
            // What happened to a gateway of that EUI before is not this one's, and perhaps another estate's.
            sqlx::query("DELETE FROM gateway_events WHERE eui = ?")
                .bind(eui_bytes(gateway.eui))
                .execute(&mut *tx)
                .await?;
            about(insert, estate_id, gateway)
                .bind(added_at)
                .execute(&mut *tx)
                .await
                .map_err(|e| constraint(e, "a gateway with that EUI or name"))?;
        }
        tx.commit().await?;
        Ok(added_at)
    }

    /// EUIs that are registered, in whichever estate, and names that are given in this one.
    pub async fn taken_gateways(&self, estate_id: EstateId) -> Result<(HashSet<Eui64>, HashSet<String>), StoreError> {
        let rows = sqlx::query("SELECT eui, estate_id, name FROM gateways").fetch_all(&self.pool).await?;
        let (mut euis, mut names) = (HashSet::new(), HashSet::new());
        for row in &rows {
            euis.insert(eui(row, "eui")?);
            if row.try_get::<EstateId, _>("estate_id")? == estate_id {
                names.insert(row.try_get("name")?);
            }
        }
        Ok((euis, names))
    }

    /// Writes what a gateway's settings now are; `None` if it is not there.
    pub async fn change_gateway(
        &self,
        estate_id: EstateId,
        gateway: &CheckedGateway,
    ) -> Result<Option<GatewayRow>, StoreError> {
        let update =
            "UPDATE gateways SET name = ?, description = ?, region = ?, channels = ?, protocol = ?, udp_source = ?,
             latitude_deg = ?, longitude_deg = ?, altitude_m = ?, antenna_gain_dbi = ?, cable_loss_db = ?, beacons = ?,
             open_to_others = ? WHERE estate_id = ? AND eui = ?";
        about(update, estate_id, gateway)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "a gateway with that name"))?;
        self.gateway(estate_id, gateway.eui).await
    }

    /// All gateways of all estates, for the start of the service.
    pub async fn all_gateways(&self) -> Result<Vec<GatewayRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM gateways").fetch_all(&self.pool).await?;
        Ok(self.readable("gateway", "eui", &rows, read))
    }

    /// A page of an estate's gateways by name.
    pub async fn gateways(&self, estate_id: EstateId, after: &str, limit: u32) -> Result<Vec<GatewayRow>, StoreError> {
        let statement = "SELECT * FROM gateways WHERE estate_id = ? AND name > ? ORDER BY name LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    /// Gateways with this in their name or EUI, by name.
    pub async fn find_gateways(
        &self,
        estate_id: EstateId,
        text: &str,
        limit: u32,
    ) -> Result<Vec<GatewayRow>, StoreError> {
        let digits = eui_digits(text).map(|digits| anywhere(&digits));
        let rows = sqlx::query(
            "SELECT * FROM gateways WHERE estate_id = ? AND (name LIKE ? OR HEX(eui) LIKE ?) ORDER BY name LIMIT ?",
        )
        .bind(estate_id)
        .bind(anywhere(text))
        .bind(digits)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// One gateway of an estate.
    pub async fn gateway(&self, estate_id: EstateId, gateway: Eui64) -> Result<Option<GatewayRow>, StoreError> {
        let row = sqlx::query("SELECT * FROM gateways WHERE estate_id = ? AND eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(gateway))
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }

    /// Whether there was one to remove.
    pub async fn remove_gateway(&self, estate_id: EstateId, gateway: Eui64) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM gateways WHERE estate_id = ? AND eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(gateway))
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Notes when gateways were last heard.
    pub async fn note_heard(&self, heard: &[(Eui64, DateTime<Utc>)]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        for (gateway, at) in heard {
            sqlx::query("UPDATE gateways SET last_heard = ? WHERE eui = ?")
                .bind(at)
                .bind(eui_bytes(*gateway))
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }
}
