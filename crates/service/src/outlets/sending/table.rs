//! Inserts messages into a table of a database of one's own.

use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context as _, Result, anyhow};
use api::outlet::{OutletSecrets, SqlTable};
use domain::outlet::address::{DatabaseAddress, Dialect};
use domain::outlet::row::{Cell, create, insert, row};
use serde_json::Value;
use sqlx::mysql::{MySqlArguments, MySqlConnectOptions, MySqlConnection, MySqlSslMode};
use sqlx::postgres::{PgArguments, PgConnectOptions, PgConnection, PgSslMode};
use sqlx::{Arguments as _, AssertSqlSafe, ConnectOptions as _, Connection as _};
use tokio::sync::Mutex;

use super::{Outcome, Shaped, Tried};
use crate::net::passage::{self, Passage, Server};

/// Rows of one statement.
pub(super) const MOST: usize = 500;
/// Parameters of one statement that both databases take (PostgreSQL's protocol counts them in 16 bits).
const MOST_PARAMETERS: usize = 30_000;
/// How long a statement may take.
const STATEMENT: Duration = Duration::from_secs(20);

/// A table, ready to be written to.
pub(super) struct Table {
    of: SqlTable,
    address: DatabaseAddress,
    password: String,
    server: Server,
    connection: Mutex<Option<Connected>>,
}

struct Connected {
    connection: Connection,
    _passage: Passage,
}

enum Connection {
    MariaDb(Box<MySqlConnection>),
    PostgreSql(Box<PgConnection>),
}

impl Table {
    /// # Errors
    /// If the certificates cannot be read.
    pub(super) fn new(of: &SqlTable, secrets: &OutletSecrets, allowed: Arc<[String]>) -> Result<Self> {
        let address = DatabaseAddress::read(&of.url).map_err(|why| anyhow!(why)).context("to.sql.url")?;
        if let Some(trust) = &of.trust {
            passage::roots(Some(trust)).context("to.sql.trust")?;
        }
        // The databases speak TLS within their own protocols.
        let server = Server { host: address.host.clone(), port: address.port, tls: None, allowed };
        let password = secrets.password.as_ref().map(|password| password.as_str().to_owned()).unwrap_or_default();
        Ok(Self { of: of.clone(), address, password, server, connection: Mutex::default() })
    }

    /// Inserts messages, a row each, all or none of them.
    pub(super) async fn send(&self, messages: &[Shaped<'_>]) -> Tried {
        let outcome = match self.rows(messages) {
            Ok(rows) => self.write(&rows).await,
            Err(why) => Outcome::Refused(why),
        };
        Tried::of(outcome, format!("insert into {} at {}", self.of.table, self.of.url), messages)
    }

    fn rows(&self, messages: &[Shaped<'_>]) -> Result<Vec<Vec<Cell>>, String> {
        let of = |message: &Shaped<'_>| {
            let json: Value = serde_json::from_str(&message.json).map_err(|why| why.to_string())?;
            row(&self.of.columns, &json)
        };
        messages.iter().map(of).collect()
    }

    async fn write(&self, rows: &[Vec<Cell>]) -> Outcome {
        let mut held = self.connection.lock().await;
        if held.is_none() {
            match tokio::time::timeout(STATEMENT, self.connect()).await {
                Ok(Ok(connected)) => *held = Some(connected),
                Ok(Err(why)) => return why,
                Err(_) => return Outcome::Unreached("the database does not answer".into()),
            }
        }
        let Some(connected) = held.as_mut() else { return Outcome::Unreached("there is no connection".into()) };
        match tokio::time::timeout(STATEMENT, connected.connection.insert(&self.of, rows)).await {
            Ok(Ok(())) => Outcome::Taken,
            Ok(Err(why)) => {
                let outcome = judged(&why);
                if !matches!(outcome, Outcome::Refused(_)) {
                    *held = None;
                }
                outcome
            }
            Err(_) => {
                *held = None;
                Outcome::Unreached(format!("the database has not answered for {} s", STATEMENT.as_secs()))
            }
        }
    }

    async fn connect(&self) -> Result<Connected, Outcome> {
        // PostgreSQL's library looks for this name in the folder.
        let name = format!(".s.PGSQL.{}", self.address.port);
        let unreached = |why: anyhow::Error| Outcome::Unreached(format!("{why:#}"));
        let passage = Passage::open(&self.server, &name).await.map_err(unreached)?;
        let connection = match self.address.dialect {
            Dialect::MariaDb => self.mariadb(&passage).await.map(|one| Connection::MariaDb(Box::new(one))),
            Dialect::PostgreSql => self.postgresql(&passage).await.map(|one| Connection::PostgreSql(Box::new(one))),
        };
        let mut connection = connection.map_err(|why| judged(&why))?;
        if self.of.create {
            connection.create(&self.of).await.map_err(|why| judged(&why))?;
        }
        Ok(Connected { connection, _passage: passage })
    }

    async fn mariadb(&self, passage: &Passage) -> Result<MySqlConnection, sqlx::Error> {
        let mode = if self.of.without_tls { MySqlSslMode::Disabled } else { MySqlSslMode::VerifyIdentity };
        let mut options = MySqlConnectOptions::new()
            .host(&self.address.host)
            .socket(&passage.socket)
            .database(&self.address.database)
            .username(&self.of.account)
            .password(&self.password)
            .ssl_mode(mode)
            .charset("utf8mb4")
            .disable_statement_logging();
        if let Some(trust) = &self.of.trust {
            options = options.ssl_ca_from_pem(trust.clone().into_bytes());
        }
        options.connect().await
    }

    async fn postgresql(&self, passage: &Passage) -> Result<PgConnection, sqlx::Error> {
        let mode = if self.of.without_tls { PgSslMode::Disable } else { PgSslMode::VerifyFull };
        let mut options = PgConnectOptions::new_without_pgpass()
            .host(&self.address.host)
            .port(self.address.port)
            .socket(passage.folder())
            .database(&self.address.database)
            .username(&self.of.account)
            .password(&self.password)
            .ssl_mode(mode)
            .application_name("keen-heron")
            .disable_statement_logging();
        if let Some(trust) = &self.of.trust {
            options = options.ssl_root_cert_from_pem(trust.clone().into_bytes());
        }
        options.connect().await
    }
}

/// Inserts rows by a connection. The two databases have types of their own for all of it, which say the same.
macro_rules! insert_all {
    ($connection:expr, $arguments:ty, ($dialect:expr, $table:expr, $rows:expr)) => {{
        let at_once = (MOST_PARAMETERS / $table.columns.len().max(1)).max(1);
        let mut tx = $connection.begin().await?;
        for rows in $rows.chunks(at_once) {
            let mut arguments = <$arguments>::default();
            let mut add = |cell: &Cell| match cell {
                Cell::Text(value) => arguments.add(value.as_deref()),
                Cell::Number(value) => arguments.add(value),
                Cell::Integer(value) => arguments.add(value),
                Cell::Boolean(value) => arguments.add(value),
                Cell::Time(value) => arguments.add(value),
            };
            rows.iter().flatten().try_for_each(&mut add).map_err(sqlx::Error::Encode)?;
            let statement = AssertSqlSafe(insert($dialect, $table, rows.len()));
            sqlx::query_with(statement, arguments).persistent(false).execute(&mut *tx).await?;
        }
        tx.commit().await
    }};
}

impl Connection {
    async fn create(&mut self, table: &SqlTable) -> Result<(), sqlx::Error> {
        match self {
            Self::MariaDb(connection) => {
                sqlx::query(AssertSqlSafe(create(Dialect::MariaDb, table))).execute(&mut **connection).await.map(drop)
            }
            Self::PostgreSql(connection) => sqlx::query(AssertSqlSafe(create(Dialect::PostgreSql, table)))
                .execute(&mut **connection)
                .await
                .map(drop),
        }
    }

    /// Inserts rows in one transaction: a request that fails has done nothing.
    async fn insert(&mut self, table: &SqlTable, rows: &[Vec<Cell>]) -> Result<(), sqlx::Error> {
        match self {
            Self::MariaDb(connection) => insert_all!(connection, MySqlArguments, (Dialect::MariaDb, table, rows)),
            Self::PostgreSql(connection) => insert_all!(connection, PgArguments, (Dialect::PostgreSql, table, rows)),
        }
    }
}

/// What an error means for the messages. Classes 22 and 23 of SQLSTATE (ISO/IEC 9075-2) are of the data.
fn judged(why: &sqlx::Error) -> Outcome {
    match why {
        sqlx::Error::Database(of) => {
            let told = format!("the database answers: {}", of.message());
            let code = of.code().unwrap_or_default();
            // MariaDB says HY000 where a value does not fit its column's kind: number 1366.
            let no_fit = of.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().is_some_and(|e| e.number() == 1366);
            match no_fit || code.starts_with("22") || code.starts_with("23") {
                true => Outcome::Refused(told),
                false => Outcome::Away(told, None),
            }
        }
        sqlx::Error::Encode(why) => Outcome::Refused(why.to_string()),
        sqlx::Error::Io(_) => Outcome::Unreached("the connection to the database was closed".into()),
        other => Outcome::Unreached(other.to_string()),
    }
}
