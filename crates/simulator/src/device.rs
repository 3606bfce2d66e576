//! The device side of the MAC (LoRaWAN 1.0.x, class A): join, uplinks, two windows after each, and
//! downlinks opened with the session's keys.

use std::time::Duration;

use lorawan::crypto::{MicKey, PayloadKey, session_keys};
use lorawan::mac::{DownCommand, UpCommand, commands};
use lorawan::region::{JOIN_ACCEPT_DELAY1_S, Plan, Region};
use lorawan::wire::{CfList, DataRepr, DataView, JoinAccept, JoinRequestRepr, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, Modulation, airtime, counter};
use rand::RngExt as _;
use tokio::time::Instant;

/// A window counts as hit when the frame begins this near to its opening: some symbols of the preamble
/// may be lost.
const WINDOW_TOLERANCE: Duration = Duration::from_millis(5);

/// Who a device is.
#[derive(Debug, Clone)]
pub struct Identity {
    pub dev_eui: Eui64,
    pub join_eui: Eui64,
    pub app_key: AesKey,
}

#[derive(Clone)]
struct Session {
    dev_addr: DevAddr,
    nwk: MicKey,
    nwk_payload: PayloadKey,
    app: PayloadKey,
    next_up: u32,
    last_down: Option<u32>,
    rx1_offset: u8,
    rx2_data_rate: u8,
    rx_delay: Duration,
    channels_hz: Vec<u32>,
}

/// One frame on the air.
#[derive(Debug, Clone)]
pub struct Emission {
    pub phy_payload: Vec<u8>,
    pub frequency_hz: u32,
    pub modulation: Modulation,
    pub airtime: Duration,
}

#[derive(Debug, Clone, Copy)]
struct Window {
    opens: Instant,
    frequency_hz: u32,
    modulation: Modulation,
}

/// What a downlink meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Downlink {
    /// The device has joined and has this address.
    Joined(DevAddr),
    /// A data frame.
    Data {
        counter: u32,
        port: Option<u8>,
        payload: Vec<u8>,
        confirmed: bool,
        /// It acknowledges the device's confirmed uplink.
        ack: bool,
        /// MAC commands in its header.
        mac_commands: Vec<DownCommand>,
    },
}

/// FOpts has no more room (TS001 §4.3.1.6).
const MAX_FOPTS: usize = 15;

/// A stand-in device.
pub struct Device {
    identity: Identity,
    plan: &'static Plan,
    data_rate: u8,
    session: Option<Session>,
    /// The last DevNonce, while its answer may still come.
    joining: Option<u16>,
    windows: Vec<Window>,
    owes_ack: bool,
    /// MAC commands for the next uplink's FOpts.
    asks: Vec<u8>,
}

impl Device {
    pub fn new(identity: Identity, region: Region, data_rate: u8) -> Self {
        Self {
            identity,
            plan: region.plan(),
            data_rate,
            session: None,
            joining: None,
            windows: Vec::new(),
            owes_ack: false,
            asks: Vec::new(),
        }
    }

    /// Puts a MAC command into the next uplink, if there is room for it.
    pub fn ask(&mut self, command: UpCommand) {
        let mut asks = self.asks.clone();
        command.emit(&mut asks);
        if asks.len() <= MAX_FOPTS {
            self.asks = asks;
        }
    }

    pub fn joined(&self) -> bool {
        self.session.is_some()
    }

    fn modulation(&self) -> Modulation {
        // DR0 where the wanted one does not exist; every region has it, as SF12 or SF10 at 125 kHz.
        let rate = self.plan.data_rate(self.data_rate).or_else(|| self.plan.data_rate(0));
        rate.map_or(Modulation::Fsk { bit_rate_bps: 50_000 }, |rate| rate.modulation)
    }

    fn emission(&self, phy_payload: Vec<u8>, channels_hz: &[u32]) -> Emission {
        let modulation = self.modulation();
        let frequency_hz = channels_hz[rand::rng().random_range(0..channels_hz.len())];
        let airtime = Duration::from_micros(airtime::uplink_us(modulation, phy_payload.len()));
        Emission { phy_payload, frequency_hz, modulation, airtime }
    }

    /// A join-request with a fresh random DevNonce, as devices before LoRaWAN 1.0.4 do.
    pub fn join_request(&mut self) -> Emission {
        let dev_nonce = rand::random();
        self.joining = Some(dev_nonce);
        let repr = JoinRequestRepr { join_eui: self.identity.join_eui, dev_eui: self.identity.dev_eui, dev_nonce };
        let channels: Vec<u32> = self.plan.join_channels().map(|c| c.frequency_hz).collect();
        self.emission(repr.emit(&MicKey::new(&self.identity.app_key)), &channels)
    }

    /// A data frame; `None` before the join.
    pub fn uplink(&mut self, port: u8, payload: &[u8], confirmed: bool) -> Option<Emission> {
        let session = self.session.as_mut()?;
        let flags = UplinkFlags { ack: std::mem::take(&mut self.owes_ack), ..UplinkFlags::default() };
        let asks = std::mem::take(&mut self.asks);
        let repr = DataRepr::uplink(session.dev_addr, session.next_up, flags, Some((port, payload)));
        let repr = repr.confirmed(confirmed).with_fopts(&asks);
        let frame = repr.emit(&session.nwk, &session.app).ok()?;
        session.next_up += 1;
        let channels = session.channels_hz.clone();
        Some(self.emission(frame, &channels))
    }

    /// Opens the windows that follow an emission which ended at `end`. Gives the time after which
    /// nothing can come any more.
    pub fn listen_after(&mut self, emission: &Emission, end: Instant) -> Instant {
        let joining = self.joining.is_some();
        let second = Duration::from_secs(1);
        let (delay, offset, rx2) = match &self.session {
            Some(session) if !joining => (session.rx_delay, session.rx1_offset, session.rx2_data_rate),
            _ => (Duration::from_secs(u64::from(JOIN_ACCEPT_DELAY1_S)), 0, self.plan.rx2_data_rate),
        };
        let modulation = |rate: Option<u8>| rate.and_then(|r| self.plan.data_rate(r)).map(|r| r.modulation);
        let uplink_rate = self.plan.uplink_data_rate_of(emission.modulation);
        // Until it is told otherwise, a device holds to the dwell time.
        let dwell_time = self.plan.dwell.downlink_ms.is_some();
        let rx1 = modulation(uplink_rate.and_then(|rate| self.plan.rx1_data_rate(rate, offset, dwell_time)));
        let hz = emission.frequency_hz;
        let joined_on = if joining { self.plan.join_channel(hz).map(|c| c.rx1_frequency_hz) } else { None };
        let rx1_hz = joined_on.or_else(|| self.plan.rx1_frequency_hz(hz, uplink_rate?));
        let rx2 = modulation(Some(rx2));
        let window = |opens, frequency_hz, modulation: Option<Modulation>| {
            modulation.map(|modulation| Window { opens, frequency_hz, modulation })
        };
        self.windows = [
            window(end + delay, rx1_hz.unwrap_or(emission.frequency_hz), rx1),
            window(end + delay + second, self.plan.rx2_frequency_hz, rx2),
        ]
        .into_iter()
        .flatten()
        .collect();
        end + delay + second + Duration::from_millis(200)
    }

    /// Whether a frame that begins at `at` would be received.
    pub fn listens(&self, at: Instant, frequency_hz: u32, modulation: Modulation) -> bool {
        self.windows.iter().any(|w| {
            let off = if at > w.opens { at - w.opens } else { w.opens - at };
            off <= WINDOW_TOLERANCE && w.frequency_hz == frequency_hz && w.modulation == modulation
        })
    }

    /// Takes a frame that fell into a window; `None` if it is not for this device.
    pub fn receive(&mut self, phy_payload: &[u8]) -> Option<Downlink> {
        if let Some(dev_nonce) = self.joining
            && let Ok(accept) = JoinAccept::open(phy_payload, &self.identity.app_key)
        {
            self.windows.clear();
            self.joining = None;
            self.session = Some(self.session_of(&accept, dev_nonce));
            return Some(Downlink::Joined(accept.dev_addr));
        }
        let session = self.session.as_mut()?;
        let view = DataView::new_checked(phy_payload).ok()?;
        if view.direction() != lorawan::Direction::Down || view.dev_addr() != session.dev_addr {
            return None;
        }
        let counter = counter::candidates(session.last_down, view.counter_low()).ahead?;
        if !view.verify(&session.nwk, counter) {
            return None;
        }
        session.last_down = Some(counter);
        self.windows.clear();
        self.owes_ack |= view.confirmed();
        let key = if view.fport() == Some(0) { &session.nwk_payload } else { &session.app };
        Some(Downlink::Data {
            counter,
            port: view.fport(),
            payload: view.decrypt(key, counter),
            confirmed: view.confirmed(),
            ack: view.downlink_flags().ack,
            mac_commands: commands(view.fopts()).map_while(Result::ok).map(|placed| placed.command).collect(),
        })
    }

    fn session_of(&self, accept: &JoinAccept, dev_nonce: u16) -> Session {
        let keys = session_keys(&self.identity.app_key, accept.join_nonce, accept.net_id, dev_nonce);
        let mut channels_hz: Vec<u32> = self.plan.uplinks().map(|c| c.frequency_hz).collect();
        match &accept.cf_list {
            Some(CfList::Frequencies(added)) if self.plan.dynamic() => {
                channels_hz.extend(added.iter().filter(|hz| **hz > 0));
            }
            Some(list) => {
                if let Some(on) = self.plan.after_cf_list(list) {
                    channels_hz =
                        self.plan.uplinks().filter(|c| on.contains(c.index)).map(|c| c.frequency_hz).collect();
                }
            }
            None => {}
        }
        Session {
            dev_addr: accept.dev_addr,
            nwk: MicKey::new(&keys.nwk_s_key),
            nwk_payload: PayloadKey::new(&keys.nwk_s_key),
            app: PayloadKey::new(&keys.app_s_key),
            next_up: 0,
            last_down: None,
            rx1_offset: accept.rx1_data_rate_offset,
            rx2_data_rate: accept.rx2_data_rate,
            // TS001 §5.7: 0 means 1.
            rx_delay: Duration::from_secs(u64::from(accept.rx_delay_s.max(1))),
            channels_hz,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lorawan::NetId;
    use lorawan::region::ChannelSet;
    use lorawan::wire::DownlinkFlags;

    fn device() -> Device {
        let identity = Identity { dev_eui: Eui64(1), join_eui: Eui64(2), app_key: AesKey([3; 16]) };
        Device::new(identity, Region::Eu868, 5)
    }

    fn accept() -> JoinAccept {
        JoinAccept {
            join_nonce: 1,
            net_id: NetId::new(0),
            dev_addr: DevAddr(5),
            opt_neg: false,
            rx1_data_rate_offset: 0,
            rx2_data_rate: 0,
            rx_delay_s: 1,
            cf_list: Some(Region::Eu868.plan().cf_list(ChannelSet::EMPTY)),
        }
    }

    #[tokio::test]
    async fn windows_open_when_the_standard_says() {
        let mut device = device();
        let emission = device.join_request();
        let end = Instant::now();
        device.listen_after(&emission, end);
        let after = |ms| end + Duration::from_millis(ms);
        assert!(device.listens(after(5000), emission.frequency_hz, emission.modulation));
        assert!(!device.listens(after(5010), emission.frequency_hz, emission.modulation));
        assert!(!device.listens(after(5000), emission.frequency_hz + 200_000, emission.modulation));
        assert!(device.listens(after(6000), 869_525_000, Modulation::lora(12, 125).unwrap()));
        assert!(!device.listens(after(1000), emission.frequency_hz, emission.modulation));
    }

    #[tokio::test]
    async fn a_joined_device_reads_its_downlinks_once() {
        let mut device = device();
        assert!(device.uplink(1, &[1], false).is_none());
        device.join_request();
        assert_eq!(device.receive(&accept().seal(&AesKey([9; 16]))), None, "another device's");
        let nonce = device.joining.unwrap();
        assert_eq!(device.receive(&accept().seal(&AesKey([3; 16]))), Some(Downlink::Joined(DevAddr(5))));
        let keys = session_keys(&AesKey([3; 16]), 1, NetId::new(0), nonce);
        let frame = DataRepr::downlink(DevAddr(5), 0, DownlinkFlags::default(), Some((10, &[40])))
            .confirmed(true)
            .emit(&MicKey::new(&keys.nwk_s_key), &PayloadKey::new(&keys.app_s_key))
            .unwrap();
        let Some(Downlink::Data { payload, confirmed: true, .. }) = device.receive(&frame) else { panic!("data") };
        assert_eq!(payload, [40]);
        assert_eq!(device.receive(&frame), None, "a counter counts once");
        let uplink = device.uplink(1, &[1], false).unwrap();
        assert!(DataView::new_checked(&uplink.phy_payload).unwrap().uplink_flags().ack);
    }
}
