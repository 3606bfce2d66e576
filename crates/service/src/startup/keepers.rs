//! Starts the regular upkeep: certificates, credentials, the audit log, summaries, jobs.

use std::sync::Arc;
use std::time::Duration;

use chrono::{TimeDelta, Utc};
use store::Store;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::decoding::redecoding;
use crate::downlinks::Downlinks;
use crate::gateways::authority::Authority;
use crate::gateways::credentials::Credentials;
use crate::gateways::event_log;
use crate::history::summaries;
use crate::ingest::network::Network;
use crate::net::tls::Identity;
use crate::pipeline::gateway_news;
use crate::planning::survey::feeder::Feeder;
use crate::rounds::Rounds;
use crate::startup::config::Options;
use crate::startup::shared::{GatewayEvents, Shared};

/// How often uses of credentials are stored, and certificates' ends checked.
const KEEP_EVERY: Duration = Duration::from_secs(10);
/// How often removed estates are looked for, and the pause between two parts of one's messages.
const CLEAR_EVERY: Duration = Duration::from_secs(60);
const CLEAR_ON: Duration = Duration::from_millis(200);
/// How often the audit log's months are added and removed.
const AUDIT_EVERY: Duration = Duration::from_secs(6 * 3600);
/// Nothing is removed before the clock has been believable for this time.
const AUDIT_CALM: Duration = Duration::from_secs(3600);

/// Starts them all. Each ends when the service stops.
pub(crate) fn start(
    shared: &Shared,
    events: GatewayEvents,
    identities: Vec<Arc<Identity>>,
    (network, options): (&Network, &Options),
) -> Vec<JoinHandle<()>> {
    let (store, stopping) = (&shared.store, &shared.stopping);
    let (authority, credentials) = (Arc::clone(&shared.authority), Arc::clone(&shared.credentials));
    let (presence, live) = (Arc::clone(&shared.presence), Arc::clone(&shared.live));
    let directory = || Arc::clone(&shared.directory);
    let worker = redecoding::Worker {
        store: store.clone(),
        directory: directory(),
        news: Arc::clone(&shared.jobs),
        stopping: stopping.clone(),
    };
    let rounds = Rounds {
        store: store.clone(),
        network: network.clone(),
        directory: directory(),
        news: Arc::clone(&shared.rounds),
        stopping: stopping.clone(),
    };
    let survey_kept_for = TimeDelta::days(i64::from(options.survey_days));
    let feeder = Feeder {
        store: store.clone(),
        live: Arc::clone(&shared.live),
        surveys: Arc::clone(&shared.surveys),
        network: network.clone(),
        metrics: Arc::clone(&shared.metrics),
        kept_for: survey_kept_for,
        stopping: stopping.clone(),
    };
    let feeder = (options.survey_days > 0).then(|| tokio::spawn(feeder.run()));
    shared.outlets.commands_by(Downlinks { store: store.clone(), directory: directory(), network: network.clone() });
    let doubts = Arc::clone(&shared.doubts);
    let mut all = vec![
        tokio::spawn(keep_audit(store.clone(), options.audit_days, stopping.clone())),
        tokio::spawn(clear_removed(store.clone(), stopping.clone())),
        tokio::spawn(gateway_news::run(presence, store.clone(), live, directory(), stopping.clone())),
        tokio::spawn(keep_certificates(authority, identities, credentials, stopping.clone())),
        tokio::spawn(summaries::keep(store.clone(), (directory(), doubts), survey_kept_for, stopping.clone())),
        tokio::spawn(worker.run()),
        tokio::spawn(rounds.run()),
        tokio::spawn(Arc::clone(&shared.outlets).run()),
        tokio::spawn(Arc::clone(&shared.surveys).watch(stopping.clone())),
        tokio::spawn(Arc::clone(&shared.forecaster).run(store.clone(), stopping.clone())),
    ];
    all.extend(feeder);
    // Last, for the others have something to tell until they end.
    all.push(tokio::spawn(event_log::write(store.clone(), events, stopping.clone())));
    all
}

/// Deletes the messages of removed estates, a part at a time, so that nothing else has to wait for it.
async fn clear_removed(store: Store, stopping: CancellationToken) {
    loop {
        let pause = match store.delete_messages_of_removed().await {
            Ok(0) => CLEAR_EVERY,
            Ok(_) => CLEAR_ON,
            Err(why) => {
                tracing::warn!("messages of a removed estate are still there: {why}");
                CLEAR_EVERY
            }
        };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = stopping.cancelled() => return,
        }
    }
}

/// Adds the audit log's coming months, and removes those that have been kept long enough.
async fn keep_audit(store: Store, days: u32, stopping: CancellationToken) {
    if let Err(why) = store.arrange_audit(Utc::now()).await {
        tracing::info!("the audit log's months are left as they are: {why}; see `herond prune-audit`");
    }
    let mut often = tokio::time::interval_at(tokio::time::Instant::now() + AUDIT_CALM, AUDIT_EVERY);
    loop {
        tokio::select! {
            _ = often.tick() => {}
            () = stopping.cancelled() => return,
        }
        // With a wrong clock everything would be old.
        if clock::calm_for() < AUDIT_CALM {
            continue;
        }
        if let Err(why) = store.keep_audit(Utc::now(), days).await {
            tracing::info!("the audit log's months are left as they are: {why}; see `herond prune-audit`");
        }
    }
}

/// Renews certificates, and stores which credentials are used, until the service stops.
async fn keep_certificates(
    authority: Arc<Authority>,
    identities: Vec<Arc<Identity>>,
    credentials: Arc<Credentials>,
    stopping: CancellationToken,
) {
    let mut often = tokio::time::interval(KEEP_EVERY);
    loop {
        let stop = tokio::select! {
            _ = often.tick() => false,
            () = stopping.cancelled() => true,
        };
        credentials.save_uses().await;
        if stop {
            return;
        }
        for identity in &identities {
            if let Err(error) = identity.renew(&authority) {
                tracing::error!("a certificate of the service's could not be renewed: {error:#}");
            }
        }
    }
}
