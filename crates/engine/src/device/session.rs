//! Sessions: their keys in the form their version needs, and their counters.

use lorawan::crypto::{Binding, CounterOf, Mic, MicKey, PayloadKey, SessionKeys11};
use lorawan::wire::{DataRepr, DataView, FPort, FrameError, NetworkKeys11};
use lorawan::{DevAddr, Direction};

use crate::device::settings::Settings;
use crate::time::Timestamp;

/// Frame counters of a session and other values that change with each frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counters {
    /// Last counter accepted from the device; none before the first uplink.
    pub up: Option<u32>,
    /// MIC of that frame.
    pub last_mic: Mic,
    /// Next counter towards the device; in 1.1 that of frames without application payload (NFCntDown).
    pub next_down: u32,
    /// Next AFCntDown of 1.1.
    pub next_app_down: u32,
    /// Counter of the last confirmed downlink, which an acknowledgement of 1.1 is bound to.
    pub confirmed_down: Option<u32>,
    /// Last RJcount0 of 1.1.
    pub rj_count_0: Option<u16>,
}

/// A session between device and network.
#[derive(Debug, Clone, PartialEq)]
pub struct Session {
    /// The address given at the join, or at registration (ABP).
    pub dev_addr: DevAddr,
    /// The session keys; in 1.0.x the three of the network are one.
    pub keys: SessionKeys11,
    /// Whether frames are those of 1.1.
    pub speaks_1_1: bool,
    /// Its counters.
    pub counters: Counters,
    /// What the device is known to be set to.
    pub settings: Settings,
    /// When it was agreed upon.
    pub joined_at: Timestamp,
}

/// The network's keys, made ready. They live on the stack for as long as one frame is looked at, and the
/// common ones should not cost an allocation there.
#[allow(clippy::large_enum_variant)]
pub(crate) enum NetworkKeys {
    V1_0(MicKey),
    V1_1(Box<NetworkKeys11>),
}

/// Downlinks after the one that a device acknowledges, at most: it cannot have missed more and still be answered.
const MOST_UNHEARD: u32 = 16;

/// How an uplink was sent, as 1.1 binds it into the MIC.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SentOn {
    pub(crate) data_rate: u8,
    pub(crate) channel: u8,
}

impl Session {
    pub(crate) fn network_keys(&self) -> NetworkKeys {
        let keys = &self.keys;
        if self.speaks_1_1 {
            let ready = NetworkKeys11::new(&keys.f_nwk_s_int_key, &keys.s_nwk_s_int_key, &keys.nwk_s_enc_key);
            NetworkKeys::V1_1(Box::new(ready))
        } else {
            NetworkKeys::V1_0(MicKey::new(&keys.f_nwk_s_int_key))
        }
    }

    /// Whether an uplink's MIC was made in this session with this counter, in one of these ways.
    pub(crate) fn made(&self, keys: &NetworkKeys, view: &DataView<'_>, counter: u32, ways: &[SentOn]) -> bool {
        match keys {
            NetworkKeys::V1_0(key) => view.verify(key, counter),
            NetworkKeys::V1_1(keys) => {
                self.heard_by_device(view).any(|conf_f_cnt| bound_to(conf_f_cnt, keys, (view, counter), ways))
            }
        }
    }

    /// Whether an uplink of 1.1 acknowledges an earlier downlink than one of these, as its MIC tells.
    pub(crate) fn acknowledges_earlier(
        &self,
        keys: &NetworkKeys,
        (view, counter): (&DataView<'_>, u32),
        ways: &[SentOn],
        mut downlinks: std::ops::RangeInclusive<u32>,
    ) -> bool {
        let NetworkKeys::V1_1(keys) = keys else { return false };
        !downlinks.any(|down| bound_to(down as u16, keys, (view, counter), ways))
    }

    /// The confirmed downlinks that an uplink may acknowledge, by the 16 bits of their counters, latest first. The
    /// device means the last one that it has heard, and some after that may have been lost (TS001-1.1 §4.4.1,
    /// ConfFCnt).
    fn heard_by_device(&self, view: &DataView<'_>) -> impl Iterator<Item = u16> + use<> {
        let acknowledges = view.uplink_flags().ack;
        let last = self.counters.confirmed_down.filter(|_| acknowledges).unwrap_or(0);
        let unheard = if acknowledges { MOST_UNHEARD.min(last) } else { 0 };
        // 16 bits are sent, and 16 bits are bound.
        (0..=unheard).map(move |unheard| (last - unheard) as u16)
    }

    /// Whether an uplink repeats the one with this counter. In 1.1 half of the MIC changes with data rate and
    /// channel (TS001-1.1 §4.4.1), which a device may change between two sendings; the other half stays.
    pub(crate) fn repeats(&self, keys: &NetworkKeys, view: &DataView<'_>, counter: u32) -> bool {
        let (mic, last) = (view.mic(), self.counters.last_mic);
        match keys {
            NetworkKeys::V1_0(key) => mic == last && view.verify(key, counter),
            NetworkKeys::V1_1(keys) => {
                mic[2..] == last[2..] && view.uplink_mic_1_1(keys, counter, Binding::default()).forwarding
            }
        }
    }

    /// An uplink's payload and MAC commands in the clear.
    pub(crate) fn open(&self, keys: &NetworkKeys, view: &DataView<'_>, counter: u32) -> (Vec<u8>, Vec<u8>) {
        let port_0 = view.fport() == Some(0);
        let payload_key = match keys {
            NetworkKeys::V1_1(keys) if port_0 => keys.nwk_s_enc.clone(),
            NetworkKeys::V1_0(_) if port_0 => PayloadKey::new(&self.keys.nwk_s_enc_key),
            _ => PayloadKey::new(&self.keys.app_s_key),
        };
        let payload = if view.fport().is_some() { view.decrypt(&payload_key, counter) } else { Vec::new() };
        // TS001 §4.3.1.6: commands stand in FOpts or, on FPort 0, in the payload, never in both.
        let commands = match keys {
            _ if port_0 => payload.clone(),
            NetworkKeys::V1_1(keys) => view.decrypt_fopts(&keys.nwk_s_enc, counter),
            NetworkKeys::V1_0(_) => view.fopts().to_vec(),
        };
        (payload, commands)
    }

    fn counter_of(&self, port: Option<FPort>) -> CounterOf {
        if self.speaks_1_1 { CounterOf::frame(Direction::Down, port) } else { CounterOf::Network }
    }

    /// The counter that the next downlink with this port will have. `None` once it has run out: it ends
    /// the session's downlinks, for it must never wrap (TS001 §4.3.1.5).
    pub(crate) fn next_down(&self, port: Option<FPort>) -> Option<u32> {
        let next = match self.counter_of(port) {
            CounterOf::Network => self.counters.next_down,
            CounterOf::Application => self.counters.next_app_down,
        };
        (next < u32::MAX).then_some(next)
    }

    /// Writes a downlink and spends its counter.
    pub(crate) fn seal(&mut self, repr: &DataRepr<'_>) -> Result<Vec<u8>, FrameError> {
        let port = repr.payload.map(|(port, _)| port);
        let app = PayloadKey::new(if port == Some(0) { &self.keys.nwk_s_enc_key } else { &self.keys.app_s_key });
        let frame = match self.network_keys() {
            NetworkKeys::V1_0(key) => repr.emit(&key, &app)?,
            NetworkKeys::V1_1(keys) => {
                let conf_f_cnt = self.counters.up.map_or(0, |up| up as u16);
                repr.emit_1_1(&keys, &app, Binding { conf_f_cnt, ..Binding::default() })?
            }
        };
        match self.counter_of(port) {
            CounterOf::Network => self.counters.next_down = repr.counter + 1,
            CounterOf::Application => self.counters.next_app_down = repr.counter + 1,
        }
        if repr.confirmed {
            self.counters.confirmed_down = Some(repr.counter);
        }
        Ok(frame)
    }
}

/// Whether the MIC of an uplink of 1.1 is bound to this acknowledged counter, and to one of these ways.
fn bound_to(conf_f_cnt: u16, keys: &NetworkKeys11, (view, counter): (&DataView<'_>, u32), ways: &[SentOn]) -> bool {
    let binding = |way: &SentOn| Binding { conf_f_cnt, tx_dr: way.data_rate, tx_ch: way.channel };
    ways.iter().any(|way| view.verify_1_1(keys, counter, binding(way)))
}
