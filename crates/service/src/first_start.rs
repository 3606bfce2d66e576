//! The first start: one estate, one owner, a password shown once.

use anyhow::{Context as _, Result};
use rand::RngExt as _;
use store::Store;

use crate::config::Options;
use crate::http::auth;

/// Letters and digits that are not mistaken for each other when read from a screen.
const CLEAR: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";

/// Makes the first estate and its owner if there is nobody yet.
pub async fn prepare(store: &Store, options: &Options) -> Result<()> {
    if !store.nobody_yet().await? {
        return Ok(());
    }
    api::problem::slug("--estate", &options.estate)?;
    let owner = api::problem::name("--owner", &options.owner)?;
    let password = password();
    let hash = auth::hash(password.clone()).await.context("hashing the first password")?;
    let name = options.estate.replace('-', " ");
    store.found_estate(&options.estate, &name, &owner, &hash).await?;
    println!("First start: an owner account was made. Its password is shown only this once.");
    println!("  name:     {owner}");
    println!("  password: {password}");
    Ok(())
}

/// Four groups of five: about 99 bits.
fn password() -> String {
    let mut rng = rand::rng();
    let group = |rng: &mut rand::rngs::ThreadRng| -> String {
        (0..5).map(|_| char::from(CLEAR[rng.random_range(0..CLEAR.len())])).collect()
    };
    (0..4).map(|_| group(&mut rng)).collect::<Vec<_>>().join("-")
}
