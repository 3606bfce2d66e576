//! The pool of connections. Every wait has a limit: a silent connection must not block a task for ever.

use std::future::Future;
use std::io;
use std::time::Duration;

use futures::future::BoxFuture;
use futures::stream::{self, BoxStream, StreamExt as _};
use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions, MySqlQueryResult, MySqlRow, MySqlStatement, MySqlTypeInfo};
use sqlx::{Connection as _, Either, Error, Execute, Executor, MySql, MySqlConnection, MySqlPool, SqlStr, Transaction};

/// The longest that a statement may take, or the next row of its answer. Taking out old history is the longest work.
const STATEMENT: Duration = Duration::from_secs(90);
/// The longest that opening a connection may take.
pub(crate) const CONNECT: Duration = Duration::from_secs(5);
/// The longest that an idle connection may take to show that it still works.
const STILL_THERE: Duration = Duration::from_millis(500);
/// Idle seconds in a transaction after which the server ends the connection and frees its locks: the holder
/// has gone silent.
const IDLE_IN_TRANSACTION_S: u32 = 40;
/// Connections at once.
const CONNECTIONS: u32 = 12;

/// Connections to the database.
#[derive(Debug, Clone)]
pub(crate) struct Pool(MySqlPool);

/// An error for a wait that has ended.
fn late() -> Error {
    Error::Io(io::Error::new(io::ErrorKind::TimedOut, "no answer in time"))
}

async fn within<T>(time: Duration, work: impl Future<Output = Result<T, Error>>) -> Result<T, Error> {
    tokio::time::timeout(time, work).await.unwrap_or_else(|_| Err(late()))
}

/// The settings of each connection. Rows are locked, not the gaps between them: registering many devices must not
/// hold up the frames of others.
async fn prepare(connection: &mut MySqlConnection) -> Result<(), Error> {
    connection.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED").await?;
    let idle = format!("SET SESSION idle_transaction_timeout = {IDLE_IN_TRANSACTION_S}");
    connection.execute(sqlx::AssertSqlSafe(idle)).await?;
    Ok(())
}

/// A connection outside the pool.
pub(crate) async fn connect(options: &MySqlConnectOptions) -> Result<MySqlConnection, Error> {
    within(CONNECT, async {
        let mut connection = MySqlConnection::connect_with(options).await?;
        prepare(&mut connection).await?;
        Ok(connection)
    })
    .await
}

impl Pool {
    /// Connects.
    pub(crate) async fn open(options: MySqlConnectOptions) -> Result<Self, Error> {
        let pool = MySqlPoolOptions::new()
            .max_connections(CONNECTIONS)
            .acquire_timeout(CONNECT)
            .after_connect(|connection, _| Box::pin(prepare(connection)))
            // A silent connection must not use up the time of the others.
            .test_before_acquire(false)
            .before_acquire(|connection, _| {
                Box::pin(async move { within(STILL_THERE, connection.ping()).await.map(|()| true) })
            })
            // A statement that was given up may have left the connection silent.
            .after_release(|connection, _| {
                Box::pin(async move { within(CONNECT, connection.ping()).await.map(|()| true) })
            })
            .connect_with(options)
            .await?;
        Ok(Self(pool))
    }

    /// Begins a transaction.
    pub(crate) async fn begin(&self) -> Result<Transaction<'static, MySql>, Error> {
        within(CONNECT * 2, self.0.begin()).await
    }

    /// Closes all connections, without waiting for those that do not answer.
    pub(crate) async fn close(&self) {
        let _ = tokio::time::timeout(CONNECT, self.0.close()).await;
    }
}

impl<'p> Executor<'p> for &'_ Pool {
    type Database = MySql;

    fn fetch_many<'e, 'q: 'e, E>(self, query: E) -> BoxStream<'e, Result<Either<MySqlQueryResult, MySqlRow>, Error>>
    where
        E: 'q + Execute<'q, MySql>,
    {
        let found = self.0.fetch_many(query);
        stream::unfold(Some(found), async |found| {
            let mut found = found?;
            match tokio::time::timeout(STATEMENT, found.next()).await {
                Ok(item) => item.map(|item| (item, Some(found))),
                Err(_) => Some((Err(late()), None)),
            }
        })
        .boxed()
    }

    fn fetch_optional<'e, 'q: 'e, E>(self, query: E) -> BoxFuture<'e, Result<Option<MySqlRow>, Error>>
    where
        E: 'q + Execute<'q, MySql>,
    {
        Box::pin(within(STATEMENT, self.0.fetch_optional(query)))
    }

    fn prepare_with<'e>(
        self,
        sql: SqlStr,
        parameters: &'e [MySqlTypeInfo],
    ) -> BoxFuture<'e, Result<MySqlStatement, Error>>
    where
        'p: 'e,
    {
        let pool = self.0.clone();
        Box::pin(within(STATEMENT, async move { pool.prepare_with(sql, parameters).await }))
    }
}
