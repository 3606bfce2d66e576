//! The ways between gateways and the network.

pub(crate) mod admission;
mod awaited;
mod connection;
pub(crate) mod cups;
mod frames;
pub(crate) mod lns;
pub(crate) mod mqtt;
pub(crate) mod udp;

pub(crate) use frames::packet;

use std::net::IpAddr;
use std::sync::Arc;

use engine::{AT_ONCE_LATEST_US, Transmission, TxFailure, When};

use crate::clock;
use crate::gateways::registry::{GatewayRegistry, WayDown};
use crate::startup::config::Options;

/// The service's addresses for gateways.
pub struct PublicEndpoints {
    /// The name or address they reach it by.
    pub name: String,
    /// The TCP port for TLS.
    pub tls_port: u16,
    pub udp_port: u16,
    /// The broker, without password.
    pub mqtt: Option<String>,
}

impl PublicEndpoints {
    pub fn new(options: &Options, tls_port: u16, udp_port: u16) -> Self {
        let name = options.gateway_names.first().cloned().unwrap_or_else(|| "localhost".into());
        let without_user = |url: &String| match (url.split_once("://"), url.rsplit_once('@')) {
            (Some((scheme, _)), Some((_, place))) => format!("{scheme}://{place}"),
            _ => url.clone(),
        };
        Self { name, tls_port, udp_port, mqtt: options.mqtt.as_ref().map(without_user) }
    }

    /// The name as it stands in an address.
    fn host(&self) -> String {
        if self.name.contains(':') { format!("[{}]", self.name) } else { self.name.clone() }
    }

    /// Where WebSocket LNS begins.
    pub fn lns(&self) -> String {
        format!("wss://{}:{}", self.host(), self.tls_port)
    }

    /// Where CUPS is asked.
    pub fn cups(&self) -> String {
        format!("https://{}:{}", self.host(), self.tls_port)
    }

    /// Whether it is reached from this machine alone.
    pub fn only_here(&self) -> bool {
        self.name == "localhost" || self.name.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
    }
}

/// The ways down of all protocols.
pub(crate) struct Links {
    pub presence: Arc<GatewayRegistry>,
    pub udp: Arc<udp::Udp>,
    pub lns: Arc<lns::Lns>,
    pub mqtt: Option<Arc<mqtt::Mqtt>>,
}

impl Links {
    /// Hands a frame to its gateway.
    pub(crate) async fn send(&self, transmission: &Transmission) -> Result<(), TxFailure> {
        // A device that always listens hears it a little later as well.
        let grace_us = if transmission.when == When::AtOnce { AT_ONCE_LATEST_US } else { 0 };
        if clock::now() >= transmission.at.plus_us(grace_us) {
            return Err(TxFailure::NotHandedOver);
        }
        match self.presence.way_down(transmission.gateway).ok_or(TxFailure::Unreachable)? {
            WayDown::Udp(to) => self.udp.send(transmission, to).await,
            WayDown::Lns => self.lns.send(transmission),
            WayDown::Mqtt => self.mqtt.as_ref().ok_or(TxFailure::Unreachable)?.send(transmission),
        }
    }
}
