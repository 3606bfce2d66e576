//! Bringing the schema up to date, in steps that survive being killed.
//!
//! MariaDB commits each DDL statement by itself, so a migration is never one transaction. Each statement is a step
//! instead, and how many steps are done is recorded. A kill can fall between a step and its record: the step is then
//! run once more, and what says that it was done already counts as done. Changes of rows are recorded in their own
//! transaction, so they are never run twice.

use std::sync::LazyLock;
use std::time::Duration;

use sqlx::migrate::{Migration, MigrationType};
use sqlx::mysql::MySqlConnectOptions;
use sqlx::{AssertSqlSafe, Connection as _, Error, Executor as _, MySqlConnection, Row as _, SqlStr};

use super::pool::connect;
use crate::StoreError;
use crate::error::number;

/// Each file of `migrations/`, by its name `NUMBER_DESCRIPTION.sql`. A macro of sqlx would list them, and bring a second
/// build of sqlx and of what it needs with it.
const FILES: &[(&str, &str)] = &[
    ("0001_first_light.sql", include_str!("../../migrations/0001_first_light.sql")),
    ("0002_network_engine.sql", include_str!("../../migrations/0002_network_engine.sql")),
    ("0003_journal.sql", include_str!("../../migrations/0003_journal.sql")),
    ("0004_history_mark.sql", include_str!("../../migrations/0004_history_mark.sql")),
    ("0005_gateway_ways.sql", include_str!("../../migrations/0005_gateway_ways.sql")),
    ("0006_registering.sql", include_str!("../../migrations/0006_registering.sql")),
    ("0007_catalogue.sql", include_str!("../../migrations/0007_catalogue.sql")),
    ("0008_outbox_order.sql", include_str!("../../migrations/0008_outbox_order.sql")),
    ("0009_decoder_kinds.sql", include_str!("../../migrations/0009_decoder_kinds.sql")),
    ("0010_readings.sql", include_str!("../../migrations/0010_readings.sql")),
    ("0011_people_and_rights.sql", include_str!("../../migrations/0011_people_and_rights.sql")),
    ("0012_nothing_lost.sql", include_str!("../../migrations/0012_nothing_lost.sql")),
    ("0013_plain_names.sql", include_str!("../../migrations/0013_plain_names.sql")),
    ("0014_refused_since.sql", include_str!("../../migrations/0014_refused_since.sql")),
    ("0015_any_text.sql", include_str!("../../migrations/0015_any_text.sql")),
    ("0016_idempotency.sql", include_str!("../../migrations/0016_idempotency.sql")),
    ("0017_device_place.sql", include_str!("../../migrations/0017_device_place.sql")),
    ("0018_rounds.sql", include_str!("../../migrations/0018_rounds.sql")),
    ("0019_removed_estates.sql", include_str!("../../migrations/0019_removed_estates.sql")),
    ("0020_websocket.sql", include_str!("../../migrations/0020_websocket.sql")),
    ("0021_coverage.sql", include_str!("../../migrations/0021_coverage.sql")),
    ("0022_survey.sql", include_str!("../../migrations/0022_survey.sql")),
    ("0023_people_exactly.sql", include_str!("../../migrations/0023_people_exactly.sql")),
    ("0024_issued_certificates.sql", include_str!("../../migrations/0024_issued_certificates.sql")),
    ("0025_outlets.sql", include_str!("../../migrations/0025_outlets.sql")),
    ("0026_references.sql", include_str!("../../migrations/0026_references.sql")),
    ("0027_tries.sql", include_str!("../../migrations/0027_tries.sql")),
];

static MIGRATIONS: LazyLock<Vec<Migration>> = LazyLock::new(|| {
    let read = |&(name, sql): &(&'static str, &'static str)| {
        let (number, description) = name.trim_end_matches(".sql").split_once('_')?;
        let (version, description) = (number.parse().ok()?, description.replace('_', " ").into());
        Some(Migration::new(version, description, MigrationType::Simple, SqlStr::from_static(sql), false))
    };
    FILES.iter().filter_map(read).collect()
});

/// Errors of a step that was done before: a table, column, key or row exists already, or one to be dropped or renamed
/// does not exist any more.
const DONE_ALREADY: [u16; 8] = [1050, 1054, 1060, 1061, 1062, 1068, 1091, 1826];
/// Another process may be migrating.
const LOCK_WAIT: Duration = Duration::from_secs(60);

/// Brings the schema of a database up to date.
///
/// # Errors
/// If the database does not answer, refuses a step, or has a schema that is newer or not ours.
pub(crate) async fn run(options: &MySqlConnectOptions) -> Result<(), StoreError> {
    let mut connection = connect(options).await?;
    let done = locked(&mut connection, &mut Steps::default()).await;
    let _ = connection.close().await;
    done
}

/// A fault that a test causes.
#[derive(Debug, Default)]
struct Steps {
    /// Stop after this many more statements, before the last of them is recorded: as a kill would.
    #[cfg(test)]
    killed_after: Option<u32>,
}

impl Steps {
    /// Whether the process is killed here.
    #[cfg(test)]
    fn killed(&mut self) -> bool {
        self.killed_after = self.killed_after.map(|left| left.saturating_sub(1));
        self.killed_after == Some(0)
    }

    #[cfg(not(test))]
    #[allow(clippy::unused_self)]
    const fn killed(&self) -> bool {
        false
    }
}

async fn locked(connection: &mut MySqlConnection, steps: &mut Steps) -> Result<(), StoreError> {
    let got: Option<i64> = sqlx::query_scalar("SELECT GET_LOCK(CONCAT('keen_heron_schema_', DATABASE()), ?)")
        .bind(LOCK_WAIT.as_secs())
        .fetch_one(&mut *connection)
        .await?;
    if got != Some(1) {
        return Err(StoreError::Schema(format!("another process has been changing it for {} s", LOCK_WAIT.as_secs())));
    }
    let done = all(connection, steps).await;
    let release = "DO RELEASE_LOCK(CONCAT('keen_heron_schema_', DATABASE()))";
    sqlx::query(release).execute(&mut *connection).await?;
    done
}

async fn all(connection: &mut MySqlConnection, steps: &mut Steps) -> Result<(), StoreError> {
    for statement in [
        "CREATE TABLE IF NOT EXISTS _sqlx_migrations (version BIGINT PRIMARY KEY, description TEXT NOT NULL,
         installed_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, success BOOLEAN NOT NULL, checksum BLOB NOT NULL,
         execution_time BIGINT NOT NULL)",
        "CREATE TABLE IF NOT EXISTS schema_steps (version BIGINT PRIMARY KEY, done INT UNSIGNED NOT NULL)",
    ] {
        // Where the account may not create tables, they are there already.
        if let Err(error) = connection.execute(statement).await
            && number(&error) != Some(1142)
        {
            return Err(error.into());
        }
    }
    let known = sqlx::query("SELECT version, success, checksum FROM _sqlx_migrations ORDER BY version");
    let known: Vec<(i64, bool, Vec<u8>)> = known
        .fetch_all(&mut *connection)
        .await?
        .iter()
        .map(|row| Ok((row.try_get(0)?, row.try_get(1)?, row.try_get(2)?)))
        .collect::<Result<_, Error>>()?;
    if let Some((newer, ..)) = known.iter().find(|(version, ..)| MIGRATIONS.iter().all(|m| m.version != *version)) {
        return Err(StoreError::Schema(format!("it is of a newer version (migration {newer} is not known here)")));
    }
    for migration in MIGRATIONS.iter() {
        match known.iter().find(|(version, ..)| *version == migration.version) {
            Some((version, _, checksum)) if **checksum != *migration.checksum => {
                return Err(StoreError::Schema(format!("migration {version} is not the one that was carried out")));
            }
            Some((_, true, _)) => {}
            begun => {
                tracing::info!(version = migration.version, "changing the schema: {}", migration.description);
                one(connection, migration, begun.is_some(), steps).await?;
            }
        }
    }
    Ok(())
}

/// Carries out one migration, from the step on that was not recorded.
async fn one(
    connection: &mut MySqlConnection,
    migration: &Migration,
    begun: bool,
    steps: &mut Steps,
) -> Result<(), StoreError> {
    if !begun {
        sqlx::query(
            "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time)
             VALUES (?, ?, FALSE, ?, -1)",
        )
        .bind(migration.version)
        .bind(&*migration.description)
        .bind(&*migration.checksum)
        .execute(&mut *connection)
        .await?;
    }
    let done: Option<u32> = sqlx::query_scalar("SELECT done FROM schema_steps WHERE version = ?")
        .bind(migration.version)
        .fetch_optional(&mut *connection)
        .await?;
    // One begun before steps were recorded may have stopped anywhere.
    let anywhere = begun && done.is_none();
    let first = done.unwrap_or(0) as usize;
    for (at, statement) in statements(migration.sql.as_str()).into_iter().enumerate().skip(first) {
        let again = anywhere || (begun && at == first);
        step(connection, (migration.version, at), &statement, again, steps).await?;
    }
    sqlx::query("UPDATE _sqlx_migrations SET success = TRUE, execution_time = 0 WHERE version = ?")
        .bind(migration.version)
        .execute(&mut *connection)
        .await?;
    Ok(())
}

/// One statement and its record; `again` if it may have been carried out before.
async fn step(
    connection: &mut MySqlConnection,
    (version, at): (i64, usize),
    statement: &str,
    again: bool,
    steps: &mut Steps,
) -> Result<(), StoreError> {
    let mut tx = connection.begin().await?;
    match tx.execute(AssertSqlSafe(statement)).await {
        Ok(_) => {}
        Err(error) if again && number(&error).is_some_and(|n| DONE_ALREADY.contains(&n)) => {
            tracing::info!(version, step = at + 1, "this step was carried out before: {error}");
        }
        Err(error) => return Err(error.into()),
    }
    if steps.killed() {
        return Err(StoreError::Schema("killed".into()));
    }
    sqlx::query("REPLACE INTO schema_steps (version, done) VALUES (?, ?)")
        .bind(version)
        .bind(u32::try_from(at + 1).unwrap_or(u32::MAX))
        .execute(&mut *tx)
        .await?;
    tx.commit().await?;
    Ok(())
}

/// The statements of a migration, without its comments, which may hold semicolons.
fn statements(sql: &str) -> Vec<String> {
    let code: Vec<&str> = sql.lines().filter(|line| !line.trim_start().starts_with("--")).collect();
    code.join("\n").split(';').map(str::trim).filter(|s| !s.is_empty()).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use std::str::FromStr as _;

    use super::*;

    #[test]
    fn every_file_is_a_migration_and_in_order() {
        let folder = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).unwrap();
        let mut names: Vec<String> = folder.map(|file| file.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        assert_eq!(names, FILES.iter().map(|(name, _)| *name).collect::<Vec<_>>());
        let versions: Vec<i64> = MIGRATIONS.iter().map(|m| m.version).collect();
        assert_eq!(versions, (1..=FILES.len() as i64).collect::<Vec<_>>());
        assert_eq!(MIGRATIONS[0].description, "first light");
    }

    #[test]
    fn each_migration_is_cut_into_its_statements() {
        let all: Vec<String> = MIGRATIONS.iter().flat_map(|m| statements(m.sql.as_str())).collect();
        assert!(all.len() > 60, "{}", all.len());
        let verbs = ["CREATE TABLE", "ALTER TABLE", "RENAME TABLE IF EXISTS", "INSERT", "UPDATE"];
        for statement in &all {
            assert!(verbs.iter().any(|verb| statement.starts_with(verb)), "{statement}");
            assert_eq!(statement.matches('(').count(), statement.matches(')').count(), "{statement}");
        }
    }

    /// What the schema looks like, and how many rows the migrations have left in it.
    async fn schema(connection: &mut MySqlConnection) -> Vec<String> {
        let tables: Vec<String> = sqlx::query_scalar(
            "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY 1",
        )
        .fetch_all(&mut *connection)
        .await
        .unwrap();
        let mut shape = Vec::new();
        for table in tables.iter().filter(|table| *table != "_sqlx_migrations") {
            let made = sqlx::query(AssertSqlSafe(format!("SHOW CREATE TABLE {table}")));
            shape.push(made.fetch_one(&mut *connection).await.unwrap().try_get(1).unwrap());
            let rows: i64 = sqlx::query_scalar(AssertSqlSafe(format!("SELECT COUNT(*) FROM {table}")))
                .fetch_one(&mut *connection)
                .await
                .unwrap();
            shape.push(format!("{table}: {rows}"));
        }
        shape
    }

    async fn fresh(server: &testdb::MariaDb, name: &str) -> MySqlConnectOptions {
        server.as_root(&format!("CREATE DATABASE {name} CHARACTER SET utf8mb4"));
        MySqlConnectOptions::from_str(&server.url(name)).unwrap()
    }

    /// Kills it after each single statement, before that is recorded, and starts it again each time.
    #[tokio::test]
    async fn a_first_start_killed_at_every_statement_ends_with_the_whole_schema() {
        let server = testdb::MariaDb::shared();
        let whole = fresh(server, "heron_whole").await;
        run(&whole).await.unwrap();
        let killed = fresh(server, "heron_killed").await;
        let mut kills = 0;
        loop {
            let mut connection = connect(&killed).await.unwrap();
            // The second statement from where it stood: the first is the one that was not recorded.
            let mut steps = Steps { killed_after: Some(if kills == 0 { 1 } else { 2 }) };
            let done = locked(&mut connection, &mut steps).await;
            // Hard: what was not committed is gone.
            drop(connection);
            match done {
                Ok(()) => break,
                Err(StoreError::Schema(why)) if why == "killed" => kills += 1,
                Err(other) => panic!("after {kills} kills: {other}"),
            }
        }
        assert!(kills > 60, "{kills}");
        let mut a = connect(&whole).await.unwrap();
        let mut b = connect(&killed).await.unwrap();
        assert_eq!(schema(&mut a).await, schema(&mut b).await);
        run(&killed).await.unwrap();
    }

    /// A database that an older version left half-changed, with nothing recorded of how far it came.
    #[tokio::test]
    async fn a_migration_that_was_begun_before_steps_were_recorded_is_finished() {
        let server = testdb::MariaDb::shared();
        let options = fresh(server, "heron_begun").await;
        run(&options).await.unwrap();
        let mut connection = connect(&options).await.unwrap();
        for statement in [
            "DROP TABLE schema_steps",
            "UPDATE _sqlx_migrations SET success = FALSE WHERE version = 10",
            "DROP TABLE redecoded",
            "DROP TABLE ended_series",
        ] {
            connection.execute(statement).await.unwrap();
        }
        run(&options).await.unwrap();
        let there: i64 =
            sqlx::query_scalar("SELECT COUNT(*) FROM ended_series").fetch_one(&mut connection).await.unwrap();
        assert_eq!(there, 0);
    }
}
