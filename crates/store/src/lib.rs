//! Records in MariaDB: who and what is registered, what the engine needs back after a restart, and
//! the history of messages.
//!
//! Registrations are written one by one, as people make them. What the engine produces is written in
//! group commits ([`Batch`]): one transaction for everything that happened in some milliseconds,
//! because a durable transaction for each frame is not affordable.

mod airtime;
mod bench;
mod commit;
mod connect;
mod credentials;
mod damaged;
mod device_config;
mod devices;
mod editions;
mod error;
mod firmware;
mod fleets;
mod gateways;
mod groups;
mod history;
mod idempotency;
mod jobs;
mod key_rotation;
mod messages;
mod models;
mod moving;
mod named;
mod outbox;
mod outlets;
mod people;
mod plans;
mod profiles;
mod readings;
mod registering;
mod rounds;
mod rows;
mod state;
mod survey;
mod vault;

pub use airtime::{AirtimeRow, QuarterRow, Since, Sums};
pub use commit::{
    Activity, Batch, COMMIT_LIMIT, DecodeFailure, Decoding, Mark, Refused, Split, SplitPart, StoredMessage,
    StoredReading, Subject, Writer, WrittenMessage, outbox_name, told_number,
};
pub use connect::lease::{Claim, Holder, LEASE, Lease};
pub use credentials::{CredentialRow, EndedCertificate, IssuedCertificate, SecretHash};
pub use damaged::Damaged;
pub use devices::{Common, DeviceContext, DeviceCursor, DeviceOrder, DeviceQuery, DeviceRow, eui_digits};
pub use domain::grants::AccessFilter;
pub use editions::{FailureRow, Saved};
pub use error::StoreError;
pub use firmware::FirmwareRow;
pub use gateways::GatewayRow;
pub use groups::{GroupIdentity, GroupRow};
pub use history::{HOUR_MS, KEPT_FOR_OUTLETS_DAYS, MOST_SERIES, Point, Series, SeriesId, Span};
pub use idempotency::{KEY_HOURS, KeptAnswer, KeyState, KeyedRequest, MOST_KEYS};
pub use key_rotation::Secrets;
pub use messages::MessageQuery;
pub use models::{ImportedModel, ModelRow, Source};
pub use moving::Moved;
pub use named::Named;
pub use outlets::{LetterRow, MOST_COUNTED, NewLetter, OutletId, OutletRow, Paused, Progress, ToldMessage};
pub use people::access::{InvitationToWrite, Membership, Taken, Taker};
pub use people::accounts::{Kept, MemberChange, Person, PersonId, SignInRow};
pub use people::audit::AuditQuery;
pub use people::removal::{Holdings, KeptFor};
pub use people::tokens::{TokenRow, TokenToMake};
pub use plans::{ForecastRow, PlanKind};
pub use readings::{JudgedSeries, ReadingRow};
pub use rounds::{DueDownlink, PlannedDownlink};
pub use rows::{first_name_at, moment_of_name};
pub use state::gateway_config;
pub use survey::{HeardRow, ObservationRow, SurveyedDevice};
pub use vault::{Vault, VaultError};

use std::str::FromStr as _;
use std::sync::Arc;

use sqlx::migrate::MigrateDatabase;
use sqlx::mysql::{MySqlConnectOptions, MySqlRow};
use sqlx::{Connection as _, Executor as _, MySqlConnection};

use connect::migrate;
use connect::pool::{CONNECT, Pool};
use error::constraint;

/// Prepared statements kept by each connection: those of group commits come in ten sizes each.
const STATEMENTS: usize = 400;

/// Names an estate inside the service.
pub type EstateId = u32;

/// The records.
#[derive(Clone)]
pub struct Store {
    pool: Pool,
    options: Arc<MySqlConnectOptions>,
    vault: Arc<Vault>,
    known: Arc<history::Known>,
    damaged: damaged::Found,
}

impl Store {
    /// Connects, makes the database if it is not there, and brings its schema up to date.
    ///
    /// # Errors
    /// If the database does not answer, or has a schema that cannot be brought up to date.
    pub async fn open(url: &str, vault: Vault) -> Result<Self, StoreError> {
        let options = MySqlConnectOptions::from_str(url)?.statement_cache_capacity(STATEMENTS);
        make_database(url).await?;
        migrate::run(&options).await?;
        let pool = Pool::open(options.clone()).await?;
        Ok(Self {
            pool,
            options: Arc::new(options),
            vault: Arc::new(vault),
            known: Arc::default(),
            damaged: damaged::Found::default(),
        })
    }

    /// The same store with another master key.
    #[must_use]
    pub fn with_vault(self, vault: Vault) -> Self {
        Self { vault: Arc::new(vault), ..self }
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

/// Makes the database if it is not there.
async fn make_database(url: &str) -> Result<(), StoreError> {
    if within_reach(sqlx::MySql::database_exists(url)).await? {
        return Ok(());
    }
    match within_reach(sqlx::MySql::create_database(url)).await {
        Ok(()) => {
            // Not the server's default character set: people write in any script.
            let mut made = within_reach(MySqlConnection::connect(url)).await?;
            made.execute("ALTER DATABASE CHARACTER SET utf8mb4").await?;
            made.close().await?;
            tracing::info!("the database was made");
        }
        // Another process may have been faster.
        Err(error) if !within_reach(sqlx::MySql::database_exists(url)).await? => return Err(error),
        Err(_) => {}
    }
    Ok(())
}

async fn within_reach<T>(work: impl Future<Output = Result<T, sqlx::Error>>) -> Result<T, StoreError> {
    tokio::time::timeout(CONNECT, work).await.map_err(|_| StoreError::NoAnswer(CONNECT))?.map_err(Into::into)
}
