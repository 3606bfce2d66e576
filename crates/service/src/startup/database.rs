//! Opening the database, which may start later than the service, and the master key of its secrets.

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, bail};
use store::{Secrets, Store, Vault};

/// The longest wait for a database that is not there yet.
const WAIT: Duration = Duration::from_secs(600);
/// How often it is tried, and reported.
const TRY_EVERY: Duration = Duration::from_secs(1);
const TELL_EVERY: Duration = Duration::from_secs(10);

/// The records, with the master key in the data folder.
///
/// # Errors
/// If the database cannot be used, or the master key is not the one that its secrets are sealed under.
pub(crate) async fn open(url: &str, data: &Path) -> Result<Store> {
    let store = wait_for(url).await?;
    let key = data.join("master.key");
    if !Vault::is_there(&key)? {
        // No stored secret opens with a new key.
        let Secrets { tried, .. } = store.secrets().await?;
        if tried > 0 {
            bail!(
                "the master key {} is missing, and the database holds secrets that are sealed under it. \
                 Put the copy that was kept of it there; a new key would open none of them",
                key.display()
            );
        }
    }
    let vault = Vault::open_or_create(&key)?;
    if vault.is_being_replaced() {
        tracing::warn!("the replacement of the master key is unfinished: run `herond rotate-master-key` again");
    }
    let store = store.with_vault(vault);
    let Secrets { tried, open } = store.secrets().await?;
    if tried > 0 && open == 0 {
        bail!(
            "the master key {} is not the one that this database's secrets are sealed under: none of {tried} opens",
            key.display()
        );
    }
    Ok(store)
}

async fn wait_for(url: &str) -> Result<Store> {
    let begun = Instant::now();
    let mut told: Option<Instant> = None;
    loop {
        let error = match Store::open(url, Vault::from_key(rand::random())).await {
            Ok(store) => return Ok(store),
            Err(error) if error.is_away() && begun.elapsed() < WAIT => error,
            Err(error) => return Err(error).context("opening the database"),
        };
        if told.is_none_or(|at| at.elapsed() >= TELL_EVERY) {
            told = Some(Instant::now());
            // The address may hold a password, so only the place is named.
            let place = url.rsplit_once('@').map_or("", |(_, place)| place);
            eprintln!(
                "herond: waiting for the database at {place}, for {} s more: {error}",
                (WAIT - begun.elapsed()).as_secs()
            );
        }
        tokio::time::sleep(TRY_EVERY).await;
    }
}
