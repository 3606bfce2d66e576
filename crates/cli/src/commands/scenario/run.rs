//! `heron scenario run`.

use std::net::SocketAddr;
use std::path::PathBuf;

use anyhow::Result;
use simulator::scenario::Scenario;
use simulator::world::World;

use super::{read_kits, tell};
use crate::show::Out;

pub(super) async fn run(out: &Out, folder: PathBuf, gateways_call: SocketAddr, kits: Option<PathBuf>) -> Result<()> {
    let scenario = Scenario::load(&folder)?;
    let kits = kits.map(|kits| read_kits(&scenario, &kits)).transpose()?.unwrap_or_default();
    let world = World::start(&scenario, gateways_call, &kits).await?;
    tokio::select! {
        told = tell(out, &world) => told,
        _ = tokio::signal::ctrl_c() => Ok(()),
    }
}
