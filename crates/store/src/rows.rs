//! Reading columns into the workspace's own types, and what several queries share.

use chrono::{DateTime, Utc};
use engine::Timestamp;
use lorawan::Eui64;
use lorawan::region::Region;
use sqlx::mysql::MySqlRow;
use sqlx::{Encode, MySql, QueryBuilder, Row as _, Type};
use ulid::Ulid;

use crate::StoreError;

pub(crate) fn eui(row: &MySqlRow, column: &'static str) -> Result<Eui64, StoreError> {
    let bytes: Vec<u8> = row.try_get(column)?;
    let bytes = <[u8; 8]>::try_from(bytes.as_slice()).map_err(|_| StoreError::unreadable(column, "not 8 bytes"))?;
    Ok(Eui64(u64::from_be_bytes(bytes)))
}

/// An EUI that may be left out.
pub(crate) fn optional_eui(row: &MySqlRow, column: &'static str) -> Result<Option<Eui64>, StoreError> {
    match row.try_get::<Option<Vec<u8>>, _>(column)? {
        Some(_) => eui(row, column).map(Some),
        None => Ok(None),
    }
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

/// EUIs that one statement looks for at most.
pub(crate) const AMONG: usize = 1024;

/// Adds that a column holds one of these values. The last is named several times, so that there are few statements of different
/// length: the database prepares each once, and keeps it for longer than it runs.
pub(crate) fn among<'q, T, V>(
    query: &'q mut QueryBuilder<MySql>,
    column: &str,
    values: &[T],
    bound: impl Fn(T) -> V,
) -> &'q mut QueryBuilder<MySql>
where
    T: Copy,
    V: Encode<'static, MySql> + Type<MySql> + Send + 'static,
{
    query.push(column).push(" IN (");
    let mut list = query.separated(", ");
    let again = values.last().into_iter().cycle().take(values.len().next_power_of_two() - values.len());
    for value in values.iter().chain(again) {
        list.push_bind(bound(*value));
    }
    query.push(")")
}

/// The moment that the name of a message begins with; `None` if it is not such a name.
pub fn moment_of_name(name: &str) -> Option<DateTime<Utc>> {
    let ms = Ulid::from_string(name).ok()?.timestamp_ms();
    DateTime::from_timestamp_millis(i64::try_from(ms).ok()?)
}

/// Names of messages sort by time: the first that one of this moment can have.
pub fn first_name_at(at: DateTime<Utc>) -> String {
    Ulid::from_parts(at.timestamp_millis().unsigned_abs(), 0).to_string()
}
