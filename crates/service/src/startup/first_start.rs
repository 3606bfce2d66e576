//! The first start: one estate, one owner, a password shown once.

use anyhow::{Context as _, Result};
use store::Store;

use crate::http::auth::secret;
use crate::startup::config::Options;

/// Makes the first estate and its owner if there is nobody yet.
pub(crate) async fn prepare(store: &Store, options: &Options) -> Result<()> {
    if !store.nobody_yet().await? {
        return Ok(());
    }
    domain::input::slug("--estate", &options.estate)?;
    let owner = domain::input::name("--owner", &options.owner)?;
    let password = secret::made_up_password();
    let hash = secret::hash(password.as_str().into()).await.context("hashing the first password")?;
    let name = options.estate.replace('-', " ");
    store.found_first(&options.estate, &name, &owner, &hash).await?;
    println!("First start: an owner account was made. Its password is shown only this once.");
    println!("  name:     {owner}");
    println!("  password: {password}");
    Ok(())
}
