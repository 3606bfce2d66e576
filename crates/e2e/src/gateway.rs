//! A gateway driven frame by frame.

use std::net::SocketAddr;
use std::time::Duration;

use gateway_link::udp::{Datagram, PushData, RxPacket, TxAckError, TxPacket};
use lorawan::{Eui64, Modulation};
use simulator::device::Emission;
use tokio::net::UdpSocket;

use crate::wait::PATIENCE;

/// A socket that calls itself a gateway.
pub struct Gateway {
    /// Its EUI.
    pub eui: Eui64,
    socket: UdpSocket,
    next_token: u16,
}

impl Gateway {
    /// Opens a socket towards a service.
    pub async fn towards(service: SocketAddr, eui: Eui64) -> Self {
        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("a socket");
        socket.connect(service).await.expect("loopback");
        Self { eui, socket, next_token: 1 }
    }

    fn token(&mut self) -> u16 {
        self.next_token = self.next_token.wrapping_add(1);
        self.next_token
    }

    /// Sends any bytes.
    pub async fn send(&self, bytes: &[u8]) {
        // Right after a kill the port may be closed, which shows up as an error of the next call.
        let _ = self.socket.send(bytes).await;
    }

    /// The next datagram.
    pub async fn receive(&self, patience: Duration) -> Option<Datagram> {
        let mut buffer = vec![0; 4096];
        let received = async {
            loop {
                if let Ok(len) = self.socket.recv(&mut buffer).await {
                    return Datagram::parse(&buffer[..len]).expect("the service speaks the protocol");
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        };
        tokio::time::timeout(patience, received).await.ok()
    }

    /// Opens the way down, and waits until it is.
    pub async fn pull(&mut self) {
        let token = self.token();
        for _ in 0..100 {
            self.send(&Datagram::PullData { token, gateway: self.eui }.emit()).await;
            while let Some(datagram) = self.receive(Duration::from_millis(500)).await {
                if datagram == (Datagram::PullAck { token }) {
                    return;
                }
            }
        }
        panic!("PULL_DATA was not acknowledged");
    }

    /// Forwards a frame and waits for nothing; gives the token it will be acknowledged with.
    pub async fn throw(&mut self, emission: &Emission, clock_us: u32) -> u16 {
        let Emission { frequency_hz, modulation, .. } = *emission;
        let phy_payload = emission.phy_payload.clone();
        let frame = RxPacket::lora(clock_us, frequency_hz, modulation, (-80.0, 9.0), phy_payload);
        let token = self.token();
        let push = PushData { frames: vec![frame], ..PushData::default() };
        self.send(&Datagram::PushData { token, gateway: self.eui, push }.emit()).await;
        token
    }

    /// Forwards a frame, and waits until it is acknowledged. Downlinks that come first are given back.
    pub async fn push(&mut self, emission: &Emission, clock_us: u32) -> Vec<(u16, TxPacket)> {
        let token = self.throw(emission, clock_us).await;
        let mut early = Vec::new();
        loop {
            match self.receive(PATIENCE).await.expect("PUSH_DATA is acknowledged") {
                Datagram::PushAck { token: acknowledged } if acknowledged == token => return early,
                Datagram::PullResp { token, packet } => early.push((token, packet)),
                _ => {}
            }
        }
    }

    /// The next frame to send, if one comes.
    pub async fn downlink(&self, patience: Duration) -> Option<(u16, TxPacket)> {
        loop {
            match self.receive(patience).await? {
                Datagram::PullResp { token, packet } => return Some((token, packet)),
                _ => continue,
            }
        }
    }

    /// Reports on a frame.
    pub async fn report(&self, token: u16, result: Result<(), TxAckError>) {
        self.send(&Datagram::TxAck { token, gateway: self.eui, result }.emit()).await;
    }
}

/// A frame as if it had been sent at SF7 on the first channel.
pub fn emission(phy_payload: Vec<u8>) -> Emission {
    let modulation = Modulation::lora(7, 125).expect("a data rate");
    Emission { phy_payload, frequency_hz: 868_100_000, modulation, airtime_us: 0, eirp_dbm: 14.0 }
}
