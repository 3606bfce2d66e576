//! The condition of the service, kept in memory for health, watch and console while the database is away.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use api::diagnosis::device::Weight;
use api::diagnosis::watch::{About, Concern};
use api::health::{HealthPart, PartState};
use chrono::{DateTime, Utc};
use lorawan::Eui64;

use crate::clock;
use crate::ingest::network::Network;

/// How long a commit may take before the service says that frames do not become durable.
const SLOW_COMMIT: Duration = Duration::from_secs(5);
/// A database that has said nothing for this time is away: it is asked every five seconds.
const SILENT: Duration = Duration::from_secs(12);
/// Frames that wait for the engine before it counts as behind.
const BEHIND: usize = 20_000;
/// After an outage devices are not called silent until this time after everything is caught up with.
const SETTLE: Duration = Duration::from_secs(60);
/// Notes from the start and since.
const NOTES: usize = 50;
/// How long the watch page shows that the clock was set.
const STEP_TOLD_S: i64 = 3600;

/// A commit under way, and the results of the earlier ones.
#[derive(Debug, Default)]
struct Commits {
    begun: Option<Instant>,
    rows: usize,
    last: Option<Instant>,
    /// Since when commits fail, by both clocks, and why the last did.
    failing: Option<(Instant, DateTime<Utc>, String)>,
    /// When frames became durable again, and since when they had not.
    recovered: Option<(Instant, DateTime<Utc>)>,
}

/// A device whose state the database refuses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quarantined {
    pub since: DateTime<Utc>,
    pub why: String,
}

/// A note for the watch page.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Note {
    weight: Weight,
    what: String,
    next_step: String,
}

#[derive(Default)]
struct Inner {
    commits: Commits,
    quarantined: BTreeMap<Eui64, Quarantined>,
    refused: u64,
    last_refused: String,
    notes: Vec<Note>,
    /// Whether the MQTT broker is reachable, and since when; `None` without one.
    broker: Option<(bool, Instant)>,
    /// Whether the MQTT broker accepts revoked certificates.
    broker_accepts_revoked: bool,
    /// When the database last answered.
    database: Option<Instant>,
}

/// The service's condition.
#[derive(Default)]
pub struct Condition(Mutex<Inner>);

/// "12 s", "3 min".
fn for_how_long(time: Duration) -> String {
    match time.as_secs() {
        s @ 0..=119 => format!("{s} s"),
        s @ 120..=7199 => format!("{} min", s / 60),
        s => format!("{} h", s / 3600),
    }
}

impl Condition {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A commit of this many rows begins.
    pub fn commit_begins(&self, rows: usize) {
        let mut inner = self.lock();
        (inner.commits.begun, inner.commits.rows) = (Some(Instant::now()), rows);
    }

    /// A commit failed, and is tried again.
    pub fn commit_fails(&self, why: &str) {
        let commits = &mut self.lock().commits;
        // From when the first of them began: until then all was durable.
        let begun = commits.begun.unwrap_or_else(Instant::now);
        let first = (begun, clock::utc() - begun.elapsed());
        let (since, utc) = commits.failing.as_ref().map_or(first, |(since, utc, _)| (*since, *utc));
        commits.failing = Some((since, utc, why.to_owned()));
    }

    /// The database has answered to a commit.
    pub fn committed(&self) {
        let mut inner = self.lock();
        let now = Instant::now();
        let commits = &mut inner.commits;
        let took = commits.begun.map_or(Duration::ZERO, |begun| begun.elapsed());
        let failing = commits.failing.take().map(|(_, since, _)| since);
        if let Some(since) = failing.or_else(|| (took > SLOW_COMMIT).then(|| clock::utc() - took)) {
            commits.recovered = Some((now, since));
        }
        (commits.begun, commits.last) = (None, Some(now));
        inner.database = Some(now);
    }

    /// The database refuses a device's state.
    pub fn quarantine(&self, dev_eui: Eui64, why: &str) {
        let new = || Quarantined { since: clock::utc(), why: why.to_owned() };
        self.lock().quarantined.entry(dev_eui).or_insert_with(new);
    }

    /// A device is registered again or removed.
    pub fn release(&self, dev_eui: Eui64) {
        self.lock().quarantined.remove(&dev_eui);
    }

    /// Why a device is not served, if it is not.
    pub fn quarantined(&self, dev_eui: Eui64) -> Option<Quarantined> {
        self.lock().quarantined.get(&dev_eui).cloned()
    }

    /// All devices that are not served.
    pub fn all_quarantined(&self) -> Vec<(Eui64, Quarantined)> {
        self.lock().quarantined.iter().map(|(eui, quarantined)| (*eui, quarantined.clone())).collect()
    }

    /// The database refuses another row.
    pub fn refused(&self, what: &str, why: &str) {
        let mut inner = self.lock();
        inner.refused += 1;
        inner.last_refused = format!("{what}: {why}");
    }

    /// Adds a note for the watch page.
    pub fn note(&self, weight: Weight, what: impl Into<String>, next_step: impl Into<String>) {
        let note = Note { weight, what: what.into(), next_step: next_step.into() };
        let mut inner = self.lock();
        if inner.notes.len() < NOTES && !inner.notes.contains(&note) {
            inner.notes.push(note);
        }
    }

    /// The MQTT broker is reachable, or not.
    pub fn broker(&self, there: bool) {
        let broker = &mut self.lock().broker;
        if broker.is_none_or(|(known, _)| known != there) {
            *broker = Some((there, Instant::now()));
        }
    }

    /// The MQTT broker keeps to the list of revoked certificates, or not.
    pub fn broker_keeps_to_list(&self, keeps: bool) {
        self.lock().broker_accepts_revoked = !keeps;
    }

    /// The database has answered any question.
    pub fn database_answers(&self) {
        self.lock().database = Some(Instant::now());
    }

    /// How long the database has not answered, if that is too long.
    fn database_silent(&self) -> Option<Duration> {
        self.lock().database.map(|at| at.elapsed()).filter(|age| *age > SILENT)
    }

    /// How long frames have not become durable, and why.
    pub fn not_durable(&self) -> Option<(Duration, String)> {
        let commits = &self.lock().commits;
        let slow = commits.begun.map(|begun| begun.elapsed()).filter(|age| *age > SLOW_COMMIT);
        match (&commits.failing, slow) {
            (Some((since, _, why)), _) => Some((since.elapsed(), why.clone())),
            (None, Some(age)) => Some((age, "the database has not answered to a commit yet".into())),
            (None, None) => None,
        }
    }

    /// The time up to which receptions are evaluated: now, or earlier while frames are waiting. Silence is judged by
    /// it.
    pub fn heard_until(&self, network: &Network) -> DateTime<Utc> {
        let behind = network.backlog().0 >= BEHIND;
        let trouble = self.not_durable().map(|(age, _)| clock::utc() - age);
        let settling =
            self.lock().commits.recovered.filter(|(at, _)| at.elapsed() < SETTLE || behind).map(|(_, since)| since);
        trouble.into_iter().chain(settling).min().unwrap_or_else(clock::utc)
    }

    /// The state of each part. Anybody may ask, so errors are not quoted.
    pub fn parts(&self, network: &Network) -> Vec<HealthPart> {
        let part = |part: &str, state, age_s, what: String| HealthPart { part: part.into(), state, age_s, what };
        let ok = |name: &str, age_s, what: &str| part(name, PartState::Ok, age_s, what.into());
        let mut parts = Vec::new();
        let answered = self.lock().database.map(|at| at.elapsed().as_secs_f64());
        match self.database_silent() {
            None => parts.push(ok("database", answered, "it answers")),
            Some(age) => {
                let what = format!("it has not answered for {}", for_how_long(age));
                parts.push(part("database", PartState::Failing, Some(age.as_secs_f64()), what));
            }
        }
        let last = self.lock().commits.last.map(|at| at.elapsed().as_secs_f64());
        match self.not_durable() {
            None => parts.push(ok("commits", last, "what is heard becomes durable")),
            Some((age, _)) => {
                let rows = self.lock().commits.rows;
                let what = format!(
                    "nothing has become durable for {}; {rows} rows wait, and what is heard waits in the journal",
                    for_how_long(age)
                );
                parts.push(part("commits", PartState::Failing, Some(age.as_secs_f64()), what));
            }
        }
        match network.journal_health().failing() {
            None => parts.push(ok("journal", None, "what is heard is journalled before it is acknowledged")),
            Some((age_s, _)) => {
                let what = "it cannot be written, so nothing that is heard is acknowledged".into();
                parts.push(part("journal", PartState::Failing, Some(age_s), what));
            }
        }
        let waiting = network.backlog().0;
        if waiting >= BEHIND {
            let what = format!("{waiting} frames wait for it");
            parts.push(part("engine", PartState::Degraded, None, what));
        } else {
            parts.push(ok("engine", None, "it takes frames as they come"));
        }
        if let Some((there, since)) = self.lock().broker {
            let age = since.elapsed();
            let (state, what) = match there {
                true => (PartState::Ok, "it is connected".to_owned()),
                false => (PartState::Degraded, format!("it has not been reached for {}", for_how_long(age))),
            };
            parts.push(part("broker", state, Some(age.as_secs_f64()), what));
        }
        let quarantined = self.lock().quarantined.len();
        if quarantined > 0 {
            let what = format!("{quarantined} devices are quarantined: the database refuses their state");
            parts.push(part("devices", PartState::Degraded, None, what));
        }
        parts
    }

    /// Concerns for all estates.
    pub fn concerns(&self, network: &Network) -> Vec<Concern> {
        let concern = |weight, what: String, next_step: &str| Concern {
            weight,
            about: About::Service,
            eui: None,
            name: None,
            model: None,
            message: None,
            since: None,
            what,
            next_step: next_step.into(),
        };
        let mut found = Vec::new();
        if let Some((age, why)) = self.not_durable() {
            let what = format!("Nothing has become durable for {}: {why}.", for_how_long(age));
            let next = "Look at the database. What is heard waits in the journal, and is stored once it answers.";
            found.push(concern(Weight::Trouble, what, next));
        }
        if let (Some(age), None) = (self.database_silent(), self.not_durable()) {
            let what = format!("The database has not answered for {}.", for_how_long(age));
            found.push(concern(Weight::Trouble, what, "Look at the database. What is heard will wait in the journal."));
        }
        if let Some((age_s, why)) = network.journal_health().failing() {
            let what = format!(
                "The journal of heard frames cannot be written for {}: {why}. Nothing is acknowledged to gateways.",
                for_how_long(Duration::from_secs_f64(age_s))
            );
            found.push(concern(Weight::Trouble, what, "Make room on the disk with the data folder."));
        }
        let now = clock::now();
        for step in clock::steps().iter().filter(|step| now.since(step.at) < STEP_TOLD_S * 1_000_000) {
            let what = format!("The clock was set by {:.0} s at {} UTC.", step.by_us as f64 / 1e6, at_time(step.at));
            found.push(concern(
                Weight::Attention,
                what,
                "See that this machine gets the network's time when it starts.",
            ));
        }
        if let Some((false, since)) = self.lock().broker {
            let what = format!("The MQTT broker has not been reached for {}.", for_how_long(since.elapsed()));
            found.push(concern(
                Weight::Trouble,
                what,
                "See whether it runs, and whether its certificate is still good.",
            ));
        }
        let inner = self.lock();
        if inner.broker_accepts_revoked {
            let what = "The MQTT broker lets in gateways whose certificates are revoked.".into();
            let next = "It has to read the list again: revoked.pem, in the folder broker of the data folder (see docs/gateways.md).";
            found.push(concern(Weight::Trouble, what, next));
        }
        if inner.refused > 0 {
            let what = format!("The database has refused {} rows; the last was {}.", inner.refused, inner.last_refused);
            found.push(concern(
                Weight::Trouble,
                what,
                "Rows of the history are kept in refused-rows.jsonl in the data folder.",
            ));
        }
        found.extend(inner.notes.iter().map(|note| concern(note.weight, note.what.clone(), &note.next_step)));
        found
    }
}

fn at_time(at: engine::Timestamp) -> String {
    DateTime::from_timestamp_micros(at.0).unwrap_or_default().format("%Y-%m-%d %H:%M:%S").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commits_that_fail_are_told_until_one_is_made() {
        let condition = Condition::default();
        assert_eq!(condition.not_durable(), None);
        condition.commit_begins(7);
        condition.commit_fails("the table is full");
        let (_, why) = condition.not_durable().unwrap();
        assert_eq!(why, "the table is full");
        condition.committed();
        assert_eq!(condition.not_durable(), None);
    }

    #[test]
    fn a_device_stays_quarantined_for_the_first_reason_until_it_is_released() {
        let condition = Condition::default();
        condition.quarantine(Eui64(1), "too long");
        condition.quarantine(Eui64(1), "again");
        assert_eq!(condition.quarantined(Eui64(1)).unwrap().why, "too long");
        condition.release(Eui64(1));
        assert_eq!(condition.quarantined(Eui64(1)), None);
    }
}
