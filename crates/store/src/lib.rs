//! Records in MariaDB: who and what is registered, what the engine needs back after a restart, and
//! the history of messages.
//!
//! Registrations are written one by one, as people make them. What the engine produces is written in
//! group commits ([`Batch`]): one transaction for everything that happened in some milliseconds,
//! because a durable transaction for each frame is not affordable.

mod access;
mod airtime;
mod audit;
mod commit;
mod credentials;
mod devices;
mod editions;
mod firmware;
mod fleets;
mod gateways;
mod groups;
mod history;
mod jobs;
mod keeping;
mod measure;
mod messages;
mod models;
mod outbox;
mod part;
mod people;
mod profiles;
mod readings;
mod registering;
mod rotation;
mod rows;
mod state;
mod tokens;
mod vault;

pub use access::{Grant, InvitationToWrite, Standing, Taken, Taker};
pub use airtime::{AirtimeRow, QuarterRow, Since, Sums};
pub use audit::AuditQuery;
pub use commit::{Activity, Batch, DecodeFailure, Decoding, StoredMessage, StoredReading, outbox_name};
pub use credentials::{CredentialRow, SecretHash};
pub use devices::{Common, DeviceContext, DeviceCursor, DeviceOrder, DeviceQuery, DeviceRow, eui_digits};
pub use editions::{FailureRow, Saved};
pub use firmware::FirmwareRow;
pub use gateways::GatewayRow;
pub use groups::{GroupIdentity, GroupRow};
pub use history::{HOUR_MS, MOST_SERIES, Point, Series, SeriesId, Span};
pub use jobs::first_name_at;
pub use models::{ImportedModel, ModelRow, Source};
pub use part::Part;
pub use people::{MemberChange, Person, PersonId, SignInRow};
pub use readings::{JudgedSeries, ReadingRow};
pub use state::gateway_config;
pub use tokens::{TokenRow, TokenToMake};
pub use vault::{Vault, VaultError};

use std::str::FromStr as _;
use std::sync::Arc;
use std::time::Duration;

use sqlx::migrate::MigrateDatabase;
use sqlx::mysql::{MySqlConnectOptions, MySqlDatabaseError, MySqlPoolOptions, MySqlRow};
use sqlx::{Connection as _, Executor as _, MySqlConnection, MySqlPool};
use thiserror::Error;

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
    /// The schema could not be brought up to date.
    #[error("the database schema: {0}")]
    Migrate(sqlx::migrate::MigrateError),
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

// Not `#[from]`: what sqlx says of itself already holds its cause, which would be told twice.
impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        // What it cannot compare with a column of plain characters (error 1267) is in no row of it.
        let incomparable = |error: &MySqlDatabaseError| error.number() == 1267;
        if error.as_database_error().and_then(|e| e.try_downcast_ref()).is_some_and(incomparable) {
            return Self::NoSuchName;
        }
        Self::Database(error)
    }
}

impl From<sqlx::migrate::MigrateError> for StoreError {
    fn from(error: sqlx::migrate::MigrateError) -> Self {
        Self::Migrate(error)
    }
}

impl StoreError {
    /// Whether the database answered and did not want it, rather than not answering.
    pub fn is_refusal(&self) -> bool {
        !matches!(self, Self::Database(error) if !matches!(error, sqlx::Error::Database(_)))
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
    fn unreadable(what: &'static str, why: impl std::fmt::Display) -> Self {
        Self::Unreadable { what, why: why.to_string() }
    }
}

/// Prepared statements kept by each connection: those of group commits come in ten sizes each.
const STATEMENTS: usize = 400;

/// Names an estate inside the service.
pub type EstateId = u32;

/// The records.
#[derive(Clone)]
pub struct Store {
    pool: MySqlPool,
    vault: Arc<Vault>,
    known: Arc<history::Known>,
}

impl Store {
    /// Connects, makes the database if it is not there, and brings its schema up to date.
    pub async fn open(url: &str, vault: Vault) -> Result<Self, StoreError> {
        if !sqlx::MySql::database_exists(url).await? {
            match sqlx::MySql::create_database(url).await {
                Ok(()) => {
                    // Whatever the server takes for usual: people write as they like.
                    let mut made = MySqlConnection::connect(url).await?;
                    made.execute("ALTER DATABASE CHARACTER SET utf8mb4").await?;
                    made.close().await?;
                    tracing::info!("the database was made");
                }
                // Another process may have been faster.
                Err(error) if !sqlx::MySql::database_exists(url).await? => return Err(error.into()),
                Err(_) => {}
            }
        }
        let pool = MySqlPoolOptions::new()
            .max_connections(12)
            .acquire_timeout(Duration::from_secs(5))
            // Rows are locked, not the gaps between them: registering many devices must not hold up the frames of
            // others.
            .after_connect(|connection, _| {
                Box::pin(async move {
                    connection.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED").await?;
                    Ok(())
                })
            })
            .connect_with(MySqlConnectOptions::from_str(url)?.statement_cache_capacity(STATEMENTS))
            .await?;
        sqlx::migrate!("./migrations").run(&pool).await?;
        Ok(Self { pool, vault: Arc::new(vault), known: Arc::default() })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> bool {
        sqlx::query("SELECT 1").execute(&self.pool).await.is_ok()
    }

    /// One page of an estate's list. The statement takes estate, cursor and limit, in this order.
    async fn page(
        &self,
        statement: &'static str,
        estate_id: EstateId,
        after: &str,
        limit: u32,
    ) -> Result<Vec<MySqlRow>, StoreError> {
        Ok(sqlx::query(statement).bind(estate_id).bind(after).bind(limit).fetch_all(&self.pool).await?)
    }

    /// Closes all connections.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}

/// Names what an insert ran into, or what a delete is held by.
fn constraint(error: sqlx::Error, what: &'static str) -> StoreError {
    match &error {
        sqlx::Error::Database(e) if e.is_unique_violation() => StoreError::Exists(what),
        sqlx::Error::Database(e) if e.is_foreign_key_violation() => StoreError::InUse(what),
        _ => error.into(),
    }
}
