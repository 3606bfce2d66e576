//! Rows that cannot be read: they are named and skipped, so that one of them does not prevent a start.

use std::sync::{Arc, Mutex, PoisonError};

use lorawan::Eui64;
use sqlx::mysql::MySqlRow;

use crate::rows::eui;
use crate::{Store, StoreError};

/// A row that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damaged {
    /// What the row is.
    pub what: &'static str,
    /// The device, gateway or group it belongs to, if that can be read.
    pub eui: Option<Eui64>,
    /// What is wrong with it.
    pub why: String,
}

/// The damaged rows found.
#[derive(Debug, Clone, Default)]
pub(crate) struct Found(Arc<Mutex<Vec<Damaged>>>);

/// The most that are remembered.
const MOST: usize = 1000;

impl Found {
    fn add(&self, damaged: Damaged) {
        let mut found = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if found.len() < MOST && !found.contains(&damaged) {
            found.push(damaged);
        }
    }
}

impl Store {
    /// Reads rows; those that cannot be read are remembered. `key` is the column with the owner.
    pub(crate) fn readable<T>(
        &self,
        what: &'static str,
        key: &'static str,
        rows: &[MySqlRow],
        mut read: impl FnMut(&MySqlRow) -> Result<T, StoreError>,
    ) -> Vec<T> {
        let mut good = Vec::with_capacity(rows.len());
        for row in rows {
            match read(row) {
                Ok(read) => good.push(read),
                Err(why) => self.damaged.add(Damaged { what, eui: eui(row, key).ok(), why: why.to_string() }),
            }
        }
        good
    }

    /// Rows that could not be read since the last call.
    pub fn take_damaged(&self) -> Vec<Damaged> {
        std::mem::take(&mut *self.damaged.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
