//! Reading columns into the house's own types.

use chrono::{DateTime, Utc};
use engine::Timestamp;
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::StoreError;

pub(crate) fn eui(row: &MySqlRow, column: &'static str) -> Result<Eui64, StoreError> {
    let bytes: Vec<u8> = row.try_get(column)?;
    let bytes = <[u8; 8]>::try_from(bytes.as_slice()).map_err(|_| StoreError::unreadable(column, "not 8 bytes"))?;
    Ok(Eui64(u64::from_be_bytes(bytes)))
}

pub(crate) fn eui_bytes(eui: Eui64) -> Vec<u8> {
    eui.to_bytes().to_vec()
}

pub(crate) fn region(row: &MySqlRow) -> Result<Region, StoreError> {
    let name: String = row.try_get("region")?;
    serde_json::from_value(name.into()).map_err(|why| StoreError::unreadable("region", why))
}

pub(crate) fn json<T: serde::de::DeserializeOwned>(what: &'static str, text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|why| StoreError::unreadable(what, why))
}

pub(crate) fn to_json<T: serde::Serialize>(what: &'static str, value: &T) -> Result<String, StoreError> {
    serde_json::to_string(value).map_err(|why| StoreError::unreadable(what, why))
}

pub(crate) fn time_of(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or(DateTime::UNIX_EPOCH)
}

pub(crate) fn timestamp_of(at: DateTime<Utc>) -> Timestamp {
    Timestamp(at.timestamp_micros())
}
