//! Tests whether the broker refuses revoked certificates, and disconnects clients that had connected with one.

use std::time::Duration;

use anyhow::{Context as _, Result, bail};
use chrono::{TimeDelta, Utc};
use gateway_link::mqtt::{Name, Topic};
use rumqttc::{
    AsyncClient, ConnectReturnCode, ConnectionError, Event, EventLoop, Incoming, MqttOptions, Outgoing, QoS,
};
use tokio::net::TcpStream;

use crate::gateways::authority::{Authority, Issued};
use crate::gateways::transport::mqtt::reach::{BrokerAddress, tls};
use crate::net::tls::Trust;

/// How long the broker may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long the certificates are valid that are made for this.
const LASTS: TimeDelta = TimeDelta::minutes(10);
/// The name in the certificate of a test that the broker has to refuse.
const TRIAL: &str = "keen-heron-trial";

/// The service's own access to the broker.
pub(crate) struct BrokerAccess {
    pub address: BrokerAddress,
    pub trust: Trust,
}

impl BrokerAccess {
    fn client(&self, name: &str, own: &Issued, forget: bool) -> Result<(AsyncClient, EventLoop)> {
        let mut options = MqttOptions::new(name, &self.address.host, self.address.port);
        options.set_clean_session(forget).set_transport(tls(own, &self.trust)?);
        Ok(AsyncClient::new(options, 4))
    }

    /// Whether the broker accepts a certificate with this serial number.
    ///
    /// # Errors
    /// It is not reached within ten seconds.
    pub(crate) async fn accepts(&self, authority: &Authority, serial: Vec<u8>) -> Result<bool> {
        let own = authority.for_trial(TRIAL, serial, Utc::now() + LASTS)?;
        let (client, mut broker) = self.client(TRIAL, &own, true)?;
        let answered = async {
            TcpStream::connect((self.address.host.as_str(), self.address.port)).await?;
            loop {
                match broker.poll().await {
                    Ok(Event::Incoming(Incoming::ConnAck(ack))) => {
                        let _ = client.try_disconnect();
                        return Ok(ack.code == ConnectReturnCode::Success);
                    }
                    Ok(_) => {}
                    Err(error @ (ConnectionError::NetworkTimeout | ConnectionError::FlushTimeout)) => bail!(error),
                    // It was there, and has ended the connection in words of TLS or of MQTT.
                    Err(_) => return Ok(false),
                }
            }
        };
        tokio::time::timeout(PATIENCE, answered).await.context("the broker does not answer")?
    }

    /// Disconnects a gateway, by connecting for a moment under its name: a broker closes the earlier connection of that name
    /// (MQTT 3.1.1 §3.1.4). With a good certificate the gateway connects again at once; with a revoked one it cannot. If no
    /// good one is left, the broker also drops what it keeps for that name.
    ///
    /// # Errors
    /// The broker is not reached within ten seconds, or refuses the service under that name.
    pub(crate) async fn disconnect(&self, authority: &Authority, name: Name, name_in_use: bool) -> Result<()> {
        let own = authority.for_gateway(name, Utc::now() + LASTS)?;
        let (client, mut broker) = self.client(&name.to_string(), &own, !name_in_use)?;
        let done = async {
            loop {
                match broker.poll().await? {
                    Event::Incoming(Incoming::ConnAck(ack)) if ack.code != ConnectReturnCode::Success => {
                        bail!("the broker says {:?}", ack.code);
                    }
                    Event::Incoming(Incoming::ConnAck(_)) if name_in_use => client.try_disconnect()?,
                    Event::Incoming(Incoming::ConnAck(_)) => {
                        // Nothing is kept of whether it is there.
                        client.try_publish(Topic::State.of(name), QoS::AtLeastOnce, true, Vec::new())?;
                    }
                    Event::Incoming(Incoming::PubAck(_)) => client.try_disconnect()?,
                    Event::Outgoing(Outgoing::Disconnect) => return Ok(()),
                    _ => {}
                }
            }
        };
        tokio::time::timeout(PATIENCE, done).await.context("the broker does not answer")?
    }
}
