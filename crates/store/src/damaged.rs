//! Rows that cannot be read: named and passed over, so that one of them does not keep the service from starting.

use std::sync::{Arc, Mutex, PoisonError};

use lorawan::Eui64;
use sqlx::mysql::MySqlRow;

use crate::rows::eui;
use crate::{Store, StoreError};

/// A row that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damaged {
    /// The table or what it holds.
    pub what: &'static str,
    /// The device, gateway or group it belongs to, if that can be read.
    pub eui: Option<Eui64>,
    /// What is wrong with it.
    pub why: String,
}

/// Those that were met.
#[derive(Debug, Clone, Default)]
pub(crate) struct Found(Arc<Mutex<Vec<Damaged>>>);

/// More are not remembered.
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
    /// What can be read of these rows; the others are remembered. `key` is the column that says whose they are.
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

    /// Rows that could not be read since this was last asked.
    pub fn take_damaged(&self) -> Vec<Damaged> {
        std::mem::take(&mut *self.damaged.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
