//! `heron scenario run`.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::Result;
use simulator::scenario::Scenario;
use simulator::simulation::WorldMemory;
use simulator::world::World;
use tokio::signal::unix::{SignalKind, signal};

use super::{read_kits, tell};
use crate::show::Out;

/// How often what devices remember is written.
const WRITE_EVERY: Duration = Duration::from_secs(60);

pub(super) async fn run(
    out: &Out,
    (folder, kits, memory): (PathBuf, Option<PathBuf>, Option<PathBuf>),
    gateways_call: SocketAddr,
) -> Result<()> {
    let scenario = Scenario::load(&folder)?;
    let kits = kits.map(|kits| read_kits(&scenario, &kits)).transpose()?.unwrap_or_default();
    let remembered = memory.as_deref().map(WorldMemory::read).transpose()?.flatten();
    let world = World::go_on(&scenario, (gateways_call, &kits), remembered).await?;
    let mut told_to_end = signal(SignalKind::terminate())?;
    let told = tokio::select! {
        told = tell(out, &world) => told,
        kept = keep(&world, memory.as_deref()) => kept,
        _ = tokio::signal::ctrl_c() => Ok(()),
        _ = told_to_end.recv() => Ok(()),
    };
    if let Some(path) = &memory {
        world.memory().write(path)?;
    }
    told
}

/// Writes what devices remember now and then.
async fn keep(world: &World, memory: Option<&Path>) -> Result<()> {
    let Some(path) = memory else { return std::future::pending().await };
    let mut often = tokio::time::interval_at(tokio::time::Instant::now() + WRITE_EVERY, WRITE_EVERY);
    loop {
        often.tick().await;
        world.memory().write(path)?;
    }
}
