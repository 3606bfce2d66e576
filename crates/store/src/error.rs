//! Why the store could not do something, and what that means for the caller.

use std::time::Duration;

use sqlx::mysql::MySqlDatabaseError;
use thiserror::Error;

use crate::vault::VaultError;

/// Why the store could not do something.
#[derive(Debug, Error)]
pub enum StoreError {
    /// Something of that name or EUI is there already.
    #[error("{0} exists already")]
    Exists(&'static str),
    /// Something it refers to was removed meanwhile.
    #[error("{0} is gone")]
    Gone(&'static str),
    /// It is still used by something else.
    #[error("{0} is still in use")]
    InUse(&'static str),
    /// A name has characters that none of its kind has, so there is nothing of that name.
    #[error("there is nothing of that name")]
    NoSuchName,
    /// The database did not do as it was told.
    #[error("the database: {0}")]
    Database(sqlx::Error),
    /// The database did not answer in time.
    #[error("the database did not answer within {} s", .0.as_secs())]
    NoAnswer(Duration),
    /// Another instance has taken the database over; this one may write nothing more.
    #[error("another herond has taken the database over: {0}")]
    TakenOver(String),
    /// Another instance holds the database.
    #[error("the database is held by {holder}, which last wrote {age_s} s ago")]
    Held {
        /// Who holds it.
        holder: String,
        /// Seconds since it last renewed its lease.
        age_s: u64,
    },
    /// The schema could not be brought up to date.
    #[error("the database schema: {0}")]
    Schema(String),
    /// A sealed key does not open, or a new one could not be sealed.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// A row does not hold what it should.
    #[error("a stored {what} cannot be read: {why}")]
    Unreadable {
        /// What was read.
        what: &'static str,
        /// Why not.
        why: String,
    },
}

// Not `#[from]`: sqlx's own message already holds its cause, which would be told twice.
impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        // A text that cannot be compared with a column of plain characters (error 1267) is in no row of it.
        if number(&error) == Some(1267) {
            return Self::NoSuchName;
        }
        Self::Database(error)
    }
}

/// MariaDB's number of an error, if the server sent one ("MariaDB Error Codes", Knowledge Base).
pub(crate) fn number(error: &sqlx::Error) -> Option<u16> {
    error.as_database_error()?.try_downcast_ref::<MySqlDatabaseError>().map(MySqlDatabaseError::number)
}

/// Errors about the data of a statement that have no SQLSTATE of their own class: 1118 row too large, 1153 packet too
/// large, 1265 data truncated, 1526 no partition for the value.
const DATA_ERRORS: [u16; 4] = [1118, 1153, 1265, 1526];

impl StoreError {
    /// Whether the database refuses this data, and would refuse it each time. Everything else may pass: a server that
    /// is away, shuts down, is read-only or full, a deadlock, a lock that is held.
    pub fn is_data_error(&self) -> bool {
        match self {
            Self::Database(sqlx::Error::Encode(_)) | Self::Vault(_) | Self::Unreadable { .. } | Self::NoSuchName => {
                true
            }
            Self::Database(error) => {
                // SQLSTATE classes (ISO 9075): 22 is a data exception, 23 a violated constraint.
                let state = error.as_database_error().and_then(|e| e.code());
                let class = state.as_deref().and_then(|state| state.get(..2));
                matches!(class, Some("22" | "23")) || number(error).is_some_and(|n| DATA_ERRORS.contains(&n))
            }
            _ => false,
        }
    }

    /// Whether the database is not there, or not yet: not reached, starting, ending, or with too many connections.
    pub fn is_away(&self) -> bool {
        match self {
            Self::NoAnswer(_) => true,
            Self::Database(error) => match number(error) {
                // 1040 and 1203: too many connections; 1053: shutdown; 1927: connection killed.
                Some(number) => [1040, 1053, 1203, 1927].contains(&number),
                None => matches!(error, sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut | sqlx::Error::Protocol(_)),
            },
            _ => false,
        }
    }

    /// Whether the database answered and did not want it, rather than not answering.
    pub fn is_refusal(&self) -> bool {
        match self {
            Self::Database(error) => matches!(error, sqlx::Error::Database(_)),
            Self::NoAnswer(_) => false,
            _ => true,
        }
    }

    /// Whether what is stored cannot be read, rather than the database not answering.
    pub fn is_unreadable(&self) -> bool {
        use sqlx::Error::{ColumnDecode, ColumnNotFound, Decode};
        match self {
            Self::Unreadable { .. } | Self::Vault(_) => true,
            Self::Database(error) => matches!(error, ColumnDecode { .. } | ColumnNotFound(_) | Decode(_)),
            _ => false,
        }
    }

    #[allow(clippy::needless_pass_by_value)] // errors and literals alike
    pub(crate) fn unreadable(what: &'static str, why: impl std::fmt::Display) -> Self {
        Self::Unreadable { what, why: why.to_string() }
    }
}

/// Names what an insert ran into, or what a delete is held by.
pub(crate) fn constraint(error: sqlx::Error, what: &'static str) -> StoreError {
    match &error {
        sqlx::Error::Database(e) if e.is_unique_violation() => StoreError::Exists(what),
        sqlx::Error::Database(e) if e.is_foreign_key_violation() => StoreError::InUse(what),
        _ => error.into(),
    }
}
