//! Taking the database for this instance, unless another one has it or it is an older copy.

use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Result, bail};
use store::{Claim, Holder, LEASE, Lease, Store, StoreError};
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::pipeline::condition::Condition;
use crate::pipeline::metrics::process_stat;
use crate::startup::high_water::HighWater;

/// How often the lease is renewed between commits.
const RENEW_EVERY: Duration = Duration::from_secs(5);

/// This process, identified so that others can check whether it runs.
fn claim(data: &Path) -> Claim {
    let host = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let process = std::process::id();
    let folder = data.canonicalize().unwrap_or_else(|_| data.to_owned());
    Claim {
        holder: format!("herond with process number {process} on {}, data folder {}", host.trim(), folder.display()),
        machine: machine(),
        process,
        started: started(process).unwrap_or(0),
    }
}

/// This run of the machine, and its process namespace.
fn machine() -> String {
    let space = fs::read_link("/proc/self/ns/pid").unwrap_or_default();
    format!("{} {}", clock::boot_id(), space.display()).chars().take(80).collect()
}

/// Start time of a running process. None for one that has ended, also while its parent has not collected it.
fn started(process: u32) -> Option<u64> {
    process_stat(process).filter(|stat| !stat.zombie).map(|stat| stat.started)
}

/// Whether the holder of the database is certainly gone.
fn is_gone(holder: &Claim, own: &Claim) -> bool {
    holder.process == 0
        || (holder.machine == own.machine && started(holder.process).is_none_or(|started| started != holder.started))
}

/// Takes the database.
///
/// # Errors
/// If another instance holds it, or, with `high_water`, if it is an older copy of the one that this data folder was
/// last used with.
pub(crate) async fn take(store: &Store, data: &Path, high_water: Option<&HighWater>) -> Result<Lease> {
    let own = claim(data);
    let begun = Instant::now();
    let mut told = false;
    loop {
        let before = store.holder().await?;
        if let Some(before) = &before {
            if let Some(high_water) = high_water {
                high_water.check(&before.lease)?;
            }
            let Holder { claim: holder, age, .. } = before;
            if !is_gone(holder, &own) && *age < LEASE {
                if holder.machine == own.machine || begun.elapsed() > LEASE * 2 {
                    bail!(
                        "the database is held by {}, which last wrote {} s ago. Two instances on one database would use \
                         frame counters twice; stop that one first",
                        holder.holder,
                        age.as_secs()
                    );
                }
                if !told {
                    told = true;
                    eprintln!(
                        "herond: the database was held by {}; waiting until {} s have passed without a word",
                        holder.holder,
                        LEASE.as_secs()
                    );
                }
                tokio::time::sleep(RENEW_EVERY / 5).await;
                continue;
            }
        }
        match store.take_lease(&own, before.as_ref().map(|holder| &holder.lease)).await {
            Ok(lease) => return Ok(lease),
            // Another one was faster: look again.
            Err(StoreError::Held { .. }) if begun.elapsed() < LEASE => {}
            Err(error) => return Err(error.into()),
        }
    }
}

/// Renews the lease until the service stops, and so learns whether the database answers; ends earlier if another
/// instance has taken the database.
///
/// # Errors
/// If it has.
pub(crate) async fn keep(
    store: Store,
    lease: Lease,
    condition: Arc<Condition>,
    stopping: CancellationToken,
) -> Result<()> {
    let mut often = tokio::time::interval(RENEW_EVERY);
    loop {
        tokio::select! {
            _ = often.tick() => {}
            () = stopping.cancelled() => return Ok(()),
        }
        match tokio::time::timeout(RENEW_EVERY, store.renew_lease(&lease)).await {
            Ok(Err(error @ StoreError::TakenOver(_))) => bail!("{error}"),
            Ok(Err(error)) => tracing::debug!("the lease was not renewed: {error}"),
            Err(_) => tracing::debug!("the lease was not renewed in time"),
            Ok(Ok(())) => condition.database_answers(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn this_process_runs_and_one_that_has_ended_does_not() {
        let own = claim(Path::new("/tmp"));
        assert!(own.started > 0);
        assert!(!is_gone(&own, &own));
        let mut child = std::process::Command::new("true").spawn().unwrap();
        let ended = Claim { process: child.id(), started: 5, ..own.clone() };
        child.wait().unwrap();
        assert!(is_gone(&ended, &own));
        let reused = Claim { started: own.started + 1, ..own.clone() };
        assert!(is_gone(&reused, &own), "another process has the number now");
        let elsewhere = Claim { machine: "another".into(), ..ended };
        assert!(!is_gone(&elsewhere, &own), "who knows");
    }
}
