//! `heron scenario run`.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::Result;
use simulator::scenario::Scenario;
use simulator::simulation::SavedWorld;
use simulator::world::World;

use super::{read_kits, tell};
use crate::show::Out;
use crate::terminal;

/// How often the devices' state is saved.
const SAVE_EVERY: Duration = Duration::from_secs(60);

pub(super) async fn run(
    out: &Out,
    (folder, kits, state): (PathBuf, Option<PathBuf>, Option<PathBuf>),
    gateways_call: SocketAddr,
) -> Result<()> {
    let scenario = Scenario::load(&folder)?;
    let kits = kits.map(|kits| read_kits(&scenario, &kits)).transpose()?.unwrap_or_default();
    let saved = state.as_deref().map(SavedWorld::read).transpose()?.flatten();
    let world = World::go_on(&scenario, (gateways_call, &kits), saved).await?;
    let end = terminal::until_the_end()?;
    let told = tokio::select! {
        told = tell(out, &world) => told,
        saved = keep_saving(&world, state.as_deref()) => saved,
        () = end => Ok(()),
    };
    if let Some(path) = &state {
        world.saved().write(path)?;
    }
    told
}

/// Saves the devices' state at intervals.
async fn keep_saving(world: &World, state: Option<&Path>) -> Result<()> {
    let Some(path) = state else { return std::future::pending().await };
    let mut often = tokio::time::interval_at(tokio::time::Instant::now() + SAVE_EVERY, SAVE_EVERY);
    loop {
        often.tick().await;
        world.saved().write(path)?;
    }
}
