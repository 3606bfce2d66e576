//! A history for a scenario: its devices are simulated for some days on a virtual clock, their frames go through the engine and the
//! decoders, and the results are written in large transactions.

mod run;

use std::sync::Arc;
use std::time::Instant;

use anyhow::{Context as _, Result, bail};
use api::gateway::GatewayState;
use api::gateway::event::GatewayEvent;
use chrono::{DateTime, TimeDelta, Utc};
use domain::gateway::check::{LOST_AFTER_S, QUIET_AFTER_S};
use lorawan::Eui64;
use simulator::scenario::Scenario;
use simulator::simulation::Simulation;
use store::{EstateId, Store, Writer};
use tokio::sync::mpsc;
use ulid::Ulid;

use crate::decoding::decoder::ReadUplink;
use crate::gateways::event_log::{GatewayEventDraft, GatewayLog};
use crate::gateways::registry::GatewayRegistry;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::pipeline::batch::FinishedBatch;
use crate::pipeline::directory::Directory;
use crate::startup;
use crate::startup::config::ScenarioHistory;
use crate::startup::high_water::HighWater;
use crate::startup::operator::Hold;
use run::Past;

const DAY_US: i64 = 86_400_000_000;
/// Batches that wait for the database.
const WAITING: usize = 2;

/// Makes it.
///
/// # Errors
/// If the estate is not there or has messages already, or the database does not do as it should.
pub(crate) async fn make(options: &ScenarioHistory) -> Result<()> {
    let begun = Instant::now();
    let until = options.until.unwrap_or_else(Utc::now);
    let begin = until - TimeDelta::days(options.days.into());
    let scenario = Scenario::load(&options.folder)?;
    let _hold = Hold::take(&options.data)?;
    let store = startup::database::open(&options.database, &options.data).await?;
    let high_water = HighWater::open(&options.data)?;
    let lease = startup::lease::take(&store, &options.data, Some(&high_water)).await?;
    let estate_id = estate(&store, &options.estate).await?;
    store.begin_past(estate_id, begin, until).await?;

    let times = (begin.timestamp_micros(), until.timestamp_micros());
    let simulation = Simulation::new(&scenario, times, options.seed)?;
    let away = simulation.away();
    let gateways = store.all_gateways().await?;
    let directory = Arc::new(Directory::load(&store).await?);
    let past = Past {
        simulation,
        directory: Arc::clone(&directory),
        presence: GatewayRegistry::new(&gateways, GatewayLog::new().0),
        quarantined: QuarantinedFrames::beside(&options.data.join("journal")),
        restored: store.engine_state(engine::Timestamp(times.0)).await?,
        net_id: options.net_id,
        seed: options.seed,
        beacons: scenario.gateways.iter().filter(|g| g.beacons).filter_map(|g| g.eui.parse().ok()).collect(),
    };
    let (batches, mut finished) = mpsc::channel(WAITING);
    let lived = tokio::task::spawn_blocking(move || past.live(times, &batches));
    let mut writer = Writer::of_past(store.clone(), lease.clone());
    let mut written = 0;
    let mut late = Vec::new();
    let mut told = 0;
    while let Some(batch) = finished.recv().await {
        written += batch.batch.messages.len();
        let day = batch.batch.mark.map_or(0, |mark| (mark.processed_until.0 - times.0) / DAY_US);
        late = write(&mut writer, &directory, batch, late).await?;
        if day > told {
            told = day;
            println!("day {day} of {}: {written} messages", options.days);
        }
    }
    write(&mut writer, &directory, FinishedBatch::default(), late).await?;
    let saved = lived.await?;
    store.sum_up_anew(until).await?;
    let heard: Vec<(Eui64, DateTime<Utc>)> = gateways.iter().map(|row| (row.gateway.eui, until)).collect();
    store.note_heard(&heard).await?;
    store.add_gateway_events(&events(&away)).await?;
    high_water.note(writer.lease()).context("noting how far the database has come")?;
    saved.write(&options.state)?;
    store.release_lease(writer.lease()).await?;
    store.close().await;
    println!("{} days written: {written} messages in {:.0} s", options.days, begun.elapsed().as_secs_f64());
    Ok(())
}

/// The estate, in which nothing was heard yet.
async fn estate(store: &Store, slug: &str) -> Result<EstateId> {
    let estates = store.estates().await?;
    let Some((id, _)) = estates.iter().find(|(_, known)| known == slug) else {
        let known: Vec<&str> = estates.iter().map(|(_, slug)| slug.as_str()).collect();
        bail!("there is no estate {slug:?}; there is {}", known.join(", "));
    };
    if store.has_messages(*id).await? {
        bail!("the estate {slug} has a history already; this is for one in which nothing was heard");
    }
    Ok(*id)
}

/// Writes a batch with the uplinks that were decoded after the batch before; gives those of this one.
async fn write(
    writer: &mut Writer,
    directory: &Arc<Directory>,
    mut finished: FinishedBatch,
    late: Vec<ReadUplink>,
) -> Result<Vec<ReadUplink>> {
    late.into_iter().for_each(|read| finished.add_read(read));
    writer.commit(&finished.batch).await?;
    let (jobs, directory) = (finished.to_decode, Arc::clone(directory));
    let read_all = move || jobs.into_iter().map(|job| job.read(&directory)).collect::<Result<Vec<_>, _>>();
    Ok(tokio::task::spawn_blocking(read_all).await??)
}

/// What the log of gateways has of times when one was away.
fn events(away: &[(Eui64, i64, i64)]) -> Vec<(Eui64, GatewayEvent)> {
    let of = |&(gateway, from_us, until_us): &(Eui64, i64, i64)| {
        let event = move |at_us: i64, state| {
            let at = DateTime::from_timestamp_micros(at_us).unwrap_or_default();
            let id = Ulid::from_datetime(at.into()).to_string();
            (gateway, GatewayEventDraft::state(state).at(id, at))
        };
        [
            event(from_us + QUIET_AFTER_S * 1_000_000, GatewayState::Quiet),
            event(from_us + LOST_AFTER_S * 1_000_000, GatewayState::Lost),
            event(until_us, GatewayState::Listening),
        ]
    };
    away.iter().flat_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gateway_that_was_away_was_quiet_then_lost_then_back() {
        let day_us = 86_400_000_000;
        let told = events(&[(Eui64(7), 20_000 * day_us, 20_001 * day_us)]);
        let states: Vec<_> = told.iter().filter_map(|(_, event)| event.state).collect();
        assert_eq!(states, [GatewayState::Quiet, GatewayState::Lost, GatewayState::Listening]);
        assert!(told.windows(2).all(|pair| pair[0].1.time < pair[1].1.time && pair[0].1.id < pair[1].1.id));
    }
}
