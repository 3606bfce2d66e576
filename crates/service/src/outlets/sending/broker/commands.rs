//! Commands that come back from a broker: each is a downlink for one device, and each is answered.
//!
//! The broker keeps commands while the service is away, and a command is acknowledged only once it has been answered. So one may
//! come twice; one that has a `reference` is not added twice.

use std::time::Duration;

use anyhow::Result;
use api::device::outbox::{NewOutboxItem, OutboxItem};
use api::message::DeviceRef;
use api::outlet::{CommandAnswer, CommandTaken, CommandsState};
use api::problem::{Problem, bad_field};
use chrono::Utc;
use domain::Check as _;
use domain::outlet::topic::{Named, Pattern, Placeholder, is_named};
use store::{DeviceContext, Named as NamedThing, OutletRow, StoreError};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use super::client::{Came, News, Publication};
use super::line::Wanted;
use super::{Reach, again, caught, publish};
use crate::decoding::decoder;
use crate::downlinks::{Carried, Downlinks, NotAdded};
use crate::outlets::news::{SharedNews, locked};
use crate::outlets::sending::{Outcome, beginning};

/// The longest command.
const LONGEST: usize = 64 * 1024;
/// How long the broker may take to answer the subscription.
const SUBSCRIBE: Duration = Duration::from_secs(10);
/// How long a command waits for the database before it is answered that it has to be given again.
const DATABASE_TRIES: u32 = 5;
const DATABASE_PAUSE: Duration = Duration::from_secs(2);

/// Where commands come from, and where answers go.
pub(super) struct Topics {
    pub topic: Pattern,
    pub answers: Pattern,
    pub estate: String,
}

/// Takes an outlet's commands.
pub(super) struct Listener {
    pub reach: Reach,
    pub topics: Topics,
    pub row: OutletRow,
    pub qos: u8,
    pub downlinks: Downlinks,
    /// What answers are published by; gone once the outlet ends.
    pub answers: mpsc::WeakSender<Wanted>,
    pub news: SharedNews,
    pub stopping: CancellationToken,
    /// A command that was answered and perhaps not acknowledged, with its answer: it may come once more.
    pub last: Option<(String, Vec<u8>, CommandAnswer)>,
}

impl Listener {
    /// Listens until the outlet ends.
    pub(super) async fn run(mut self) {
        let mut tries = 0;
        loop {
            let stopping = self.stopping.clone();
            let ended = tokio::select! {
                ended = caught(self.listen(&mut tries)) => ended,
                () = stopping.cancelled() => return,
            };
            let why = ended.map_or_else(|why| format!("{why:#}"), |()| "the connection was closed".into());
            tracing::debug!("outlet {} takes no commands for now: {why}", self.row.settings.slug);
            self.tell(Some(why));
            tokio::select! {
                () = tokio::time::sleep(again(tries)) => tries = tries.saturating_add(1),
                () = stopping.cancelled() => return,
            }
        }
    }

    fn tell(&self, why_not: Option<String>) {
        let mut news = locked(&self.news);
        let listening = why_not.is_none();
        let since = match &news.commands {
            Some(before) if before.listening == listening => before.since,
            _ => Utc::now(),
        };
        news.commands = Some(CommandsState { listening, since, why: why_not });
    }

    /// Listens by one connection, for as long as that lasts.
    async fn listen(&mut self, tries: &mut u32) -> Result<()> {
        let (mut connection, _passage) = self.reach.open().await?;
        connection.subscribe(&self.topics.topic.filter(&self.topics.estate))?;
        let subscribed = tokio::time::sleep(SUBSCRIBE);
        tokio::pin!(subscribed);
        let mut waits = true;
        loop {
            let news = tokio::select! {
                news = connection.next() => news.map_err(|why| anyhow::anyhow!(why))?,
                () = &mut subscribed, if waits => anyhow::bail!("the broker does not answer the subscription"),
            };
            match news {
                News::Subscribed(answer) => {
                    answer.map_err(|why| anyhow::anyhow!(why))?;
                    (waits, *tries) = (false, 0);
                    self.tell(None);
                }
                News::Came(came) => {
                    self.take(&came).await?;
                    connection.acknowledge(&came)?;
                }
                News::Sent(_) | News::Answered(..) | News::Other => {}
            }
        }
    }

    /// Takes a command, and answers it.
    ///
    /// # Errors
    /// The answer could not be published: the command is to come again.
    async fn take(&mut self, came: &Came) -> Result<()> {
        let known = self.last.as_ref().filter(|(topic, payload, _)| *topic == came.topic && *payload == came.payload);
        // Without a reference, only that it is the same as the one before which was not acknowledged says that it came twice.
        let answer = match known {
            Some((.., answer)) => answer.clone(),
            None => self.answer(came).await,
        };
        self.last = Some((came.topic.clone(), came.payload.clone(), answer.clone()));
        let json = serde_json::to_vec(&answer)?;
        let publication = Publication {
            topic: self.answer_topic(came, answer.device.as_ref()),
            payload: json.clone(),
            qos: self.qos.max(1),
            properties: vec![("type".to_owned(), "answer".to_owned())],
            correlation: came.correlation.clone(),
            ..Publication::default()
        };
        let wanted = self.answers.upgrade().ok_or_else(|| anyhow::anyhow!("the outlet ends"))?;
        match publish(&wanted, vec![publication]).await {
            Outcome::Taken => {
                self.last = None;
                self.note(came, &answer, &json);
                Ok(())
            }
            // An answer that the broker refuses would be refused again: it is told here.
            Outcome::Refused(why) => {
                self.last = None;
                let told = format!("{} (the answer was not published: {why})", String::from_utf8_lossy(&json));
                self.note(came, &answer, told.as_bytes());
                Ok(())
            }
            other => {
                Err(anyhow::anyhow!("the answer to a command is not published: {}", other.why().unwrap_or_default()))
            }
        }
    }

    fn note(&self, came: &Came, answer: &CommandAnswer, json: &[u8]) {
        let command = String::from_utf8_lossy(&came.payload);
        locked(&self.news).note_command(CommandTaken {
            at: Utc::now(),
            topic: came.topic.clone(),
            command: beginning(&command).to_owned(),
            answer: String::from_utf8_lossy(json).into_owned(),
            taken: answer.taken,
        });
    }

    fn answer_topic(&self, came: &Came, device: Option<&DeviceRef>) -> String {
        let named = self.topics.topic.names(&came.topic, &self.topics.estate).unwrap_or_default();
        let context = device.and_then(|device| self.downlinks.directory.device(device.eui));
        self.topics.answers.fill(|placeholder| match placeholder {
            Placeholder::Estate => Some(self.topics.estate.clone()),
            Placeholder::Fleet => context.as_ref().map(|context| context.fleet.clone()).or(named.fleet.clone()),
            Placeholder::Device => device.map(|device| device.name.clone()).or(named.device.clone()),
            Placeholder::Eui => device.map(|device| device.eui.to_string()).or(named.eui.clone()),
            Placeholder::Model | Placeholder::Type => None,
        })
    }

    /// What comes of a command.
    async fn answer(&self, came: &Came) -> CommandAnswer {
        let mut answer = CommandAnswer { taken: false, reference: None, device: None, downlink: None, problem: None };
        for attempt in 1.. {
            match self.obey(came, &mut answer).await {
                Ok(downlink) => {
                    (answer.taken, answer.downlink) = (true, Some(downlink));
                    break;
                }
                Err(NotAdded::Refused(problem)) => {
                    answer.problem = Some(problem);
                    break;
                }
                Err(NotAdded::Store(why)) if attempt >= DATABASE_TRIES || why.is_refusal() => {
                    tracing::warn!("a command of outlet {} is not taken: {why}", self.row.settings.slug);
                    let problem = Problem::new(503, "unavailable", "The command could not be stored");
                    answer.problem = Some(problem.detail("give it again in a while"));
                    break;
                }
                Err(NotAdded::Store(_)) => tokio::time::sleep(DATABASE_PAUSE).await,
            }
        }
        answer
    }

    /// Adds the downlink that a command wants.
    async fn obey(&self, came: &Came, answer: &mut CommandAnswer) -> Result<OutboxItem, NotAdded> {
        if came.retained {
            let problem = Problem::new(422, "retained", "A retained command is not obeyed");
            return Err(problem
                .detail("the broker would repeat it at each connection: publish it without retain")
                .into());
        }
        if came.payload.len() > LONGEST {
            let allowed = format!("at most {LONGEST} bytes are allowed");
            return Err(bad_field("command", &format!("{} bytes", came.payload.len()), allowed).into());
        }
        let device = self.device(&came.topic).await?;
        answer.device = Some(DeviceRef { eui: device.dev_eui, name: device.name.clone(), model: device.model.clone() });
        let new: NewOutboxItem = serde_json::from_slice(&came.payload).map_err(|why| {
            Problem::new(400, "bad_json", "The command is not the JSON expected here").detail(why.to_string())
        })?;
        answer.reference.clone_from(&new.reference);
        let checked = new.check()?;
        let (downlinks, dev_eui) = (&self.downlinks, device.dev_eui);
        if let Some(reference) = &checked.reference
            && let Some(known) = downlinks.store.outbox_item_called(dev_eui, reference).await?
        {
            return Ok(known);
        }
        downlinks.check(dev_eui, &checked).await?;
        let (port, payload) = match downlinks.carried(self.row.estate_id, &device, checked.cargo.clone()).await? {
            Carried::Bytes { port, payload } => (port, payload),
            Carried::Values(to_encode) => {
                let (decoder, values) = (std::sync::Arc::clone(&to_encode.decoder), to_encode.values.clone());
                let encoded = tokio::task::spawn_blocking(move || decoder::encode(&decoder, &values)).await;
                let (port, payload, _) =
                    to_encode.encoded(encoded.unwrap_or_else(|why| Err(format!("it could not be run: {why}"))))?;
                (port, payload)
            }
        };
        let (_, wait) = downlinks.listening(self.row.estate_id, dev_eui).await?;
        downlinks.add(dev_eui, &checked, (port, payload), wait).await
    }

    /// The device that a topic names, if it is one of the outlet's.
    async fn device(&self, topic: &str) -> Result<DeviceContext, NotAdded> {
        let none = |what: &str, given: &str| {
            Problem::new(404, "not_found", "There is no such device").detail(format!("{what} {given:?}"))
        };
        let named = self.topics.topic.names(topic, &self.topics.estate).unwrap_or_default();
        let found = self.find(&named).await?;
        let given = named.eui.as_deref().or(named.device.as_deref()).unwrap_or_default();
        let device = found
            .filter(|device| device.estate_id == self.row.estate_id && is_named(&named, device.dev_eui, &device.name))
            .ok_or_else(|| none("no device is called", given))?;
        let settings = &self.row.settings;
        let of_fleet = settings.fleet.as_ref().is_none_or(|fleet| *fleet == device.fleet);
        let as_named = named.fleet.as_ref().is_none_or(|fleet| *fleet == device.fleet);
        let of_model = settings.model.is_none() || settings.model == device.model;
        let tagged = match &settings.tag {
            Some(tag) => {
                self.downlinks.store.devices_with_tag(self.row.estate_id, tag).await?.contains(&device.dev_eui)
            }
            None => true,
        };
        match of_fleet && as_named && of_model && tagged {
            true => Ok(device),
            // Whether another fleet has such a device is not told.
            false => Err(none("no device of this outlet is called", given).into()),
        }
    }

    async fn find(&self, named: &Named) -> Result<Option<DeviceContext>, StoreError> {
        let eui = match (&named.eui, &named.device) {
            (Some(text), _) => domain::input::eui("eui", text).ok(),
            (None, Some(name)) => self.downlinks.store.eui_named(self.row.estate_id, NamedThing::Device, name).await?,
            (None, None) => None,
        };
        Ok(eui.and_then(|eui| self.downlinks.directory.device(eui)))
    }
}
