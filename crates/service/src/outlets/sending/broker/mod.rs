//! Publishes messages at an MQTT broker, and takes commands that come back from it.

mod client;
mod commands;
mod line;

use std::collections::BTreeMap;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context as _, Result, anyhow};
use api::outlet::{MqttBroker, MqttVersion, OutletSecrets};
use chrono::SecondsFormat;
use domain::outlet::address::BrokerAddress;
use domain::outlet::topic::{Filled, Pattern};
use domain::outlet::type_of;
use futures::FutureExt as _;
use rustls::ClientConfig;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use store::OutletRow;
use tokio::sync::{mpsc, oneshot};
use tokio_util::sync::DropGuard;

use self::client::{Connection, Identity, Publication};
use self::line::Wanted;
use super::{Outcome, Parts, Shaped, Tried};
use crate::net::passage::{self, Passage, Server};

/// Messages of one request: they go out together, and each is acknowledged.
pub(super) const MOST: usize = 100;

/// How a broker is reached, and as whom.
#[derive(Clone)]
struct Reach {
    server: Server,
    identity: Identity,
}

impl Reach {
    /// Connects and signs in.
    async fn open(&self) -> Result<(Connection, Passage)> {
        let passage = Passage::open(&self.server, "broker").await?;
        let socket = passage.socket.to_str().context("the folder for temporary files has a name that is no text")?;
        let connection = Connection::open(&self.identity, socket, passage::CONNECT).await?;
        Ok((connection, passage))
    }
}

/// A broker, ready to be published at.
pub(super) struct Broker {
    of: MqttBroker,
    topic: Pattern,
    /// The user properties of the settings.
    properties: Vec<(String, Filled)>,
    wanted: mpsc::Sender<Wanted>,
    _until_dropped: DropGuard,
}

impl Broker {
    /// # Errors
    /// If the certificates or the key cannot be read.
    pub(super) fn new(row: &OutletRow, of: &MqttBroker, estate: &str, parts: Parts) -> Result<Self> {
        let address = BrokerAddress::read(&of.url).map_err(|why| anyhow!(why)).context("to.mqtt.url")?;
        let pattern = |text: &str| Pattern::read(text).map_err(|why| anyhow!(why));
        let topic = pattern(&of.topic).context("to.mqtt.topic")?;
        let filled = |(name, value): (&String, &String)| match Filled::read(value) {
            Ok(value) => Ok((name.clone(), value)),
            Err(why) => Err(anyhow!(why)).context(format!("to.mqtt.user_properties.{name}")),
        };
        let properties = of.user_properties.iter().map(filled).collect::<Result<_>>()?;
        let tls = address.tls.then(|| tls(of, &row.secrets)).transpose()?;
        let server = Server { host: address.host, port: address.port, tls, allowed: parts.allowed.hosts };
        let named = of.client_id.clone().unwrap_or_else(|| format!("keen-heron-{estate}-{}", row.settings.slug));
        let account =
            of.account.clone().zip(row.secrets.password.as_ref().map(|password| password.as_str().to_owned()));
        let identity = Identity { version: of.version, client_id: named, account, kept: false };
        let stopping = parts.stopping.child_token();
        let (wanted, taken) = mpsc::channel(line::MOST_WAITING);
        let reach = Reach { server, identity };
        if let (Some(commands), Some(downlinks)) = (&of.commands, parts.downlinks) {
            let topics = commands::Topics {
                topic: pattern(&commands.topic).context("to.mqtt.commands.topic")?,
                answers: pattern(&commands.answers).context("to.mqtt.commands.answers")?,
                estate: estate.to_owned(),
            };
            let kept = Identity {
                kept: true,
                client_id: format!("{}-commands", reach.identity.client_id),
                ..reach.identity.clone()
            };
            let listener = commands::Listener {
                reach: Reach { identity: kept, ..reach.clone() },
                topics,
                row: row.clone(),
                qos: of.qos,
                downlinks,
                answers: wanted.downgrade(),
                news: parts.news,
                stopping: stopping.clone(),
                last: None,
            };
            tokio::spawn(listener.run());
        }
        tokio::spawn(line::publish_all(reach, taken, stopping.clone()));
        Ok(Self { of: of.clone(), topic, properties, wanted, _until_dropped: stopping.drop_guard() })
    }

    /// Publishes messages, and waits until the broker has them.
    pub(super) async fn send(&self, messages: &[Shaped<'_>]) -> Tried {
        let publications: Vec<Publication> = messages.iter().map(|shaped| self.publication(shaped)).collect();
        let topics: BTreeMap<&str, ()> = publications.iter().map(|one| (one.topic.as_str(), ())).collect();
        let shown = super::joined(topics.into_keys().take(20), ", ");
        let line = format!("publish to {shown} at {}, QoS {}", self.of.url, self.of.qos);
        let headers = match publications.as_slice() {
            [one] => one.properties.iter().cloned().collect(),
            _ => BTreeMap::new(),
        };
        let outcome = publish(&self.wanted, publications).await;
        let mut tried = Tried::of(outcome, line, messages);
        tried.request.headers = headers;
        tried
    }

    fn publication(&self, shaped: &Shaped<'_>) -> Publication {
        Publication {
            topic: self.topic.of(&shaped.written.message),
            payload: shaped.json.clone().into_bytes(),
            qos: self.of.qos,
            retain: self.of.retain,
            expires_after_s: self.of.expires_after_s,
            properties: self.properties(shaped),
            correlation: None,
        }
    }

    /// What a message says of itself beside its payload; only MQTT 5 has that.
    fn properties(&self, shaped: &Shaped<'_>) -> Vec<(String, String)> {
        if self.of.version == MqttVersion::V311 {
            return Vec::new();
        }
        let message = &shaped.written.message;
        let kind = type_of(message).map_or("", api::outlet::MessageType::name);
        let time = message.time.to_rfc3339_opts(SecondsFormat::Millis, true);
        let mut all = vec![
            ("id".to_owned(), message.id.clone()),
            ("type".to_owned(), kind.to_owned()),
            ("time".to_owned(), time),
        ];
        if let api::message::Body::Downlink(downlink) = &message.body
            && let Some(reference) = &downlink.reference
        {
            all.push(("reference".to_owned(), reference.clone()));
        }
        all.extend(self.properties.iter().map(|(name, value)| (name.clone(), value.of(message))));
        all
    }
}

/// Publishes by the outlet's connection, and waits until the broker has it.
async fn publish(wanted: &mpsc::Sender<Wanted>, publications: Vec<Publication>) -> Outcome {
    let (done, outcome) = oneshot::channel();
    // Connecting, signing in, and the broker's acknowledgement each have their own limit.
    let within = passage::CONNECT * 3 + line::ANSWER * 2;
    let published = async {
        wanted.send(Wanted { publications, done }).await.ok()?;
        outcome.await.ok()
    };
    match tokio::time::timeout(within, published).await {
        Ok(Some(outcome)) => outcome,
        Ok(None) => Outcome::Unreached("the outlet is about to end".into()),
        Err(_) => Outcome::Unreached(format!("the broker has not answered for {} s", within.as_secs())),
    }
}

/// TLS as the settings say.
fn tls(of: &MqttBroker, secrets: &OutletSecrets) -> Result<Arc<ClientConfig>> {
    let roots = passage::roots(of.trust.as_deref()).context("to.mqtt.trust")?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_root_certificates(roots);
    let config = match (&of.certificate, &secrets.key) {
        (Some(certificate), Some(key)) => {
            let chain: Result<Vec<CertificateDer<'static>>, _> =
                CertificateDer::pem_slice_iter(certificate.as_bytes()).collect();
            let chain = chain.map_err(|why| anyhow!("{why}")).context("to.mqtt.certificate")?;
            let key = PrivateKeyDer::from_pem_slice(key.as_str().as_bytes());
            let key = key.map_err(|why| anyhow!("{why}")).context("secrets.key")?;
            builder.with_client_auth_cert(chain, key).context("to.mqtt.certificate")?
        }
        _ => builder.with_no_client_auth(),
    };
    Ok(Arc::new(config))
}

/// A connection's work. The library takes what brokers send apart; should it panic over that, the connection ends, and not the
/// outlet.
async fn caught<T>(work: impl Future<Output = Result<T>>) -> Result<T> {
    let ended = AssertUnwindSafe(work).catch_unwind().await;
    ended.unwrap_or_else(|_| Err(anyhow!("what the broker sent could not be read")))
}

/// Pauses between two attempts to reach a broker that commands come from: longer each time.
fn again(tries: u32) -> Duration {
    Duration::from_secs(1).saturating_mul(1 << tries.min(6)).min(Duration::from_secs(60))
}
