//! Who may write: a database belongs to one running instance.
//!
//! An instance that starts raises the epoch of the row in `instance`; each of its commits checks that the epoch is
//! still its own, so that a second one, with a copied data folder or on another machine, can never use a frame counter
//! that the first one uses. The row also counts commits. An instance that has lost the answer to a commit learns from
//! it whether it was carried out, and the data folder remembers it: a database that has fewer is an older copy.

use std::time::Duration;

use sqlx::Row as _;
use ulid::Ulid;

use crate::{Store, StoreError};

/// An instance that has not renewed its lease for this time is gone.
pub const LEASE: Duration = Duration::from_secs(20);

/// The right to write to a database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lease {
    /// Names the database and every copy of it.
    pub database_id: String,
    /// Raised by each instance that starts.
    pub epoch: u64,
    /// Commits made in this database so far.
    pub commits: u64,
}

/// A process that wants to hold a database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// As text, for an instance that is refused.
    pub holder: String,
    /// The run of the machine, and its process namespace.
    pub machine: String,
    /// Its process number.
    pub process: u32,
    /// When that process was started, in the machine's own units.
    pub started: u64,
}

/// The holder of a database.
#[derive(Debug, Clone)]
pub struct Holder {
    /// The process.
    pub claim: Claim,
    /// Since it last wrote.
    pub age: Duration,
    /// The lease.
    pub lease: Lease,
}

impl Store {
    /// The last holder of the database, if there was one.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn holder(&self) -> Result<Option<Holder>, StoreError> {
        // By the database's own clock: those of two machines may differ.
        let row = sqlx::query(
            "SELECT database_id, epoch, commits, holder, machine, process, started,
             TIMESTAMPDIFF(SECOND, renewed_at, UTC_TIMESTAMP(6)) AS age_s FROM instance",
        )
        .fetch_optional(&self.pool)
        .await?;
        row.map(|row| {
            let lease = Lease { database_id: row.try_get(0)?, epoch: row.try_get(1)?, commits: row.try_get(2)? };
            // A time in the future comes from a clock that was wrong: it is not a renewal.
            let age = u64::try_from(row.try_get::<i64, _>("age_s")?).unwrap_or(LEASE.as_secs());
            let claim = Claim {
                holder: row.try_get("holder")?,
                machine: row.try_get("machine")?,
                process: row.try_get("process")?,
                started: row.try_get("started")?,
            };
            Ok(Holder { claim, age: Duration::from_secs(age), lease })
        })
        .transpose()
    }

    /// Takes the database, from `before` or from nobody. The holder before can commit nothing from then on.
    ///
    /// # Errors
    /// [`StoreError::Held`] if another one was faster, or whatever the database says.
    pub async fn take_lease(&self, claim: &Claim, before: Option<&Lease>) -> Result<Lease, StoreError> {
        let holder: String = claim.holder.chars().take(300).collect();
        let Some(before) = before else {
            let lease = Lease { database_id: Ulid::generate().to_string(), epoch: 1, commits: 0 };
            let made = sqlx::query(
                "INSERT IGNORE INTO instance (id, database_id, epoch, commits, renewed_at, holder, machine, process, started)
                 VALUES (1, ?, 1, 0, UTC_TIMESTAMP(6), ?, ?, ?, ?)",
            );
            let made = made.bind(&lease.database_id).bind(&holder).bind(&claim.machine);
            let made = made.bind(claim.process).bind(claim.started).execute(&self.pool).await?;
            return if made.rows_affected() == 1 { Ok(lease) } else { Err(self.held().await) };
        };
        let taken = sqlx::query(
            "UPDATE instance SET epoch = epoch + 1, holder = ?, machine = ?, process = ?, started = ?,
             renewed_at = UTC_TIMESTAMP(6) WHERE id = 1 AND epoch = ?",
        );
        let taken = taken.bind(&holder).bind(&claim.machine).bind(claim.process).bind(claim.started);
        if taken.bind(before.epoch).execute(&self.pool).await?.rows_affected() == 0 {
            return Err(self.held().await);
        }
        // The instance before may have committed until just now.
        let commits = sqlx::query_scalar("SELECT commits FROM instance").fetch_one(&self.pool).await?;
        Ok(Lease { database_id: before.database_id.clone(), epoch: before.epoch + 1, commits })
    }

    async fn held(&self) -> StoreError {
        match self.holder().await {
            Ok(Some(Holder { claim, age, .. })) => StoreError::Held { holder: claim.holder, age_s: age.as_secs() },
            Ok(None) => StoreError::Gone("the database's lease"),
            Err(error) => error,
        }
    }

    /// Renews the lease.
    ///
    /// # Errors
    /// [`StoreError::TakenOver`] if another one has the database, or whatever the database says.
    pub async fn renew_lease(&self, lease: &Lease) -> Result<(), StoreError> {
        let renewed = sqlx::query("UPDATE instance SET renewed_at = UTC_TIMESTAMP(6) WHERE id = 1 AND epoch = ?");
        match renewed.bind(lease.epoch).execute(&self.pool).await?.rows_affected() {
            0 => Err(self.taken_over().await),
            _ => Ok(()),
        }
    }

    /// Releases the database, so that the next instance need not wait.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn release_lease(&self, lease: &Lease) -> Result<(), StoreError> {
        let gone = sqlx::query(
            "UPDATE instance SET renewed_at = UTC_TIMESTAMP(6) - INTERVAL ? SECOND, process = 0 WHERE id = 1 AND epoch = ?",
        );
        gone.bind(LEASE.as_secs() + 1).bind(lease.epoch).execute(&self.pool).await?;
        Ok(())
    }

    pub(crate) async fn taken_over(&self) -> StoreError {
        let holder = self.holder().await.ok().flatten();
        StoreError::TakenOver(holder.map_or_else(|| "its lease is gone".into(), |h| h.claim.holder))
    }

    /// Moves FCntDown and JoinNonces of an older copy of a database so far ahead that none is used twice. Returns how
    /// many sessions, groups and devices that concerns.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn move_counters_ahead(&self, downlinks: u32, join_nonces: u32) -> Result<[u64; 3], StoreError> {
        let mut tx = self.pool.begin().await?;
        let sessions = sqlx::query(
            "UPDATE counters SET next_down = LEAST(next_down + ?, 4294967295), next_app_down = LEAST(next_app_down + ?, 4294967295)",
        );
        let sessions = sessions.bind(downlinks).bind(downlinks).execute(&mut *tx).await?.rows_affected();
        let groups = sqlx::query("UPDATE multicast_counters SET next_down = LEAST(next_down + ?, 4294967295)");
        let groups = groups.bind(downlinks).execute(&mut *tx).await?.rows_affected();
        // Devices that have never joined have no row of their own yet, but may have joined since.
        let joins = sqlx::query(
            "INSERT INTO nonces (dev_eui, next_join_nonce) SELECT dev_eui, 1 + ? FROM devices WHERE personal_addr IS NULL
             ON DUPLICATE KEY UPDATE next_join_nonce = LEAST(next_join_nonce + ?, 16777215)",
        );
        joins.bind(join_nonces).bind(join_nonces).execute(&mut *tx).await?;
        let devices: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM nonces").fetch_one(&mut *tx).await?;
        tx.commit().await?;
        Ok([sessions, groups, devices.unsigned_abs()])
    }
}
