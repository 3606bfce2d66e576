//! Downlinks on their way into outboxes: what they carry, what they wait for, and that they are added. Who may add them is
//! checked before.

use std::sync::Arc;

use api::device::outbox::{OutboxItem, Values};
use api::problem::{Problem, bad_field};
use chrono::DateTime;
use domain::downlink::{Cargo, CheckedOutboxItem, Listening};
use domain::radio::settings::wire_class;
use engine::{Command, OutboxId, Place, Timestamp, Wait};
use lorawan::Eui64;
use payload::Encoded;
use store::{DeviceContext, EstateId, Store, StoreError};
use ulid::Ulid;

use crate::clock;
use crate::decoding::ready::Decoder;
use crate::ingest::network::Network;
use crate::pipeline::directory::Directory;

/// Downlinks that may wait for one device.
const MAX_OPEN: u64 = 10_000;

/// The parts that downlinks go through.
#[derive(Clone)]
pub(crate) struct Downlinks {
    pub store: Store,
    pub directory: Arc<Directory>,
    pub network: Network,
}

/// What a downlink carries.
pub(crate) enum Carried {
    /// These bytes.
    Bytes { port: u8, payload: Vec<u8> },
    /// What an encoder makes of these values.
    Values(Box<ToEncode>),
}

/// Values for an encoder.
pub(crate) struct ToEncode {
    pub decoder: Arc<Decoder>,
    pub values: Values,
    model: String,
    port: Option<u8>,
    /// The field that they were given in, and its value.
    given: (&'static str, String),
}

/// Port and payload, and the encoder's warnings.
pub(crate) type Encoding = (u8, Vec<u8>, Vec<String>);

impl ToEncode {
    /// What the encoder has made of the values.
    ///
    /// # Errors
    /// The encoder does not take them, or there is no port.
    pub(crate) fn encoded(self, encoded: Result<Encoded, String>) -> Result<Encoding, Problem> {
        let Self { model, port, given: (field, given), .. } = self;
        let refused = |why| bad_field(field, &given, format!("the encoder of {model} does not take them: {why}"));
        let encoded = encoded.map_err(refused)?;
        let Some(port) = port.or(encoded.port) else {
            return Err(bad_field("port", "nothing", "the encoder names none, so it is to be given: 1 to 223"));
        };
        let mut warnings = encoded.warnings;
        if let Some(usual) = encoded.port.filter(|usual| *usual != port) {
            warnings.push(format!("The encoder would use port {usual}; {port} was asked for."));
        }
        Ok((port, encoded.bytes, warnings))
    }
}

/// Why a downlink was not added.
pub(crate) enum NotAdded {
    Refused(Problem),
    Store(StoreError),
}

impl From<Problem> for NotAdded {
    fn from(problem: Problem) -> Self {
        Self::Refused(problem)
    }
}

impl From<StoreError> for NotAdded {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl Downlinks {
    /// When a device listens, as far as it is known; and what a downlink waits for that has just been added.
    pub(crate) async fn listening(&self, estate: EstateId, dev_eui: Eui64) -> Result<(Listening, Wait), StoreError> {
        // A group has no row and no status, and no uplinks are expected.
        let (row, status) = (self.store.device(estate, dev_eui).await?, self.network.device(dev_eui).await);
        let (Some(row), Some(status)) = (row, status) else { return Ok((Listening::default(), Wait::Gateway)) };
        let time = |at: Timestamp| DateTime::from_timestamp_micros(at.0);
        let listening = Listening {
            class: status.has_joined().then(|| wire_class(status.class)),
            last_heard: row.last_heard,
            // Its measured interval counts more than the expected one.
            interval_s: row.usual_interval_s.or(row.whole_radio.uplink_interval_s.map(f64::from)),
            held_until: status.held_until.and_then(time),
            ping_slots: status.ping_slots.and_then(|(at, apart_us)| Some((time(at)?, apart_us / 1000))),
        };
        Ok((listening, status.first_wait()))
    }

    /// The encoder for a device, or for the members of a group if they are all of one model; or why there is none.
    async fn encoder_of(&self, estate: EstateId, device: &DeviceContext) -> Result<(String, Arc<Decoder>), String> {
        let group = self.store.group(estate, device.dev_eui).await;
        let group = group.map_err(|_| "the database is not available".to_owned())?;
        let members = group.map_or_else(|| vec![device.dev_eui], |group| group.config.members);
        let mut found: Option<(String, Arc<Decoder>)> = None;
        for member in members {
            let context = self.directory.device(member).ok_or("a member is not registered any more")?;
            let Some(model) = context.model else {
                return Err(format!("{} has no model, so there is no encoder: give the bytes", context.name));
            };
            let Some(decoder) = self.directory.decoder(estate, &model, member) else {
                return Err(format!("the model {model} has no script, so there is no encoder: give the bytes"));
            };
            match &found {
                Some((other, same)) if *other != model || same.version != decoder.version => {
                    return Err("the group's members have different decoders: give the bytes".into());
                }
                _ => found = Some((model, decoder)),
            }
        }
        found.ok_or_else(|| "the group has no members, so there is no encoder: give the bytes".into())
    }

    /// What is to be sent to a device.
    ///
    /// # Errors
    /// There is no encoder, or the model has no such command.
    pub(crate) async fn carried(
        &self,
        estate: EstateId,
        device: &DeviceContext,
        cargo: Cargo,
    ) -> Result<Carried, Problem> {
        let (port, values, given) = match cargo {
            Cargo::Bytes { port, payload } => return Ok(Carried::Bytes { port, payload }),
            Cargo::Values { port, values } => {
                let given = serde_json::to_string(&values).unwrap_or_default();
                (port, Some(values), ("values", given))
            }
            Cargo::Command { port, name } => (port, None, ("command", name)),
        };
        let bad = |why: String| bad_field(given.0, &given.1, why);
        let (model, decoder) = self.encoder_of(estate, device).await.map_err(bad)?;
        let (port, values) = match values {
            Some(values) => (port, values),
            None => {
                let command = decoder.commands.iter().find(|command| command.name == given.1);
                let Some(command) = command else {
                    let names: Vec<&str> = decoder.commands.iter().map(|command| command.name.as_str()).collect();
                    let known = if names.is_empty() { "no command".to_owned() } else { names.join(", ") };
                    return Err(bad(format!("the model {model} has {known}")));
                };
                (port.or(command.port), command.values.clone())
            }
        };
        Ok(Carried::Values(Box::new(ToEncode { decoder, values, model, port, given })))
    }

    /// Whether a downlink can be sent like that.
    ///
    /// # Errors
    /// It asks a group for an acknowledgement.
    pub(crate) async fn check(&self, dev_eui: Eui64, new: &CheckedOutboxItem) -> Result<(), Problem> {
        match new.confirmed && self.network.group(dev_eui).await.is_some() {
            true => Err(bad_field("confirmed", "true", "nobody can answer for a group: leave it out")),
            false => Ok(()),
        }
    }

    /// Adds a downlink to a device's outbox.
    ///
    /// # Errors
    /// The outbox is full, or the database does not answer.
    pub(crate) async fn add(
        &self,
        dev_eui: Eui64,
        new: &CheckedOutboxItem,
        (port, payload): (u8, Vec<u8>),
        wait: Wait,
    ) -> Result<OutboxItem, NotAdded> {
        if self.store.outbox_open(dev_eui).await? >= MAX_OPEN {
            let why = format!("{MAX_OPEN} downlinks are waiting for this device; cancel some first");
            return Err(Problem::new(409, "outbox_full", "The outbox is full").detail(why).into());
        }
        let now = clock::now();
        let id = OutboxId(Ulid::generate().0);
        let item = engine::OutboxItem {
            confirmed: new.confirmed,
            max_attempts: new.max_attempts,
            expires_at: new.expires_in_us.map(|us| now.plus_us(us)),
            reference: new.reference.clone(),
            ..engine::OutboxItem::waiting(id, (port, payload), wait, now)
        };
        // Stored first: an item the engine knows of must be there to be updated.
        let stored = self.store.add_outbox_item(dev_eui, &item).await?;
        self.network.command(Command::Enqueue { dev_eui, item }).await;
        if new.first {
            self.network.arrange(dev_eui, id, Place::First).await;
        }
        Ok(stored)
    }
}
