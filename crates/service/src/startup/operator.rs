//! The operator's commands on the machine itself: passwords, the master key, the database's grants.

use std::fs::File;
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use api::people::PasswordChanged;
use api::people::audit::{AuditEntry, AuditKind};
use chrono::Utc;
use store::{Kept, Store, Vault};
use ulid::Ulid;

use crate::http::auth::secret;
use crate::startup::config::{Grants, PruneAudit, ResetPassword, Restored, RotateMasterKey};
use crate::startup::high_water::HighWater;
use crate::startup::lease;

/// Locks a data folder: two processes must not use it at the same time.
pub(crate) struct Hold(File);

impl Hold {
    /// Locks the folder.
    ///
    /// # Errors
    /// If somebody has, or the file cannot be made.
    pub(crate) fn take(data: &Path) -> Result<Self> {
        let path = data.join("herond.lock");
        let file = File::create(&path).with_context(|| format!("making {}", path.display()))?;
        match file.try_lock() {
            Ok(()) => Ok(Self(file)),
            Err(std::fs::TryLockError::WouldBlock) => {
                bail!("another herond works with the data folder {}; stop it first", data.display())
            }
            Err(std::fs::TryLockError::Error(why)) => Err(why).with_context(|| format!("locking {}", path.display())),
        }
    }
}

impl Drop for Hold {
    /// Unlocks it in so many words. A program that is being started has a copy of every open file until its own code
    /// runs, and closing ours alone would leave the folder locked for that long.
    fn drop(&mut self) {
        if let Err(why) = self.0.unlock() {
            tracing::debug!(%why, "the data folder could not be unlocked; closing it does");
        }
    }
}

/// Without keys: nothing is sealed or opened with it.
async fn keyless(database: &str) -> Result<Store> {
    Store::open(database, Vault::from_key(rand::random())).await.context("opening the database")
}

fn entry(action: &str, object: String, note: &str) -> AuditEntry {
    AuditEntry {
        id: Ulid::generate().to_string(),
        time: Utc::now(),
        kind: AuditKind::Change,
        who: "(operator of the machine)".into(),
        token: None,
        address: String::new(),
        action: action.into(),
        object,
        status: 200,
        note: Some(note.into()),
        differences: Vec::new(),
    }
}

/// Gives an account a new password and ends its sign-ins.
pub(crate) async fn reset_password(options: &ResetPassword) -> Result<()> {
    let store = keyless(&options.database).await?;
    let Some((person, _)) = store.person(&options.name).await? else {
        bail!("there is no account of the name {:?}", options.name)
    };
    let password = secret::made_up_password();
    let kept = Kept { sign_in: None, tokens: options.keep_tokens };
    let hash = secret::hash(password.as_str().into()).await?;
    let PasswordChanged { tokens_ended, .. } = store.set_password(person.id, (&hash, true), kept).await?;
    let mut note = format!("all its sign-ins and {tokens_ended} access tokens ended");
    if options.end_two_step {
        store.set_otp_secret(person.id, None).await?;
        note.push_str(", and two-step sign-in");
    }
    store.add_audit(None, &entry("reset_password", format!("account {}", person.name), &note)).await?;
    println!("The password of {} was reset, and {note}. It is shown only this once.", person.name);
    println!("  password: {password}");
    if person.two_step && !options.end_two_step {
        println!("Signing in still takes a code; --end-two-step ends that as well.");
    }
    store.close().await;
    Ok(())
}

/// Replaces the master key.
pub(crate) async fn rotate_master_key(options: &RotateMasterKey) -> Result<()> {
    let _hold = Hold::take(&options.data)?;
    let path = options.data.join("master.key");
    let begun = Vault::open_or_create(&path).is_ok_and(|vault| vault.is_being_replaced());
    let vault = Vault::begin_replacement(&path)?;
    if begun {
        println!("Going on with a replacement that was interrupted.");
    }
    let store = Store::open(&options.database, vault).await.context("opening the database")?;
    let sealed = store.reseal(None).await.context("some secrets are sealed under the old key still; run this again")?;
    // Again: nothing may be left when the old key goes.
    if store.reseal(None).await? > 0 {
        bail!("something wrote secrets meanwhile; run this again");
    }
    Vault::end_replacement(&path)?;
    store
        .add_audit(None, &entry("rotate_master_key", "master key".into(), &format!("{sealed} secrets sealed again")))
        .await?;
    store.close().await;
    println!("{sealed} secrets were sealed again. {} holds the new master key: keep a copy of it.", path.display());
    Ok(())
}

/// Counters are moved on by this much: a device takes no counter that is more than 16,384 ahead of its last
/// (TS001-1.0.3 §4.3.1.5, MAX_FCNT_GAP), and a copy is rarely so old that it has forgotten as many.
const AHEAD: u32 = 10_000;

/// Makes a restored older copy of a database usable.
pub(crate) async fn restored(options: &Restored) -> Result<()> {
    let _hold = Hold::take(&options.data)?;
    let store = keyless(&options.database).await?;
    let high_water = HighWater::open(&options.data)?;
    let lease = lease::take(&store, &options.data, None).await?;
    let [sessions, groups, devices] = store.move_counters_ahead(AHEAD, AHEAD).await?;
    high_water.note(&lease).context("noting how far the database has come")?;
    let note = format!(
        "counters of {sessions} sessions and {groups} groups and JoinNonces of {devices} devices moved on by {AHEAD}"
    );
    store.add_audit(None, &entry("restored", "database".into(), &note)).await?;
    store.release_lease(&lease).await?;
    store.close().await;
    println!(
        "FCntDown of {sessions} sessions and {groups} multicast groups was moved on by {AHEAD}, and JoinNonce of {devices} devices."
    );
    println!(
        "Devices take this as frames that they missed. A device that was sent more than {AHEAD} frames since the copy was"
    );
    println!(
        "made refuses what it is sent until it joins again. Uplinks and joins since then are unknown here: frames that"
    );
    println!("were recorded in that time could be played back once. The service can be started now.");
    Ok(())
}

/// Brings the schema up to date, and guards the audit log.
pub(crate) async fn migrate(database: &str) -> Result<()> {
    let store = keyless(database).await?;
    let guarded = store.guard_audit().await;
    store.close().await;
    println!("The schema is up to date; the audit log is {}append-only.", if guarded { "" } else { "not " });
    Ok(())
}

/// Takes out months of the audit log, as an account that may.
pub(crate) async fn prune_audit(options: &PruneAudit) -> Result<()> {
    let store = keyless(&options.database).await?;
    store.keep_audit(Utc::now(), options.days).await?;
    store.close().await;
    println!("What is older than {} days was taken out of the audit log, by whole months.", options.days);
    Ok(())
}

/// Prints the statements that grant an account all that the service needs, but no change of the audit log.
pub(crate) async fn grants(options: &Grants) -> Result<()> {
    let (user, host) = options.account.split_once('@').unwrap_or((&options.account, "localhost"));
    let good = |text: &str| !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric() || ".-_%:".contains(c));
    if !good(user) || !good(host) {
        bail!("{:?} was given; USER@HOST of letters, digits, dots, dashes and % is wanted", options.account);
    }
    let store = keyless(&options.database).await?;
    let (database, tables) = (store.database_name().await?, store.tables().await?);
    store.close().await;
    for table in tables {
        let rights = match table.as_str() {
            "audit" => "SELECT, INSERT",
            // Its months are cut and dropped.
            "history" => "SELECT, INSERT, UPDATE, DELETE, ALTER, CREATE, DROP",
            // It is made where it is not there, which asks for the right even where it is.
            "_sqlx_migrations" | "schema_steps" => "SELECT, CREATE",
            _ => "SELECT, INSERT, UPDATE, DELETE",
        };
        println!("GRANT {rights} ON `{database}`.`{table}` TO '{user}'@'{host}';");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_data_folder_is_held_by_one() {
        let folder = tempfile::tempdir().unwrap();
        let held = Hold::take(folder.path()).unwrap();
        let why = Hold::take(folder.path()).err().unwrap().to_string();
        assert!(why.contains("another herond"), "{why}");
        drop(held);
        assert!(Hold::take(folder.path()).is_ok());
    }
}
