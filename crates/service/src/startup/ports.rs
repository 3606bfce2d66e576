//! Starts what gateways connect to: UDP, the TLS port for WebSocket and updates, and the MQTT broker's client.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Result;
use rumqttc::EventLoop;
use tokio::net::{TcpListener, UdpSocket};
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;

use crate::gateways::revocations::{RevocationFiles, Revocations};
use crate::gateways::transport::admission::Admission;
use crate::gateways::transport::cups::Cups;
use crate::gateways::transport::lns::{Connections, Lns};
use crate::gateways::transport::mqtt::{BrokerAccess, BrokerAddress, Mqtt};
use crate::gateways::transport::udp::Udp;
use crate::gateways::transport::{Links, cups, lns, mqtt, udp};
use crate::ingest::network::Network;
use crate::net::listen::Port;
use crate::net::room::Limits;
use crate::net::tls::{self, Trust};
use crate::startup::config::Options;
use crate::startup::shared::Shared;

/// The time limit of a gateway's handshake, and of each request's header.
const PATIENCE: Duration = Duration::from_secs(10);

/// All protocols for gateways.
pub(crate) struct Transports {
    pub links: Arc<Links>,
    pub lns: Arc<Lns>,
    /// The certificate that gateways check the broker against.
    pub broker_trust: Trust,
    cups: Arc<Cups>,
    udp: Arc<Udp>,
    broker: Option<(Arc<Mqtt>, EventLoop)>,
    revocations: Option<Revocations>,
}

impl Transports {
    pub(crate) fn new(options: &Options, shared: &Shared, network: &Network, socket: UdpSocket) -> Result<Self> {
        let (presence, ingest) = (&shared.presence, &shared.ingest);
        let udp = udp::Udp::new(socket, Arc::clone(presence), Arc::clone(ingest), network.clone());
        let admission = Admission {
            presence: Arc::clone(presence),
            credentials: Arc::clone(&shared.credentials),
            gateway_log: Arc::clone(&shared.gateway_log),
        };
        let lns = Arc::new(Lns {
            admission: admission.clone(),
            ingest: Arc::clone(ingest),
            network: network.clone(),
            address: shared.endpoints.lns(),
            stopping: shared.stopping.clone(),
            connections: Connections::default(),
        });
        let cups = Arc::new(Cups {
            admission,
            ingest: Arc::clone(ingest),
            authority: Arc::clone(&shared.authority),
            identity: Arc::clone(&shared.identity),
            endpoints: Arc::clone(&shared.endpoints),
            store: shared.store.clone(),
            firmware: Arc::clone(&shared.firmware),
        });
        let broker_trust = mqtt::trust(options, &shared.authority)?;
        let broker = match &options.mqtt {
            Some(url) => {
                let (client, broker) = mqtt::reach(url, &shared.authority, &broker_trust)?;
                let hearing = (Arc::clone(presence), Arc::clone(ingest), network.clone());
                let (credentials, gateway_log) = (Arc::clone(&shared.credentials), Arc::clone(&shared.gateway_log));
                Some((Mqtt::new(hearing, (credentials, gateway_log, Arc::clone(&shared.condition)), client), broker))
            }
            None => None,
        };
        let revocations =
            options.mqtt.as_ref().map(|url| revocations(options, shared, url, &broker_trust)).transpose()?;
        let links = Arc::new(Links {
            presence: Arc::clone(presence),
            udp: Arc::clone(&udp),
            lns: Arc::clone(&lns),
            mqtt: broker.as_ref().map(|(mqtt, _)| Arc::clone(mqtt)),
        });
        Ok(Self { links, lns, broker_trust, cups, udp, broker, revocations })
    }

    /// Begins to listen.
    pub(crate) fn serve(self, shared: &Shared, listener: TcpListener, most: usize) -> Result<GatewayTasks> {
        let stopping = &shared.stopping;
        let udp_until = CancellationToken::new();
        let port = Port {
            tls: Some(TlsAcceptor::from(tls::config(Arc::clone(&shared.identity))?)),
            patience: PATIENCE,
            limits: Limits::gateways(most),
            router: lns::routes(self.lns).merge(cups::routes(self.cups)),
            ingest: Arc::clone(&shared.ingest),
        };
        if let Some(revocations) = self.revocations {
            tokio::spawn(revocations.run());
        }
        Ok(GatewayTasks {
            udp: tokio::spawn(udp::listen(self.udp, udp_until.clone())),
            udp_until,
            tls: tokio::spawn(port.serve(listener, stopping.clone())),
            mqtt: self.broker.map(|(mqtt, broker)| tokio::spawn(mqtt.run(broker, stopping.clone()))),
        })
    }
}

/// What keeps the broker from accepting revoked certificates.
fn revocations(options: &Options, shared: &Shared, url: &str, trust: &Trust) -> Result<Revocations> {
    let address = BrokerAddress::read(url)?;
    Ok(Revocations {
        store: shared.store.clone(),
        authority: Arc::clone(&shared.authority),
        credentials: Arc::clone(&shared.credentials),
        condition: Arc::clone(&shared.condition),
        files: RevocationFiles::new(&options.data),
        access: address.shows_certificates().then(|| BrokerAccess { address, trust: trust.clone() }),
        stopping: shared.stopping.clone(),
    })
}

/// The gateways' listeners.
pub(crate) struct GatewayTasks {
    pub tls: JoinHandle<()>,
    pub mqtt: Option<JoinHandle<()>>,
    /// Listens until it is told to stop, which comes last: a gateway that sends a datagram until the end is told that
    /// it has arrived, and the next start finds it in the journal.
    pub udp: JoinHandle<()>,
    pub udp_until: CancellationToken,
}
