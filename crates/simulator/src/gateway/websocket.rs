//! Calling by the WebSocket LNS protocol.

use std::sync::Mutex;
use std::sync::PoisonError;
use std::time::Duration;

use gateway_link::lns::{Downlink, FromGateway, Heard, Moment, RadioInfo, RouterConfig, Sent, ToGateway};
use gateway_link::udp::{TxPacket, TxTime};
use lorawan::Modulation;
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::{Gateway, OWN_POWER_DBM, Sending, beaconing, tenths};
use crate::air::Arrival;
use crate::clock;
use crate::device::Emission;
use crate::lns::{Connection, LinkError};
use agent::kit::Entrance;

/// How long it waits before it calls again: longer each time, so that many do not come at once.
const AGAIN_FIRST: Duration = Duration::from_millis(500);
const AGAIN_LAST: Duration = Duration::from_secs(30);
/// How often it asks what time it is.
const TIME_EVERY: Duration = Duration::from_secs(30);
/// The gateway's clock counts in the lower bits; above stands the session.
const SESSION_SHIFT: u32 = 48;
/// Frames that wait for the connection; those beyond are lost, as they are in real ones.
const WAITING: usize = 64;

pub(super) struct Link {
    entrance: Entrance,
    frames: mpsc::Sender<(Emission, Instant, Arrival)>,
    taken: Mutex<Option<mpsc::Receiver<(Emission, Instant, Arrival)>>>,
    session: i64,
}

impl Link {
    pub(super) fn new(entrance: Entrance) -> Self {
        let (frames, taken) = mpsc::channel(WAITING);
        let session = i64::from(rand::random::<u8>() & 0x7f) << SESSION_SHIFT;
        Self { entrance, frames, taken: Mutex::new(Some(taken)), session }
    }
}

impl Gateway {
    pub(super) fn tell(&self, link: &Link, emission: &Emission, end: Instant, arrival: Arrival) {
        let _ = link.frames.try_send((emission.clone(), end, arrival));
    }

    fn xtime(&self, link: &Link, at: Instant) -> i64 {
        link.session | i64::from(self.transmitter.clock_us(at))
    }

    pub(super) async fn run_websocket(&self, link: &Link, sendings: mpsc::Sender<Sending>) {
        let Some(mut frames) = link.taken.lock().unwrap_or_else(PoisonError::into_inner).take() else { return };
        let mut pause = AGAIN_FIRST;
        loop {
            match Connection::open(&link.entrance, self.eui).await {
                Ok(connection) => {
                    pause = AGAIN_FIRST;
                    let why = self.talk(link, connection, &mut frames, &sendings).await;
                    tracing::info!(gateway = self.site.name, "disconnected: {why}");
                }
                Err(why) => tracing::warn!(gateway = self.site.name, "not connected: {why}"),
            }
            tokio::time::sleep(pause.mul_f64(rand::random_range(0.5..1.5))).await;
            pause = (pause * 2).min(AGAIN_LAST);
        }
    }

    /// Talks until the connection ends, and says why it did.
    async fn talk(
        &self,
        link: &Link,
        mut connection: Connection,
        frames: &mut mpsc::Receiver<(Emission, Instant, Arrival)>,
        sendings: &mpsc::Sender<Sending>,
    ) -> LinkError {
        let mut time = tokio::time::interval(TIME_EVERY);
        let mut breaks = self.breaks();
        let mut beacon = beaconing::next(Instant::now());
        loop {
            let said = tokio::select! {
                _ = breaks.tick() => return LinkError::Unexpected("it breaks now and then".into()),
                _ = time.tick() => Some(FromGateway::TimeAsked { txtime: self.xtime(link, Instant::now()) }),
                Some((emission, end, arrival)) = frames.recv() => self.frame(link, &connection.config, &emission, end, arrival),
                () = tokio::time::sleep_until(beacon.hand_over) => {
                    self.beacon(&connection.config, beacon.time_s, sendings).await;
                    beacon = beaconing::next(Instant::now());
                    None
                }
                message = connection.next() => match message {
                    Ok(ToGateway::Send(order)) => self.order(link, &connection.config, &order, sendings).await,
                    Ok(ToGateway::Time(_) | ToGateway::Config(_)) => None,
                    Err(why) => return why,
                },
            };
            if let Some(said) = said
                && let Err(why) = connection.send(&said).await
            {
                return why;
            }
        }
    }

    /// A frame in the protocol's words; nothing if it is on no channel or at no data rate it was given.
    fn frame(
        &self,
        link: &Link,
        config: &RouterConfig,
        emission: &Emission,
        end: Instant,
        arrival: Arrival,
    ) -> Option<FromGateway> {
        let (index, _) = (0u8..16)
            .zip(&config.data_rates)
            .find(|(index, rate)| rate.2 == 0 && config.modulation(*index) == Some(emission.modulation))?;
        config.listens_on_hz().binary_search(&emission.frequency_hz).ok()?;
        let radio = RadioInfo {
            rctx: 0,
            xtime: self.xtime(link, end),
            gpstime: self.transmitter.gps_us(end).unwrap_or(0),
            rssi: arrival.rssi_dbm.round(),
            snr: tenths(arrival.snr_db),
            rxtime: Some(clock::us(end) as f64 / 1e6),
            fts: None,
        };
        let phy_payload = emission.phy_payload.clone();
        Some(FromGateway::Heard(Heard { data_rate: index, frequency_hz: emission.frequency_hz, radio, phy_payload }))
    }

    /// Sends the beacon of a GPS second if it was told to, and the radio is free and has the time.
    async fn beacon(&self, config: &RouterConfig, time_s: u32, sendings: &mpsc::Sender<Sending>) {
        let Some(packet) = beaconing::packet(config, time_s, self.site.place) else { return };
        match self.transmitter.plan(&packet, Instant::now()) {
            Ok(at) => drop(sendings.send(Sending { gateway: self.eui, at_us: clock::us(at), packet }).await),
            Err(why) => tracing::debug!(gateway = self.site.name, "no beacon: {why:?}"),
        }
    }

    /// Plans what it is told to send, and says so; what cannot be sent is not confirmed.
    async fn order(
        &self,
        link: &Link,
        config: &RouterConfig,
        order: &Downlink,
        sendings: &mpsc::Sender<Sending>,
    ) -> Option<FromGateway> {
        let (when, (data_rate, frequency_hz)) = match order.moment {
            Moment::AtOnce { data_rate, frequency_hz } => (TxTime::AtOnce, (data_rate, frequency_hz)),
            Moment::AtGps { gpstime, data_rate, frequency_hz } => {
                (TxTime::GpsMs(gpstime.unsigned_abs() / 1000), (data_rate, frequency_hz))
            }
            Moment::AfterUplink { xtime, rx_delay_s, rx1, rx2 } => {
                let first = (xtime as u32).wrapping_add(u32::from(rx_delay_s) * 1_000_000);
                match (rx1, rx2) {
                    (Some(channel), _) => (TxTime::Clock(first), channel),
                    (None, Some(channel)) => (TxTime::Clock(first.wrapping_add(1_000_000)), channel),
                    (None, None) => return None,
                }
            }
        };
        let modulation = config.modulation(data_rate)?;
        let packet = TxPacket {
            when,
            frequency_hz,
            rf_chain: 0,
            power_dbm: OWN_POWER_DBM,
            modulation,
            inverted_polarity: true,
            deviation_hz: matches!(modulation, Modulation::Fsk { .. }).then_some(25_000),
            no_crc: true,
            no_header: false,
            preamble_symbols: None,
            phy_payload: order.phy_payload.clone(),
        };
        let at = self.transmitter.plan(&packet, Instant::now()).ok()?;
        let _ = sendings.send(Sending { gateway: self.eui, at_us: clock::us(at), packet }).await;
        let gpstime = self.transmitter.gps_us(at).unwrap_or(0);
        Some(FromGateway::Sent(Sent { diid: order.diid, xtime: self.xtime(link, at), gpstime }))
    }
}
