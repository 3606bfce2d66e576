//! Firmware that gateways fetch: what it is and by whom it is signed. Its bytes are the service's to keep.

use api::gateway::firmware::Firmware;
use lorawan::Eui64;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::eui_bytes;
use crate::{EstateId, Store, StoreError};

/// A firmware as it is kept.
#[derive(Debug, Clone)]
pub struct FirmwareRow {
    /// Its summary.
    pub firmware: Firmware,
    /// Its signature.
    pub signature: Vec<u8>,
}

fn read(row: &MySqlRow) -> Result<FirmwareRow, StoreError> {
    Ok(FirmwareRow {
        firmware: Firmware {
            id: row.try_get("id")?,
            name: row.try_get("name")?,
            key_crc: row.try_get("key_crc")?,
            size_bytes: row.try_get("size_bytes")?,
            sha256: hex::encode(row.try_get::<Vec<u8>, _>("sha256")?),
            added_at: row.try_get("added_at")?,
        },
        signature: row.try_get("signature")?,
    })
}

impl Store {
    /// Stores a firmware.
    pub async fn add_firmware(&self, estate_id: EstateId, row: &FirmwareRow) -> Result<(), StoreError> {
        let insert =
            "INSERT INTO gateway_firmware (id, estate_id, name, key_crc, signature, size_bytes, sha256, added_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)";
        let sha256 = hex::decode(&row.firmware.sha256).map_err(|why| StoreError::unreadable("sha256", why))?;
        sqlx::query(insert)
            .bind(&row.firmware.id)
            .bind(estate_id)
            .bind(&row.firmware.name)
            .bind(row.firmware.key_crc)
            .bind(&row.signature)
            .bind(row.firmware.size_bytes)
            .bind(sha256)
            .bind(row.firmware.added_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// An estate's firmware, the latest first.
    pub async fn firmware(&self, estate_id: EstateId) -> Result<Vec<FirmwareRow>, StoreError> {
        let select = "SELECT * FROM gateway_firmware WHERE estate_id = ? ORDER BY id DESC";
        let rows = sqlx::query(select).bind(estate_id).fetch_all(&self.pool).await?;
        rows.iter().map(read).collect()
    }

    /// Whether there was one to remove; no gateway is handed it any more.
    pub async fn remove_firmware(&self, estate_id: EstateId, id: &str) -> Result<bool, StoreError> {
        let delete = "DELETE FROM gateway_firmware WHERE estate_id = ? AND id = ?";
        let done = sqlx::query(delete).bind(estate_id).bind(id).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Has a gateway handed a firmware when it next asks, or none.
    pub async fn hand_firmware(&self, gateway: Eui64, firmware: Option<&str>) -> Result<(), StoreError> {
        let update = "UPDATE gateways SET firmware_id = ? WHERE eui = ?";
        sqlx::query(update).bind(firmware).bind(eui_bytes(gateway)).execute(&self.pool).await?;
        Ok(())
    }

    /// The firmware a gateway is to be handed.
    pub async fn firmware_for(&self, gateway: Eui64) -> Result<Option<FirmwareRow>, StoreError> {
        let select = "SELECT f.* FROM gateway_firmware f JOIN gateways g ON g.firmware_id = f.id WHERE g.eui = ?";
        let row = sqlx::query(select).bind(eui_bytes(gateway)).fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }
}
